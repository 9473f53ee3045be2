package stage

import (
	"archive/tar"
	"bytes"
	"fmt"
	"net"
	"os"
	"testing"

	"northstake/lab"
)

// Registry starts a registry of images, which hosts reach without TLS, and returns its address.
func Registry(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", Lab().Here()+":0")
	if err != nil {
		t.Fatal(err)
	}
	addr := l.Addr().String()
	l.Close()
	r, err := lab.StartRegistry(t.Context(), t.TempDir(), addr)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Close)
	return addr
}

// Pushed puts an image into a registry: a static shell with its tools, some files, and what it
// starts with.
func Pushed(t *testing.T, registry, name, tag string, files map[string]string, command ...string) {
	t.Helper()
	PushedWith(t, registry, name, tag, nil, files, command...)
}

// PushedWith is pushed of an image that keeps some paths in volumes.
func PushedWith(t *testing.T, registry, name, tag string, volumes map[string]struct{}, files map[string]string, command ...string) {
	t.Helper()
	busybox, err := os.ReadFile("/bin/busybox")
	if err != nil {
		t.Fatalf("%v; install Debian's busybox-static", err)
	}
	var layer bytes.Buffer
	w := tar.NewWriter(&layer)
	put := func(h tar.Header, b []byte) {
		h.Size = int64(len(b))
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		w.Write(b)
	}
	put(tar.Header{Name: "bin/busybox", Mode: 0o755}, busybox)
	for _, tool := range []string{"sh", "httpd", "test", "cat", "sleep", "env"} {
		put(tar.Header{Name: "bin/" + tool, Typeflag: tar.TypeSymlink, Linkname: "busybox", Mode: 0o777}, nil)
	}
	for name, text := range files {
		put(tar.Header{Name: name, Mode: 0o644}, []byte(text))
	}
	w.Close()
	image := lab.Image{Layer: layer.Bytes(), Command: command, Env: []string{"PATH=/bin", "TIDE=" + tag}, Labels: map[string]string{"office": "north"}, StopSignal: "SIGKILL", Volumes: volumes}
	if err := lab.Push(t.Context(), registry, name, tag, image); err != nil {
		t.Fatal(err)
	}
}

// PushedServers puts an image of web servers into a registry, and returns its name.
func PushedServers(t *testing.T, registry, tag string) string {
	t.Helper()
	file, err := lab.WebServers(t.Context(), os.Stderr)
	if err != nil {
		t.Fatal(err)
	}
	layer, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := lab.Push(t.Context(), registry, "web", tag, lab.Image{Layer: layer, Env: []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}, Labels: map[string]string{"tag": tag}}); err != nil {
		t.Fatal(err)
	}
	return registry + "/web:" + tag
}

// EngineKit declares a container engine that fetches from a registry without TLS.
func EngineKit(registry string) string {
	return "[kit.base]\npackages = [\"podman\", \"netavark\", \"iptables\"]\n[kit.base.service]\n\"podman.socket\" = { running = true, at_boot = true }\n" +
		fmt.Sprintf("[kit.base.file.\"/etc/containers/registries.conf.d/lab.conf\"]\ntext = \"[[registry]]\\nlocation = \\\"%s\\\"\\ninsecure = true\\n\"\n", registry)
}
