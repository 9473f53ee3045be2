package system

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os/exec"
	"strings"
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
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = quiet
	cmd.Stdin = in
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if exit, ok := err.(*exec.ExitError); ok {
		text := errs.String()
		if strings.TrimSpace(text) == "" {
			text = out.String()
		}
		return out.Bytes(), &Failed{Command: name + " " + strings.Join(args, " "), Status: exit.ExitCode(), Output: text, Printed: out.String()}
	}
	if err != nil {
		return out.Bytes(), fmt.Errorf("run %s: %w", name, err)
	}
	return out.Bytes(), nil
}
