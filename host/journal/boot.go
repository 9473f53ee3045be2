package journal

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// A host that goes down in the middle of a run with a held step takes back as it boots what nobody
// could confirm: a step that is held, and of a run that touches the way in all of it, since what a file
// says is taken in by a service that starts. A unit of systemd's does so, which is there from before the
// first such step works until the run has ended, or the host has been up for bootLimit since the last of
// them.

// bootLimit is for how long what was done counts as new.
const bootLimit = 10 * time.Minute

// units is where an administrator's units lie (systemd.unit(5)).
const units = "/etc/systemd/system/"

// bootUnit is one of the two units of a run: one that takes back what it can before anything starts
// that could shut the way in (bootup(7)), and one for the rest. target is what has systemd start it.
type bootUnit struct{ suffix, target, text string }

var bootUnits = []bootUnit{
	{"-booting.service", "sysinit.target", `# Written by North Stake: takes back what nobody confirmed before this host went down.
[Unit]
Description=North Stake takes back run %[1]s
DefaultDependencies=no
RequiresMountsFor=%[2]s
After=local-fs.target systemd-remount-fs.service
Before=sysinit.target network-pre.target nftables.service shutdown.target
Conflicts=shutdown.target

[Service]
Type=oneshot
TimeoutStartSec=%[3]d
ExecStart=%[4]s revert --state %[2]s --run %[1]s --booting --after %[5]s
`},
	{"-booted.service", "multi-user.target", `# Written by North Stake: takes back the rest of what nobody confirmed before this host went down.
[Unit]
Description=North Stake takes back the rest of run %[1]s

[Service]
Type=simple
ExecStart=%[4]s revert --state %[2]s --run %[1]s --booted --after %[5]s
`},
}

const bootPrefix = "northstake-revert-"

func (u bootUnit) path(run string) wire.Path { return units + wire.Path(bootPrefix+run+u.suffix) }

// link has systemd start it.
func (u bootUnit) link(run string) wire.Path {
	return units + wire.Path(u.target+".wants/"+bootPrefix+run+u.suffix)
}

// bootFiles are the files of a run's units, in the order in which they go.
func bootFiles(run string) []wire.Path {
	var out []wire.Path
	for _, u := range slices.Backward(bootUnits) {
		out = append(out, u.link(run), u.path(run))
	}
	return out
}

// takeBackAtBoot writes them. What has them go in time is there before them.
func takeBackAtBoot(ctx context.Context, m *system.Machine, run, self string) error {
	m.Run(ctx, nil, "systemctl", "stop", overTimer(run)+".timer") // of the step before
	away := append([]string{"rm", "-f"}, wire.Texts(bootFiles(run))...)
	if err := startTimer(ctx, m, overTimer(run), int(bootLimit.Seconds()), away); err != nil {
		return err
	}
	for _, u := range slices.Backward(bootUnits) {
		if err := u.write(m, run, self, 0); err != nil {
			return err
		}
	}
	return nil
}

// confirmAfterBoot lets a host be restarted by a step of the run itself: what the run has done before is
// taken back only where the service has not come in again some time after the host is up.
func confirmAfterBoot(m *system.Machine, run string) error {
	if !armedForBoot(m, run) {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if err := bootUnits[1].write(m, run, self, confirmTime); err != nil {
		return err
	}
	return bootUnits[0].remove(m, run)
}

// write writes a unit, which waits some time before it takes anything back.
func (u bootUnit) write(m *system.Machine, run, self string, after time.Duration) error {
	text := fmt.Sprintf(u.text, run, m.StateDir, int(revertWait.Seconds()), self, after)
	if err := system.WriteAtomically(m.Path(u.path(run)), []byte(text), 0o644); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(m.Path(u.link(run))), 0o755); err != nil {
		return err
	}
	return system.LinkAtomically("../"+u.path(run).Base(), m.Path(u.link(run)))
}

func (u bootUnit) remove(m *system.Machine, run string) error {
	for _, p := range []wire.Path{u.link(run), u.path(run)} {
		if err := os.Remove(m.Path(p)); errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return err
		}
		if err := system.Flush(filepath.Dir(m.Path(p))); err != nil {
			return err
		}
	}
	return nil
}

