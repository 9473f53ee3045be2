package system

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"
)

func TestWhatACommandSays(t *testing.T) {
	out, err := Command(context.Background(), strings.NewReader("low tide"), "sh", "-c", "cat; echo rocks >&2")
	if err != nil || string(out) != "low tide" {
		t.Errorf("%q, %v", out, err)
	}
	_, err = Command(context.Background(), nil, "sh", "-c", "echo said; echo rocks >&2; exit 3")
	var failed *Failed
	if !errors.As(err, &failed) || failed.Status != 3 || failed.Output != "rocks\n" || failed.Printed != "said\n" {
		t.Errorf("%+v", err)
	}
	if _, err = Command(context.Background(), nil, "no-such-command"); err == nil {
		t.Error("what is not there runs")
	}
	// More than a pipe holds, and never read from.
	if out, err := Command(context.Background(), nil, "sh", "-c", "head -c 3000000 /dev/zero"); err != nil || len(out) != 3000000 {
		t.Errorf("%d bytes, %v", len(out), err)
	}
	if _, err := Command(context.Background(), strings.NewReader(strings.Repeat("x", 1<<20)), "true"); err != nil {
		t.Errorf("input that nobody reads: %v", err)
	}
}

// What a command has started and left behind, with its output still open, holds up nothing; it lives
// on, as a service does that an installation has started.
func TestAChildHoldsUpNothing(t *testing.T) {
	out, err := Command(context.Background(), nil, "sh", "-c", "sleep 300 & echo $!")
	if err != nil {
		t.Fatal(err)
	}
	var pid int
	if _, err := fmt.Sscan(string(out), &pid); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGTERM); err != nil {
		t.Errorf("what it started is gone: %v", err)
	}
}

// A command that is ended takes what it has started along.
func TestACommandEndsWithItsChildren(t *testing.T) {
	ctx, cancel := context.WithCancelCause(context.Background())
	file := t.TempDir() + "/pid"
	time.AfterFunc(300*time.Millisecond, func() { cancel(errors.New("the tide is out")) })
	_, err := Command(ctx, nil, "sh", "-c", "sleep 300 & echo $! > "+file+"; wait")
	if err == nil || !strings.Contains(err.Error(), "it was ended: the tide is out") {
		t.Errorf("%v", err)
	}
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	pid := strings.TrimSpace(string(b))
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		stat, err := os.ReadFile("/proc/" + pid + "/stat")
		if err != nil || strings.Contains(string(stat), ") Z ") {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("process %s lives on: %s", pid, stat)
		}
	}
}
