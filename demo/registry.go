package main

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"syscall"

	"northstake/lab"
)

// registry starts a registry with the images of the ground, or finds it running, and returns its
// address.
func (d *demo) registry(ctx context.Context, l *lab.Lab) (string, error) {
	end := progress("a registry of images")
	if pid, address := d.registryRuns(); pid != 0 {
		if r, err := http.Get("http://" + address + "/v2/"); err == nil {
			r.Body.Close()
			end("kept at " + address)
			return address, nil
		}
		d.endRegistry()
	}
	_, address := d.registryWas() // images are named by it
	if address == "" {
		var err error
		if address, err = freeAt(l.Here(), 5000); err != nil {
			return "", err
		}
	}
	r, err := lab.StartRegistry(ctx, d.path("registry"), address)
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(d.path("registry.pid"), []byte(fmt.Sprintf("%d %s", r.Process.Pid, address)), 0o644); err != nil {
		r.Close()
		return "", err
	}
	servers, err := lab.WebServers(ctx, os.Stdout)
	if err != nil {
		return "", err
	}
	system, err := lab.RootOf(ctx, lab.Debian, os.Stdout)
	if err != nil {
		return "", err
	}
	path := []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}
	for _, i := range []struct {
		name, tag, file string
		lab.Image
	}{
		{"web", "1", servers, lab.Image{Env: path}},
		// Its first process starts what is to start, and looks after processes that lose their
		// parent, as an init does.
		{"system", "12", system, lab.Image{Env: path, Command: []string{"/bin/sh", "-c", "trap 'exit 0' TERM; for s in /etc/rc3.d/S*; do \"$s\" start; done >/dev/null 2>&1; while :; do sleep 1 & wait; done"}}},
	} {
		if i.Layer, err = os.ReadFile(i.file); err != nil {
			return "", err
		}
		if err := lab.Push(ctx, address, i.name, i.tag, i.Image); err != nil {
			return "", err
		}
	}
	end("at " + address + ", with two images")
	return address, nil
}

// registryWas is the process and the address of the registry when it was last started.
func (d *demo) registryWas() (pid int, address string) {
	b, err := os.ReadFile(d.path("registry.pid"))
	if err != nil {
		return 0, ""
	}
	if _, err := fmt.Sscanf(string(b), "%d %s", &pid, &address); err != nil {
		return 0, ""
	}
	return pid, address
}

// registryRuns is the process and the address of the registry, when it runs.
func (d *demo) registryRuns() (pid int, address string) {
	pid, address = d.registryWas()
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !bytes.Contains(line, []byte(d.path("registry"))) {
		return 0, ""
	}
	return pid, address
}

func (d *demo) endRegistry() {
	if pid, _ := d.registryRuns(); pid != 0 {
		syscall.Kill(pid, syscall.SIGKILL)
	}
}

// freeAt is an address with the first port from first on that nobody listens on.
func freeAt(at string, first int) (string, error) {
	for port := first; port < first+50; port++ {
		address := fmt.Sprintf("%s:%d", at, port)
		if l, err := net.Listen("tcp", address); err == nil {
			l.Close()
			return address, nil
		}
	}
	return "", fmt.Errorf("ports %d to %d of %s are all taken", first, first+49, at)
}
