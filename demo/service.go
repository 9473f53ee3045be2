package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"
)

// service starts northstaked, or finds it running.
func (d *demo) service(ctx context.Context, database string) (string, error) {
	end := progress("the service")
	if address, ok := d.serving(); ok {
		end("kept at " + address)
		return address, nil
	}
	port, err := freePort(7311)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(d.path("service"), 0o700); err != nil {
		return "", err
	}
	log, err := os.OpenFile(d.path("service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return "", err
	}
	defer log.Close()
	if err := os.Chown(d.path("service"), d.uid, d.gid); err != nil {
		return "", err
	}
	if err := copyRods(d.bin("rods"), d.path("rods")); err != nil {
		return "", err
	}
	program := d.path("northstaked")
	if err := copyFile(d.bin("northstaked"), program, 0o755); err != nil {
		return "", err
	}
	address := fmt.Sprintf("127.0.0.1:%d", port)
	cmd := exec.Command(program, "--listen", address, "--state", d.path("service"), "--rods", d.path("rods"))
	cmd.Env = []string{"NORTHSTAKE_DATABASE=" + database, "PATH=/usr/bin:/bin", "HOME=/"}
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if os.Geteuid() == 0 && d.uid != 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(d.uid), Gid: uint32(d.gid)}
	}
	if err := cmd.Start(); err != nil {
		return "", err
	}
	ended := make(chan struct{})
	go func() {
		cmd.Wait()
		close(ended)
	}()
	if err := os.WriteFile(d.path("service.pid"), []byte(fmt.Sprintf("%d %s", cmd.Process.Pid, address)), 0o644); err != nil {
		return "", err
	}
	runs := func() bool {
		select {
		case <-ended: // then another answers there, or none
			return false
		default:
			return true
		}
	}
	for i := 0; i < 300 && runs(); i++ {
		if ready(address) && runs() {
			end("at http://" + address)
			return "http://" + address, nil
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		time.Sleep(100 * time.Millisecond)
	}
	tail, err := os.ReadFile(d.path("service.log"))
	if err != nil {
		return "", err
	}
	return "", fmt.Errorf("the service does not answer at %s; the end of its log:\n%s", address, tail[max(0, len(tail)-2000):])
}

func ready(address string) bool {
	client := http.Client{Timeout: time.Second}
	res, err := client.Get("http://" + address + "/readyz")
	if err != nil {
		return false
	}
	defer res.Body.Close()
	return res.StatusCode == http.StatusOK
}

// running is the process and address of the service, when it runs.
func (d *demo) running() (pid int, address string) {
	b, err := os.ReadFile(d.path("service.pid"))
	if err != nil {
		return 0, ""
	}
	if _, err := fmt.Sscanf(string(b), "%d %s", &pid, &address); err != nil {
		return 0, ""
	}
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !bytes.Contains(line, []byte(d.path("northstaked"))) {
		return 0, ""
	}
	return pid, address
}

// serving finds a running service, unless it is of another build than bin has.
func (d *demo) serving() (string, bool) {
	pid, address := d.running()
	if pid == 0 || !ready(address) {
		return "", false
	}
	if same, err := sameFile(d.bin("northstaked"), d.path("northstaked")); err != nil || !same {
		d.endService()
		return "", false
	}
	return "http://" + address, true
}

func (d *demo) endService() {
	pid, _ := d.running()
	if pid == 0 {
		return
	}
	syscall.Kill(pid, syscall.SIGTERM)
	for range 150 {
		if now, _ := d.running(); now == 0 {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	syscall.Kill(pid, syscall.SIGKILL)
}

// freePort is the first port from first on that nobody listens on.
func freePort(first int) (int, error) {
	for port := first; port < first+50; port++ {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			l.Close()
			if port != first {
				fmt.Printf("  port %d is taken; using %d\n", first, port)
			}
			return port, nil
		}
	}
	return 0, fmt.Errorf("ports %d to %d of 127.0.0.1 are all taken", first, first+49)
}

func copyRods(from, to string) error {
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	list, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, e := range list {
		if err := copyFile(filepath.Join(from, e.Name()), filepath.Join(to, e.Name()), 0o755); err != nil {
			return err
		}
	}
	return nil
}

func sameFile(a, b string) (bool, error) {
	x, err := os.ReadFile(a)
	if err != nil {
		return false, err
	}
	y, err := os.ReadFile(b)
	return bytes.Equal(x, y), err
}

func copyFile(from, to string, mode os.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	os.Remove(to) // a program that runs cannot be written over
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if e := out.Close(); err == nil {
		err = e
	}
	return err
}
