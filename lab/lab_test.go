package lab

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"
)

const testHome = "/var/tmp/northstake-labtest"

// begin opens the tests' lab, with one host.
func begin(ctx context.Context, t *testing.T) *Lab {
	t.Helper()
	l, err := Open(ctx, testHome, os.Stderr)
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Ensure(ctx, Debian, "quay1", 1); err != nil {
		t.Fatal(err)
	}
	return l
}

// A host is a real system: systemd runs it, the login user is there, and it
// keeps its address over a restart. A lab whose engine and hosts were killed is
// cleared, and made anew at the same addresses.
func TestHostIsARealSystem(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), 8*time.Minute)
	defer cancel()
	l := begin(ctx, t)
	defer func() {
		if err := l.Close(ctx); err != nil {
			t.Error(err)
		}
		if err := Clean(ctx, testHome, os.Stderr); err != nil {
			t.Error(err)
		}
		if left := monitors(testHome); len(left) > 0 {
			t.Errorf("monitors left behind: %v", left)
		}
	}()
	if out, err := l.Shell(ctx, "quay1", "cat /proc/1/comm; id -un keeper; apt-cache policy nginx | grep Candidate"); err != nil || len(out) < 20 {
		t.Fatalf("%q, %v", out, err)
	}
	if err := l.Restart(ctx, "quay1"); err != nil {
		t.Fatal(err)
	}
	if err := l.WaitSSH(ctx, 1); err != nil {
		t.Fatal(err)
	}
	again, err := Open(ctx, testHome, os.Stderr)
	if err != nil {
		t.Fatal(err)
	}
	if names, err := again.List(ctx); err != nil || len(names) != 1 || names[0] != "quay1" {
		t.Fatalf("a second opening finds %v, %v", names, err)
	}
	again.Detach()

	address := l.Address(1)
	killLab(ctx, t, l)
	if _, err := net.InterfaceByName(bridgeOf(testHome)); err != nil {
		t.Errorf("the bridge went with its lab, and what follows shows nothing: %v", err)
	}
	if err := Clean(ctx, testHome, os.Stderr); err != nil {
		t.Fatal(err)
	}
	if _, err := net.InterfaceByName(bridgeOf(testHome)); err == nil {
		t.Error("the bridge of a killed lab is still there")
	}
	l = begin(ctx, t)
	if l.Address(1) != address {
		t.Errorf("the host was at %s, and is at %s now", address, l.Address(1))
	}
}

// killLab ends the processes of a lab as a crash does.
func killLab(ctx context.Context, t *testing.T, l *Lab) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(bootDir(testHome), "engine.pid"))
	if err != nil {
		t.Fatal(err)
	}
	engine, err := strconv.Atoi(string(b))
	if err != nil {
		t.Fatal(err)
	}
	host, err := l.process(ctx, "quay1")
	if err != nil {
		t.Fatal(err)
	}
	l.Detach()
	for _, p := range append([]int{engine, host}, monitors(testHome)...) {
		if err := syscall.Kill(p, syscall.SIGKILL); err != nil {
			t.Errorf("kill %d: %v", p, err)
		}
	}
}
