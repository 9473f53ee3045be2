// Command rod stands on a host while it is surveyed and worked on. It speaks
// HTTP/2 on its standard input and output, listens on nothing, and ends with
// its connection.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"os/user"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/rod"
	"northstake/host/system"
	"northstake/host/work"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "rod:", err)
		os.Exit(2)
	}
}

func run(args []string) error {
	if len(args) == 0 {
		return fmt.Errorf("say serve or revert")
	}
	flags := flag.NewFlagSet(args[0], flag.ContinueOnError)
	state := flags.String("state", "/var/lib/northstake", "directory for the rod's own files")
	ssh := flags.String("ssh", "", "SSH_CONNECTION of the session (sshd(8))")
	engine := flags.String("engine", "", "socket of the container engine, where it is not at its usual place")
	booting := flags.Bool("booting", false, "the host boots, and no service has started yet")
	booted := flags.Bool("booted", false, "wait until the host has booted")
	runID := flags.String("run", "", "run that, or a step of which, is to be taken back")
	step := flags.Int("step", 0, "number of that step, 0 for what the host went down in the middle of")
	after := flags.Duration("after", 0, "how long to wait before")
	line := flags.Duration("line", 0, "watch over the run's line, and take the run back when it is gone for so long")
	if err := flags.Parse(args[1:]); err != nil {
		return err
	}
	h := &work.Host{Machine: &system.Machine{Root: "/", StateDir: wire.Path(*state), Engine: *engine, Run: system.Command}, SSHPort: arrival(*ssh), Login: login(), Booting: *booting}
	rehearsed(h)
	if self, err := os.Executable(); err == nil {
		h.Program = self
	}
	// The heap is small, and a survey makes much of what is forgotten at once.
	debug.SetGCPercent(400)
	// A broken line must not cut a step off.
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE, syscall.SIGINT)
	if *booted {
		family.AwaitBoot(context.Background(), h.Machine)
	}
	switch args[0] {
	case "serve":
		if _, err := io.WriteString(os.Stdout, rod.Greeting); err != nil {
			return err
		}
		line, err := newStdio()
		if err != nil {
			return err
		}
		work.NewServer(h).ServeConn(line)
		return nil
	case "revert":
		if *line > 0 {
			return work.Watch(context.Background(), h, *runID, *line)
		}
		time.Sleep(*after)
		return work.Revert(context.Background(), h, *runID, *step)
	}
	return fmt.Errorf("there is no %q: say serve or revert", args[0])
}

// arrival is the port on this host that an SSH connection came in on.
func arrival(connection string) int {
	if f := strings.Fields(connection); len(f) == 4 {
		if n, err := strconv.Atoi(f[3]); err == nil {
			return n
		}
	}
	return 0
}

// login is the user that came in, who may have become root by sudo since (sudo(8)).
func login() string {
	if name := os.Getenv("SUDO_USER"); name != "" {
		return name
	}
	me, err := user.Current()
	if err != nil {
		return ""
	}
	return me.Username
}

// stdio is standard input and output as a connection.
type stdio struct{ in *os.File }

// newStdio makes standard input such that closing it ends a read that waits: nobody else would end
// that of a service that has vanished.
func newStdio() (stdio, error) {
	if err := syscall.SetNonblock(int(os.Stdin.Fd()), true); err != nil {
		return stdio{}, fmt.Errorf("standard input: %w", err)
	}
	return stdio{os.NewFile(os.Stdin.Fd(), "standard input")}, nil
}

func (s stdio) Read(b []byte) (int, error) { return s.in.Read(b) }
func (stdio) Write(b []byte) (int, error)  { return os.Stdout.Write(b) }
func (s stdio) Close() error               { return s.in.Close() }

func (stdio) LocalAddr() net.Addr              { return addr{} }
func (stdio) RemoteAddr() net.Addr             { return addr{} }
func (stdio) SetDeadline(time.Time) error      { return nil }
func (stdio) SetReadDeadline(time.Time) error  { return nil }
func (stdio) SetWriteDeadline(time.Time) error { return nil }

type addr struct{}

func (addr) Network() string { return "stdio" }
func (addr) String() string  { return "stdio" }
