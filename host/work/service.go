package work

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"northstake/core/near"
	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/filter"
	"northstake/host/journal"
	"northstake/host/system"
)

// serviceBefore is how a service stood before a step, with the text of the
// files that change its unit.
type serviceBefore struct {
	Known   bool              `json:"known"`
	Active  string            `json:"active"`
	Boot    string            `json:"boot"`
	DropIns map[string]string `json:"drop_ins,omitempty"` // path to SHA-256; the text is kept
}

type service struct {
	typed[wire.ServiceWant, wire.ServiceWork, serviceBefore]
}

var _ = register("service", service{typed[wire.ServiceWant, wire.ServiceWork, serviceBefore]{
	read: readServices, before: beforeService, do: doService, back: backService, again: againService, early: true,
}})

// Confirm has a firewall start at boot, as far as that is wanted, and stops the timer that would take
// its start back.
func (service) Confirm(ctx context.Context, m *Host, j Job) error {
	var w wire.ServiceWork
	if err := json.Unmarshal(j.Work, &w); err != nil {
		return fmt.Errorf("the step cannot be understood: %w", err)
	}
	if w.AtBoot != nil {
		units, err := m.Services(ctx)
		if err != nil {
			return err
		}
		states, err := units.States(ctx, []string{w.Name})
		if err == nil {
			err = units.Boot(ctx, ownName(states[w.Name], w.Name), *w.AtBoot)
		}
		if err != nil {
			return err
		}
	}
	journal.Disarm(ctx, m.Machine, j)
	return nil
}

func readServices(ctx context.Context, m *Host, wants []wire.ServiceWant) ([]any, error) {
	if len(wants) == 0 {
		return nil, nil
	}
	units, err := m.Services(ctx)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(wants))
	for i, w := range wants {
		names[i] = w.Name
	}
	states, err := units.States(ctx, names)
	if err != nil {
		return nil, err
	}
	out := make([]any, len(wants))
	for i, w := range wants {
		st := states[w.Name]
		f := wire.ServiceFound{Known: st.Known, Active: st.Active, Boot: st.Boot, Unsteady: st.Unsteady, Ends: st.Ends, Wanted: st.Wanted, Elsewhere: st.Elsewhere, Target: st.Target, NoReload: st.Known && !st.CanReload}
		if st.Name != w.Name {
			f.Is = st.Name
		}
		if w.Running != nil && !*w.Running {
			f.Starters = st.Starters
		}
		if f.DropIns, err = family.DropIns(m.Machine, ownName(st, w.Name)); err != nil {
			out[i] = err
			continue
		}
		for path := range f.DropIns {
			if e, err := m.Entry(wire.Path(path)); err == nil && e.Touched.At.After(f.Touched.At) {
				f.Touched = e.Touched
				f.Touched.What = path
			}
		}
		if !st.Known {
			f.Near, f.Here = nearUnits(ctx, units, w.Name), m.Called().Services[w.Name]
		}
		out[i] = f
	}
	return out, nil
}

// ownName is the name that a unit has itself.
func ownName(st family.UnitState, asked string) string {
	if st.Name == "" {
		return asked
	}
	return st.Name
}

func nearUnits(ctx context.Context, units family.ServiceManager, name string) []string {
	all, err := units.Names(ctx)
	if err != nil {
		return nil
	}
	return near.Few(name, all)
}

func beforeService(ctx context.Context, m *Host, _ Job, w wire.ServiceWork) (serviceBefore, error) {
	units, err := m.Services(ctx)
	if err != nil {
		return serviceBefore{}, err
	}
	states, err := units.States(ctx, []string{w.Name})
	if err != nil {
		return serviceBefore{}, err
	}
	st := states[w.Name]
	b := serviceBefore{Known: st.Known, Active: st.Active, Boot: st.Boot}
	b.DropIns, err = keepDropIns(m, ownName(st, w.Name))
	return b, err
}

// keepDropIns keeps the text of the files that change a unit on the host, for
// root alone, so that they can be put back.
func keepDropIns(m *Host, service string) (map[string]string, error) {
	files, err := family.DropIns(m.Machine, service)
	if err != nil {
		return nil, err
	}
	for path, holds := range files {
		text, err := m.Read(wire.Path(path))
		if err != nil {
			return nil, err
		}
		sum, _, _ := strings.Cut(holds, " ")
		if err := system.WriteAtomically(m.State("kept", sum), text, 0o600); err != nil {
			return nil, err
		}
	}
	return files, nil
}

