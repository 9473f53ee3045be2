package journal

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"

	"northstake/host/system"
)

// revertName is the name of what takes a held step back.
func revertName(j Job) string { return fmt.Sprintf("northstake-revert-%s-%d", j.Run, j.Number) }

// Arm makes the host take a step back by itself after some seconds: by a timer of
// systemd's, or where there is none by a process that outlives this one. A host with systemd that
// goes down before the run has ended takes it back as it boots.
func Arm(ctx context.Context, m *system.Machine, j Job, seconds int) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	Disarm(ctx, m, j)
	args := []string{self, "revert", "--state", string(m.StateDir), "--run", j.Run, "--step", fmt.Sprint(j.Number)}
	if m.HasSystemd() {
		if err = takeBackAtBoot(ctx, m, j.Run, self); err == nil {
			err = startTimer(ctx, m, revertName(j), seconds, args)
		}
	} else {
		err = startLater(m, j, append(args, "--after", fmt.Sprintf("%ds", seconds)))
	}
	if err != nil {
		return fmt.Errorf("set the timer that takes the step back: %w", err)
	}
	return nil
}

// startTimer has systemd start something after some seconds.
func startTimer(ctx context.Context, m *system.Machine, unit string, seconds int, args []string) error {
	options := append([]string{"--quiet", "--collect", "--unit=" + unit, "--timer-property=AccuracySec=500ms", fmt.Sprintf("--on-active=%d", seconds)}, args...)
	_, err := m.Run(ctx, nil, "systemd-run", options...)
	return err
}

// startLater starts a process that waits and then takes a step back, in a session of
// its own, so that it stays when the line to the host ends.
func startLater(m *system.Machine, j Job, args []string) error {
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Dir, cmd.SysProcAttr = "/", &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	go cmd.Wait()
	return system.WriteAtomically(waiting(m, j), []byte(strconv.Itoa(cmd.Process.Pid)), 0o600)
}

// waiting is where the process id of what waits is kept.
func waiting(m *system.Machine, j Job) string { return m.State(revertName(j) + ".pid") }

// Disarm stops what would take the step back, as far as it is there.
func Disarm(ctx context.Context, m *system.Machine, j Job) {
	if !m.HasSystemd() {
		endWaiting(m, j)
		return
	}
	for _, kind := range []string{".timer", ".service"} {
		// It is no failure that a unit is not there.
		m.Run(ctx, nil, "systemctl", "stop", revertName(j)+kind)
		m.Run(ctx, nil, "systemctl", "reset-failed", revertName(j)+kind)
	}
}

// DisarmTimer leaves what takes the step back alone where that runs already: it
// may be this very process.
func DisarmTimer(ctx context.Context, m *system.Machine, j Job) {
	if !m.HasSystemd() {
		endWaiting(m, j)
		return
	}
	m.Run(ctx, nil, "systemctl", "stop", revertName(j)+".timer")
}

// endWaiting ends the process that waits, unless it is this one or another that has
// its process id by now.
func endWaiting(m *system.Machine, j Job) {
	b, err := os.ReadFile(waiting(m, j))
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	os.Remove(waiting(m, j))
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil || pid == os.Getpid() {
		return
	}
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if words := strings.Split(string(line), "\x00"); err == nil && len(words) > 7 && words[1] == "revert" && words[5] == j.Run && words[7] == fmt.Sprint(j.Number) {
		syscall.Kill(pid, syscall.SIGTERM)
	}
}
