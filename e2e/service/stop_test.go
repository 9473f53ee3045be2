package service

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"northstake/e2e/stage"
)

// A command that is told to stop does so, whatever it waits for, and leaves nothing behind: neither
// what it has started, nor what it has unpacked (X6).
func TestACommandThatIsToldToStopEnds(t *testing.T) {
	t.Parallel()
	dir, tmp := t.TempDir(), t.TempDir()
	put := func(name, text string, mode os.FileMode) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), mode); err != nil {
			t.Fatal(err)
		}
	}
	put("g.toml", "[ground]\nname = \"slow\"\nmore_hosts = { program = \"hosts\" }\n", 0o644)
	put("hosts", "#!/bin/sh\necho $$ > pid\nsleep 600 & echo $! >> pid\nwait\n", 0o755)
	for _, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGINT} {
		cmd := exec.Command(filepath.Join(stage.Root, "bin", "northstake"), "lint", dir, "--allow-program")
		cmd.Env = []string{"PATH=/usr/bin:/bin", "HOME=" + tmp, "TMPDIR=" + tmp}
		var said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &said, &said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		var pids []string
		for deadline := time.Now().Add(20 * time.Second); len(pids) < 2 && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			b, _ := os.ReadFile(filepath.Join(dir, "pid"))
			pids = strings.Fields(string(b))
		}
		cmd.Process.Signal(sig)
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			cmd.Process.Kill()
			t.Fatalf("after %v it goes on", sig)
		}
		if code := cmd.ProcessState.ExitCode(); code != 2 {
			t.Errorf("after %v it exits with %d: %s", sig, code, said.String())
		}
		for _, pid := range pids {
			for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
				stat, err := os.ReadFile(fmt.Sprintf("/proc/%s/stat", pid))
				if err != nil || strings.Contains(string(stat), ") Z ") {
					break
				}
				if time.Now().After(deadline) {
					t.Errorf("after %v process %s goes on", sig, pid)
					break
				}
			}
		}
		if left, err := filepath.Glob(filepath.Join(tmp, "northstake-*")); err != nil || len(left) > 0 {
			t.Errorf("after %v it leaves %v, %v", sig, left, err)
		}
		os.Remove(filepath.Join(dir, "pid"))
	}
}
