package journal

import (
	"context"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// Lock is the host's lock: held by one run of one rod at a time, and let go by
// the kernel when the rod ends, however it ends.
type Lock struct {
	Run    string
	Waited time.Duration // for another that held it

	file *os.File
}

// Take takes a host's lock for a run. It waits for another rod to end: a while for one of another run, and longer
// for one of this run, which has lost its line and ends the step that it is at.
func Take(ctx context.Context, m *system.Machine, run string) (*Lock, error) {
	if err := os.MkdirAll(m.State(), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(m.State("lock"), os.O_CREATE|os.O_RDWR|syscall.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	for {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			break
		}
		b, _ := os.ReadFile(m.State("lock"))
		holder := strings.TrimSpace(string(b))
		limit, fault := lockWait, &wire.Fault{What: "another run works on this host: " + forPeople(holder), Fix: "wait until it has ended"}
		if strings.HasPrefix(holder, "run "+run+",") {
			limit, fault = ownLockWait, &wire.Fault{What: fmt.Sprintf("the step that was under way has not ended in %s", ownLockWait), Fix: "look on the host what it waits for, and resume the run when it has ended"}
		}
		if time.Since(began) > limit || ctx.Err() != nil {
			f.Close()
			return nil, fault
		}
		_ = system.Pause(ctx, 50*time.Millisecond)
	}
	text := fmt.Sprintf("run %s, since %s\n", run, time.Now().UTC().Format(time.RFC3339))
	if err := f.Truncate(0); err != nil {
		f.Close()
		return nil, err
	}
	if _, err := f.WriteAt([]byte(text), 0); err != nil {
		f.Close()
		return nil, err
	}
	return &Lock{Run: run, Waited: time.Since(began), file: f}, nil
}

// forPeople is what a lock says of its holder, with the name of the run as people know it.
func forPeople(holder string) string {
	words := strings.Fields(holder)
	for i, w := range words {
		if run, ok := wire.ParseRun(strings.TrimSuffix(w, ",")); ok {
			words[i] = fmt.Sprintf("%d,", run.Number)
		}
	}
	return strings.Join(words, " ")
}

// alone waits until no other step is done or taken back on this host, by whichever process, and
// returns what ends that.
func (j Journal) alone(ctx context.Context, wait time.Duration) (release func(), err error) {
	if err := os.MkdirAll(j.Machine.State(), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(j.Machine.State("working"), os.O_CREATE|os.O_RDWR|syscall.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	for {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			return func() { f.Close() }, nil
		}
		if time.Since(began) > wait || ctx.Err() != nil {
			f.Close()
			return nil, &wire.Fault{What: fmt.Sprintf("another step on this host has not ended in %s", wait), Fix: "look on the host what it waits for"}
		}
		_ = system.Pause(ctx, 20*time.Millisecond)
	}
}

// revertWait is how long what takes a step back at its time limit waits for the step to end. It
// goes on beside it then: whoever is shut out cannot wait for ever.
const revertWait = 5 * time.Minute

var (
	lockWait    = 15 * time.Second
	ownLockWait = 10 * time.Minute // as long as a large installation may take
)

// Release lets the lock go.
func (l *Lock) Release() { l.file.Close() }