// overTimer is what takes the units away in time.
func overTimer(run string) string { return bootPrefix + run + "-over" }

// armedForBoot says whether the units of a run are there.
func armedForBoot(m *system.Machine, run string) bool {
	return slices.ContainsFunc(bootFiles(run), m.Exists)
}

// dropBootUnits takes the units of a run away.
func dropBootUnits(ctx context.Context, m *system.Machine, run string) error {
	if !armedForBoot(m, run) {
		return nil
	}
	m.Run(ctx, nil, "systemctl", "stop", overTimer(run)+".timer") // after a boot it is not there
	for _, u := range slices.Backward(bootUnits) {
		if err := u.remove(m, run); err != nil {
			return err
		}
	}
	return unload(ctx, m, run, bootUnits...)
}

// unload has systemd know no more of units that are gone: it has read them where something of the run
// had it read all units anew.
func unload(ctx context.Context, m *system.Machine, run string, gone ...bootUnit) error {
	if !m.HasSystemd() {
		return nil
	}
	for _, u := range gone {
		out, err := m.Run(ctx, nil, "systemctl", "show", "--property=LoadState", bootPrefix+run+u.suffix)
		if err != nil {
			return err
		}
		if strings.TrimSpace(string(out)) == "LoadState=loaded" {
			_, err := m.Run(ctx, nil, "systemctl", "daemon-reload")
			return err
		}
	}
	return nil
}

// dropAllBootUnits takes the units of all runs of a service away: it has come in by now.
func dropAllBootUnits(ctx context.Context, m *system.Machine, service string) error {
	there, err := filepath.Glob(m.Path(units + bootPrefix + "*.service"))
	if err != nil {
		return err
	}
	for _, p := range there {
		run, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(p), bootPrefix), "-")
		if own, ok := wire.ParseRun(run); ok && own.Service == service {
			if err := dropBootUnits(ctx, m, run); err != nil {
				return err
			}
		}
	}
	return nil
}

// unconfirmed are the steps of a run that are to be taken back when the host has gone down.
func (j Journal) unconfirmed(run string) ([]Record, error) {
	steps, err := j.Steps(run)
	if err != nil || slices.ContainsFunc(steps, func(r Record) bool { return r.Step.Whole }) {
		return steps, err
	}
	return slices.DeleteFunc(steps, func(r Record) bool { return r.State != wire.Held && r.State != wire.Begun }), nil
}

// RevertBooting is what a host does as it boots that went down in the middle of a run: what can be
// taken back at that time is, before anything starts that reads it. The rest follows by RevertBooted.
func (j Journal) RevertBooting(ctx context.Context, run string) error {
	release, err := j.alone(ctx, revertWait)
	if err != nil {
		return err
	}
	defer release()
	steps, err := j.unconfirmed(run)
	if err != nil {
		return err
	}
	var failed []error
	for _, r := range slices.Backward(steps) {
		w, err := j.Worker(r.Step.Type)
		if early, ok := w.(Early); err == nil && ok && early.Early() && r.State != wire.Back && r.State != wire.Dismissed {
			err = j.back(ctx, r, func(string, ...any) {})
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// RevertBooted takes back what is left of such a run, once the host has booted, and has what runs take
// in what is back; unless a service has come in meanwhile. Late says that what lets the service
// in has started with what is taken back now, and has to take in what is back, too.
func (j Journal) RevertBooted(ctx context.Context, run string) (late bool, err error) {
	release, err := j.alone(ctx, revertWait)
	if err != nil {
		return false, err
	}
	defer release()
	if !armedForBoot(j.Machine, run) {
		return false, nil
	}
	late = !j.Machine.Exists(bootUnits[0].path(run)) // nothing was taken back before services started
	ctx, cancel := context.WithTimeout(ctx, revertWait)
	defer cancel()
	steps, err := j.unconfirmed(run)
	if err != nil {
		return false, err
	}
	if slices.ContainsFunc(steps, func(r Record) bool { return r.Step.Whole }) {
		return late, j.backAll(ctx, run, func(string, ...any) {})
	}
	slices.Reverse(steps)
	_, err = j.backEach(ctx, steps, func(string, ...any) {})
	return false, errors.Join(err, dropBootUnits(ctx, j.Machine, run))
}
