// Package platform knows systems: package managers, service managers,
// firewalls, and where web servers keep their files. All access to files and
// commands goes through a Machine.
package platform

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	godbus "github.com/godbus/dbus/v5"
)

// Machine is the system that is read and changed. With a Root other than "/" it
// is a folder that looks like one. StateDir is the absolute path, below Root,
// where North Stake keeps its own files.
type Machine struct {
	Root     string
	StateDir string
	SSHPort  int
	Run      Runner
	Families []Family // the built-in ones when nil

	mu     sync.Mutex
	units  *Units
	bus    *godbus.Conn
	caches map[string]any

	noRestart string // the state of the packages in which no restart was needed
}

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

// Path is where a path of the machine lies for this process.
func (m *Machine) Path(p string) string {
	if m.Root == "" || m.Root == "/" {
		return p
	}
	return filepath.Join(m.Root, p)
}

// State is a path below the machine's state directory.
func (m *Machine) State(parts ...string) string {
	return filepath.Join(append([]string{m.Path(m.StateDir)}, parts...)...)
}

// Read reads a whole file.
func (m *Machine) Read(path string) ([]byte, error) { return os.ReadFile(m.Path(path)) }

// Exists says whether something is at a path, a dangling link included.
func (m *Machine) Exists(path string) bool {
	_, err := os.Lstat(m.Path(path))
	return err == nil
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

// cached keeps a value until its key changes.
type cached[T any] struct {
	key   string
	value T
}

// Cached returns the remembered value under name while key stays the same, and
// makes it anew otherwise. An empty key is never remembered.
func Cached[T any](m *Machine, name, key string, make_ func() (T, error)) (T, error) {
	m.mu.Lock()
	if m.caches == nil {
		m.caches = map[string]any{}
	}
	c, ok := m.caches[name].(cached[T])
	m.mu.Unlock()
	if ok && key != "" && c.key == key {
		return c.value, nil
	}
	v, err := make_()
	if err != nil {
		return v, err
	}
	m.mu.Lock()
	m.caches[name] = cached[T]{key, v}
	m.mu.Unlock()
	return v, nil
}

// FileKey identifies a state of files for Cached: device, inode, size, both
// times of each; "" when one cannot be read.
func (m *Machine) FileKey(paths ...string) string {
	var b strings.Builder
	for _, p := range paths {
		s, err := lstat(m.Path(p))
		if err != nil {
			return ""
		}
		fmt.Fprintf(&b, "%d:%d:%d:%d:%d|", s.Dev, s.Ino, s.Size, s.Mtim.Nano(), s.Ctim.Nano())
	}
	return b.String()
}
