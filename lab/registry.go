package lab

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// webServers makes the root file system of an image, and no host.
var webServers = Family{name: "web", script: "web.sh", words: "web servers"}

// WebServers is the tar file of an image's root file system that has nginx, the Apache HTTP
// server and Caddy, made once for each machine.
func WebServers(ctx context.Context, log io.Writer) (string, error) {
	return webServers.archive(ctx, log)
}

// RootOf is the tar file of the root file system of a family's hosts.
func RootOf(ctx context.Context, f Family, log io.Writer) (string, error) { return f.archive(ctx, log) }

// Registry is a registry of images, Debian's docker-registry, which speaks no TLS.
type Registry struct {
	Address string // host and port
	Process *os.Process
}

// StartRegistry starts a registry that keeps its images below a directory, and waits until it
// answers. It goes on when the caller ends, until Close.
func StartRegistry(ctx context.Context, dir, address string) (*Registry, error) {
	failed := func(err error) (*Registry, error) {
		return nil, fmt.Errorf("start a registry of images at %s: %w", address, err)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return failed(err)
	}
	config := filepath.Join(dir, "registry.yml")
	text := fmt.Sprintf("version: 0.1\nlog:\n  level: error\nstorage:\n  filesystem:\n    rootdirectory: %s\nhttp:\n  addr: %s\n", filepath.Join(dir, "images"), address)
	if err := os.WriteFile(config, []byte(text), 0o644); err != nil {
		return failed(err)
	}
	log, err := os.Create(filepath.Join(dir, "registry.log"))
	if err != nil {
		return failed(err)
	}
	defer log.Close()
	cmd := exec.Command("docker-registry", "serve", config)
	cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = log, log, &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return failed(err)
	}
	r := &Registry{address, cmd.Process}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for range 200 {
		if answer, err := http.Get("http://" + address + "/v2/"); err == nil {
			answer.Body.Close()
			return r, nil
		}
		select {
		case err := <-ended:
			said, _ := os.ReadFile(log.Name())
			return failed(fmt.Errorf("it ended (%v): %s", err, tail(said, 1000)))
		case <-ctx.Done():
			r.Process.Kill()
			return failed(ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
	r.Process.Kill()
	return failed(fmt.Errorf("it does not answer"))
}

// Close ends the registry.
func (r *Registry) Close() { r.Process.Kill() }

// Image is what is put into a registry: one layer, a tar file, and what is set with it.
type Image struct {
	Layer        []byte
	Architecture string // amd64 where it is ""
	Command      []string
	Env          []string
	Labels       map[string]string
	StopSignal   string
	Volumes      map[string]struct{} // paths that its containers keep in volumes
}

// Push puts an image into a registry, by the registry's HTTP API.
func Push(ctx context.Context, registry, name, tag string, image Image) error {
	failed := func(err error) error {
		return fmt.Errorf("put image %s:%s into registry %s: %w", name, tag, registry, err)
	}
	digest := func(b []byte) string { return fmt.Sprintf("sha256:%x", sha256.Sum256(b)) }
	if image.Architecture == "" {
		image.Architecture = "amd64"
	}
	config, err := json.Marshal(map[string]any{"architecture": image.Architecture, "os": "linux",
		"config": map[string]any{"Cmd": image.Command, "Env": image.Env, "Labels": image.Labels, "StopSignal": image.StopSignal, "Volumes": image.Volumes},
		"rootfs": map[string]any{"type": "layers", "diff_ids": []string{digest(image.Layer)}}})
	if err != nil {
		return failed(err)
	}
	send := func(method, url, typ string, b []byte) (*http.Response, error) {
		req, err := http.NewRequestWithContext(ctx, method, url, bytes.NewReader(b))
		if err != nil {
			return nil, err
		}
		req.Header.Set("Content-Type", typ)
		r, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil, err
		}
		defer r.Body.Close()
		if body, _ := io.ReadAll(r.Body); r.StatusCode/100 != 2 {
			return nil, fmt.Errorf("%s %s: %s: %s", method, url, r.Status, body)
		}
		return r, nil
	}
	put := func(typ string, b []byte) (map[string]any, error) {
		r, err := send(http.MethodPost, "http://"+registry+"/v2/"+name+"/blobs/uploads/", "", nil)
		if err != nil {
			return nil, err
		}
		at, sep := r.Header.Get("Location"), "?"
		if strings.Contains(at, "?") {
			sep = "&"
		}
		_, err = send(http.MethodPut, at+sep+"digest="+digest(b), "application/octet-stream", b)
		return map[string]any{"mediaType": typ, "size": len(b), "digest": digest(b)}, err
	}
	about, err := put("application/vnd.docker.container.image.v1+json", config)
	if err != nil {
		return failed(err)
	}
	layer, err := put("application/vnd.docker.image.rootfs.diff.tar", image.Layer)
	if err != nil {
		return failed(err)
	}
	const manifest = "application/vnd.docker.distribution.manifest.v2+json"
	text, err := json.Marshal(map[string]any{"schemaVersion": 2, "mediaType": manifest, "config": about, "layers": []any{layer}})
	if err != nil {
		return failed(err)
	}
	if _, err := send(http.MethodPut, "http://"+registry+"/v2/"+name+"/manifests/"+tag, manifest, text); err != nil {
		return failed(err)
	}
	return nil
}
