package system

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Runner runs a command and returns what it wrote to standard output. The error
// of a command that ran and failed is a *Failed.
type Runner func(ctx context.Context, in io.Reader, name string, args ...string) ([]byte, error)

// Failed is a command that exited with a status other than 0.
type Failed struct {
	Command string
	Status  int
	Output  string // standard error, and output where that is empty
	Printed string // standard output
}

func (f *Failed) Error() string {
	return fmt.Sprintf("%s exited with %d: %s", f.Command, f.Status, strings.TrimSpace(f.Output))
}

var quiet = []string{"LC_ALL=C", "LANG=C", "DEBIAN_FRONTEND=noninteractive", "DEBCONF_NONINTERACTIVE_SEEN=true",
	"APT_LISTCHANGES_FRONTEND=none", "NEEDRESTART_MODE=l", "NEEDRESTART_SUSPEND=1", "UCF_FORCE_CONFFOLD=1",
	"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root"}

// Command is the Runner of a real machine: commands get no terminal, no
// questions, and the C locale.
func Command(ctx context.Context, in io.Reader, name string, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, commandLimit, fmt.Errorf("%s has not ended in %s", name, commandLimit))
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = quiet
	cmd.Stdin = in
	// The command ends with all that it has started, and what it has started cannot hold up its
	// end: what it says goes to memory that nobody waits to be closed.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 5 * time.Second
	said := map[string]*os.File{"out": nil, "err": nil}
	for which := range said {
		fd, err := unix.MemfdCreate(which, unix.MFD_CLOEXEC)
		if err != nil {
			return nil, fmt.Errorf("run %s: %w", name, err)
		}
		said[which] = os.NewFile(uintptr(fd), which)
		defer said[which].Close()
	}
	cmd.Stdout, cmd.Stderr = said["out"], said["err"]
	err := cmd.Run()
	out, errs := readSaid(said["out"]), readSaid(said["err"])
	if err != nil && ctx.Err() != nil {
		return out, fmt.Errorf("run %s: it was ended: %w", name, context.Cause(ctx))
	}
	if exit, ok := err.(*exec.ExitError); ok {
		text := errs
		if len(bytes.TrimSpace(text)) == 0 {
			text = out
		}
		return out, &Failed{Command: name + " " + strings.Join(args, " "), Status: exit.ExitCode(), Output: string(text), Printed: string(out)}
	}
	if err != nil && !errors.Is(err, exec.ErrWaitDelay) {
		return out, fmt.Errorf("run %s: %w", name, err)
	}
	return out, nil
}

// commandLimit is how long a command may take, as long as a large installation does, and saidLimit
// how much of what it says is read.
const (
	commandLimit = time.Hour
	saidLimit    = 64 << 20
)

// readSaid is what a command has said by now.
func readSaid(f *os.File) []byte {
	b, err := io.ReadAll(io.NewSectionReader(f, 0, saidLimit))
	if err != nil {
		return nil
	}
	return b
}
