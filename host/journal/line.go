package journal

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// A run may cut the line to its own host, whatever the step was: a unit that takes a network down, a
// route, an address, a setting of the kernel. So from before its first step works until it has ended a
// watcher stands on the host, which no connection holds and which a boot starts again. It waits for the
// run's rod to end, as that does when the line is gone; where nobody comes back for some time, it takes
// the run back.

// Line is how a host watches over the lines of its runs. Program is what watches, started by its path,
// "" for nobody; After is for how long a line may be gone.
type Line struct {
	Program string
	After   time.Duration
}

// line is the file that stands for as long as a run has not ended. Who watches holds it locked.
func (j Journal) line(run string) string { return j.Machine.State("lines", run) }

// lineUnit starts the watcher again after a boot.
var lineUnit = bootUnit{"-line.service", "multi-user.target", `# Written by North Stake: takes a run back whose line broke and to which nobody came back.
[Unit]
Description=North Stake watches over the line of run %[1]s

[Service]
Type=simple
Restart=on-failure
ExecStart=%[4]s revert --state %[2]s --run %[1]s --booted --line %[5]s
`}

// watcherPatience is how long a watcher may take to stand.
const watcherPatience = 10 * time.Second

// watch has somebody watch over the line of a run, unless somebody does already.
func (j Journal) watch(ctx context.Context, run string, say func(string, ...any)) error {
	if j.Line.Program == "" || j.Line.After <= 0 || j.watched(run) {
		return nil
	}
	err := os.MkdirAll(filepath.Dir(j.line(run)), 0o700)
	if err == nil && !j.stands(run) {
		err = system.WriteAtomically(j.line(run), nil, 0o600)
	}
	if err != nil {
		return err
	}
	if j.Machine.HasSystemd() && os.Geteuid() == 0 && !j.Machine.Exists(lineUnit.path(run)) {
		if err := lineUnit.write(j.Machine, run, j.Line.Program, j.Line.After); err != nil {
			say("where this host is restarted from outside in the middle of the run, it does not take it back by itself: %v", err)
		}
	}
	args := []string{j.Line.Program, "revert", "--state", string(j.Machine.StateDir), "--run", run, "--line", j.Line.After.String()}
	if j.Machine.HasSystemd() && os.Geteuid() == 0 {
		_, err = j.Machine.Run(ctx, nil, "systemd-run", append([]string{"--quiet", "--collect", "--property=Restart=on-failure", "--unit=northstake-line-" + run}, args...)...)
	} else {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir, cmd.SysProcAttr = "/", &syscall.SysProcAttr{Setsid: true}
		if err = cmd.Start(); err == nil {
			go cmd.Wait()
		}
	}
	for began := time.Now(); err == nil && !j.watched(run); {
		if err = system.Pause(ctx, 5*time.Millisecond); err == nil && time.Since(began) > watcherPatience {
			err = fmt.Errorf("it did not stand in %s", watcherPatience)
		}
	}
	if err != nil {
		return fmt.Errorf("start what takes the run back when the line to this host breaks: %w", err)
	}
	return nil
}

// stands says whether a run that works has not ended.
func (j Journal) stands(run string) bool {
	_, err := os.Stat(j.line(run))
	return err == nil
}

// watched says whether somebody watches over the line of a run.
func (j Journal) watched(run string) bool {
	f, err := os.Open(j.line(run))
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB), syscall.EWOULDBLOCK)
}

// dropLine has nobody watch over the line of a run any more: it has ended.
func (j Journal) dropLine(ctx context.Context, run string) error {
	err := os.Remove(j.line(run))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	if !j.Machine.Exists(lineUnit.path(run)) {
		return err
	}
	return errors.Join(err, lineUnit.remove(j.Machine, run), unload(ctx, j.Machine, run, lineUnit))
}

// dropOtherLines has nobody watch over the lines of a service's other runs: it has come in by now, and
// has another plan.
func (j Journal) dropOtherLines(ctx context.Context, service, run string) error {
	there, err := os.ReadDir(filepath.Dir(j.line(run)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range there {
		if other, ok := wire.ParseRun(e.Name()); ok && other.Service == service && e.Name() != run {
			err = errors.Join(err, j.dropLine(ctx, e.Name()))
		}
	}
	return err
}

// The file may be held by those that only look whether somebody watches: so often it is tried, with so long
// in between. It is tries that count, since a host may stand still for longer.
const (
	lookTries = 200
	lookPause = 10 * time.Millisecond
)

// linePause is how long a watcher waits before it looks again whether anybody has come back.
const linePause = time.Second

// Watch watches over the line of a run until that has ended, and takes it back where the line is gone
// for as long as it may be. Taken says that it has done so.
func (j Journal) Watch(ctx context.Context, run string, after time.Duration) (taken bool, err error) {
	f, err := os.OpenFile(j.line(run), os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	for tries := 1; syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil; tries++ {
		if tries == lookTries {
			return false, nil // somebody does already
		}
		if err := system.Pause(ctx, lookPause); err != nil {
			return false, err
		}
	}
	for ctx.Err() == nil {
		if err := j.whileWorked(); err != nil {
			return false, err
		}
		gone := time.Now()
		for ctx.Err() == nil && j.standsFor(f, run) && !j.worked() && time.Since(gone) < after {
			_ = system.Pause(ctx, min(linePause, after/4))
		}
		if !j.standsFor(f, run) {
			return false, nil
		}
		if time.Since(gone) < after {
			continue // somebody came back
		}
		lock, err := Take(ctx, j.Machine, run)
		if err != nil {
			continue // at the last moment
		}
		defer lock.Release()
		if !j.standsFor(f, run) {
			return false, nil
		}
		return true, j.lineGone(ctx, run, after)
	}
	return false, ctx.Err()
}

// lineGone takes a run back, and leaves in the journal why.
func (j Journal) lineGone(ctx context.Context, run string, after time.Duration) error {
	release, err := j.alone(ctx, revertWait)
	if err == nil {
		defer release()
	}
	steps, err := j.Steps(run)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, revertWait)
	defer cancel()
	back := j.backAll(ctx, run, func(string, ...any) {})
	why := fmt.Sprintf("the line had broken, and nobody came back in %s: this host took it back by itself", after)
	failed := []error{back}
	for _, was := range steps {
		r, err := j.read(run, was.Step.Number)
		if err == nil && r.State == wire.Back && was.State != wire.Back {
			r.Why = why
			err = j.write(r)
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// standsFor says whether a run has not ended: the file that was opened for it is still there.
func (j Journal) standsFor(f *os.File, run string) bool {
	was, err := f.Stat()
	if err != nil {
		return false
	}
	is, err := os.Stat(j.line(run))
	return err == nil && os.SameFile(was, is)
}

// whileWorked waits for as long as any run's rod works on this host.
func (j Journal) whileWorked() error {
	f, err := os.OpenFile(j.Machine.State("lock"), os.O_RDWR|os.O_CREATE|syscall.O_CLOEXEC, 0o600)
	if err != nil {
		return err
	}
	defer f.Close() // which lets the lock go
	for {
		if err := syscall.Flock(int(f.Fd()), syscall.LOCK_SH); !errors.Is(err, syscall.EINTR) {
			return err
		}
	}
}

// worked says whether a run's rod works on this host.
func (j Journal) worked() bool {
	f, err := os.Open(j.Machine.State("lock"))
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB), syscall.EWOULDBLOCK)
}