// setDropIns makes the files that change a unit what they were.
func setDropIns(m *Host, service string, want map[string]string) error {
	have, err := family.DropIns(m.Machine, service)
	if err != nil {
		return err
	}
	for path := range have {
		if _, ok := want[path]; !ok {
			if err := os.Remove(m.Path(wire.Path(path))); err != nil {
				return err
			}
		}
	}
	for path, holds := range want {
		if have[path] == holds {
			continue
		}
		sum, how, _ := strings.Cut(holds, " ")
		if err := os.MkdirAll(filepath.Dir(m.Path(wire.Path(path))), 0o755); err != nil {
			return err
		}
		if strings.HasPrefix(how, "/") || strings.HasPrefix(how, ".") { // a link
			if err := system.LinkAtomically(how, m.Path(wire.Path(path))); err != nil {
				return err
			}
			continue
		}
		mode := os.FileMode(0o644)
		if how != "" {
			if mode, err = system.FileMode(wire.Mode(how)); err != nil {
				return err
			}
		}
		text, err := os.ReadFile(m.State("kept", sum))
		if err != nil {
			return fmt.Errorf("the former text of %s is no longer kept on this host: write it anew by hand", path)
		}
		if got := sha256.Sum256(text); hex.EncodeToString(got[:]) != sum {
			return fmt.Errorf("the kept text of %s is damaged: write it anew by hand", path)
		}
		if err := system.WriteAtomically(m.Path(wire.Path(path)), text, mode); err != nil {
			return err
		}
	}
	return nil
}

func doService(ctx context.Context, m *Host, j Job, w wire.ServiceWork, _ serviceBefore) (wire.StepState, error) {
	units, err := m.Services(ctx)
	if err != nil {
		return "", err
	}
	states, err := units.States(ctx, []string{w.Name})
	if err != nil {
		return "", err
	}
	name := ownName(states[w.Name], w.Name)
	guarded := wire.FiltersItself(name) && (w.Now == "start" || w.Now == "restart" || w.Nudge != "")
	if err := setUnit(ctx, m, units, name, w, guarded); err != nil {
		return "", err
	}
	if states, err = units.States(ctx, []string{name}); err != nil {
		return "", err
	}
	now := toldNow(j, w, name, states[name])
	state := wire.Done
	held := wire.FiltersItself(name) && (now == "start" || now == "restart")
	if guarded && !held && w.AtBoot != nil && *w.AtBoot {
		if err := units.Boot(ctx, name, true); err != nil {
			return "", err
		}
	}
	if held {
		state = wire.Held
		if err := journal.Arm(ctx, m.Machine, j, wire.RevertAfter); err != nil {
			return "", err
		}
	}
	if now != "" {
		if err := tell(ctx, m, units, name, now); err != nil {
			return "", err
		}
	}
	if held { // what is confirmed is what filters, and not what is about to
		if err := filter.AwaitFiltering(ctx, m.Machine, name); err != nil {
			return "", err
		}
	}
	_, err = keepDropIns(m, name)
	return state, err
}

// setUnit sets what a unit is without starting or stopping it. A guarded one, a firewall that the step starts,
// is started at boot once it is confirmed.
func setUnit(ctx context.Context, m *Host, units family.ServiceManager, name string, w wire.ServiceWork, guarded bool) error {
	if w.SetDrop {
		if err := setDropIns(m, name, w.DropIns); err != nil {
			return err
		}
		if err := units.Reload(ctx); err != nil {
			return err
		}
	}
	if w.Unmask {
		if err := units.Mask(ctx, name, false); err != nil {
			return err
		}
	}
	if w.AtBoot != nil && !(guarded && *w.AtBoot) {
		return units.Boot(ctx, name, *w.AtBoot)
	}
	return nil
}

