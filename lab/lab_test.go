package lab

import (
	"context"
	"os"
	"testing"
	"time"
)

// A host is a real system: systemd runs it, the login user is there, and it
// keeps its address over a restart.
func TestHostIsARealSystem(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), 8*time.Minute)
	defer cancel()
	home := "/var/tmp/northstake-labtest"
	l, err := Open(ctx, home, os.Stderr)
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := l.Close(ctx); err != nil {
			t.Error(err)
		}
		if err := Clean(ctx, home, os.Stderr); err != nil {
			t.Error(err)
		}
		if left := monitors(home); len(left) > 0 {
			t.Errorf("monitors left behind: %v", left)
		}
	}()
	if err := l.Ensure(ctx, Debian, "quay1", 1); err != nil {
		t.Fatal(err)
	}
	if out, err := l.Shell(ctx, "quay1", "cat /proc/1/comm; id -un keeper; apt-cache policy nginx | grep Candidate"); err != nil || len(out) < 20 {
		t.Fatalf("%q, %v", out, err)
	}
	if err := l.Restart(ctx, "quay1"); err != nil {
		t.Fatal(err)
	}
	if err := l.WaitSSH(ctx, 1); err != nil {
		t.Fatal(err)
	}
	again, err := Open(ctx, home, os.Stderr)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Detach()
	if names, err := again.List(ctx); err != nil || len(names) != 1 || names[0] != "quay1" {
		t.Fatalf("a second opening finds %v, %v", names, err)
	}
}