// toldNow is what a service is told as it stands now: "" for nothing.
func toldNow(j Job, w wire.ServiceWork, name string, st family.UnitState) string {
	now := w.Now
	if now == "start" && st.Active == "active" {
		now = w.Nudge // the package has started it already
	}
	if !st.Known && (now == "reload" || now == "restart") {
		j.Say("no unit on this host is called %s: nothing takes notice", w.Name)
		return ""
	}
	if now == "reload" && !st.CanReload { // it came with a package of this run, and nobody knew
		j.Say("%s cannot reload, and is restarted", name)
		return "restart"
	}
	return now
}

// former is what there was before of a step's changes to some files, as far as what there
// is now is as the step left it; the rest is as it is now. Keys are paths.
func former(now, left, before map[string]string) map[string]string {
	out := maps.Clone(now)
	for _, p := range slices.Concat(slices.Collect(maps.Keys(left)), slices.Collect(maps.Keys(before))) {
		was, there := before[p]
		switch {
		case now[p] != left[p]:
		case there:
			out[p] = was
		default:
			delete(out, p)
		}
	}
	return out
}

// againService has a service take in what is back that its step had it take in.
func againService(ctx context.Context, m *Host, _ Job, w wire.ServiceWork, b serviceBefore) error {
	how := cmp.Or(w.Now, w.Nudge)
	if b.Active != "active" || w.SetDrop || how != "reload" && how != "restart" || wire.FiltersItself(w.Name) {
		return nil
	}
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	states, err := units.States(ctx, []string{w.Name})
	if err != nil || states[w.Name].Active != "active" {
		return err
	}
	if how == "reload" && !states[w.Name].CanReload {
		how = "restart"
	}
	return tell(ctx, m, units, ownName(states[w.Name], w.Name), how)
}

func backService(ctx context.Context, m *Host, j Job, w wire.ServiceWork, b serviceBefore) error {
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	states, err := units.States(ctx, []string{w.Name})
	if err != nil {
		return err
	}
	st := states[w.Name]
	w.Name = ownName(st, w.Name)
	if w.SetDrop {
		if err := backDropIns(ctx, m, units, w, b); err != nil {
			return err
		}
	}
	if wire.FiltersItself(w.Name) {
		journal.DisarmTimer(ctx, m.Machine, j)
	}
	if !st.Known || !b.Known {
		return nil
	}
	if err := backBoot(ctx, units, w, b, st); err != nil {
		return err
	}
	return backRunning(ctx, m, units, w, b, st)
}

// backDropIns puts back the pieces of the unit that the step changed.
func backDropIns(ctx context.Context, m *Host, units family.ServiceManager, w wire.ServiceWork, b serviceBefore) error {
	have, err := family.DropIns(m.Machine, w.Name)
	if err != nil {
		return err
	}
	if err := setDropIns(m, w.Name, former(have, w.DropIns, b.DropIns)); err != nil {
		return err
	}
	return units.Reload(ctx)
}

// backBoot has the service masked, and started at boot, as it was before.
func backBoot(ctx context.Context, units family.ServiceManager, w wire.ServiceWork, b serviceBefore, st family.UnitState) error {
	if masked := strings.HasPrefix(b.Boot, "masked"); masked != strings.HasPrefix(st.Boot, "masked") {
		if err := units.Mask(ctx, w.Name, masked); err != nil {
			return err
		}
	}
	if w.AtBoot != nil && (b.Boot == "enabled" || b.Boot == "disabled") && b.Boot != st.Boot {
		if err := units.Boot(ctx, w.Name, b.Boot == "enabled"); err != nil {
			return err
		}
	}
	return nil
}

// backRunning has the service run, or stand still, as it did before.
func backRunning(ctx context.Context, m *Host, units family.ServiceManager, w wire.ServiceWork, b serviceBefore, st family.UnitState) error {
	up := func(active string) bool { return active == "active" || active == "activating" }
	was, is := up(b.Active), up(st.Active)
	switch {
	case was && !is:
		return tell(ctx, m, units, w.Name, "start")
	case !was && (is || m.Booting): // as it boots it may be about to start
		err := units.Do(ctx, "stop", w.Name)
		if b.Active != "failed" {
			units.ForgetFailed(ctx, w.Name) // a start that is ended midway counts as one that failed
		}
		return err
	case was && w.SetDrop:
		return units.Do(ctx, "restart", w.Name)
	}
	return nil
}
