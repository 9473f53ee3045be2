package judge

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("service", stake.Judgement{
	Nothing: func(want json.RawMessage) bool {
		w, ok := stake.Decoded[wire.ServiceWant](want)
		return ok && !wants(w.Running, true) && !wants(w.AtBoot, true)
	},
	MayCutAccess: func(access *wire.Access, name string, _ json.RawMessage) bool { return access.RestsOnService(name) },
	Judge:        stake.Judging(judgeService),
	Follows:      true,
	Nudged:       nudgedService,
	Unwanted:     unwantedService,
	Away:         stake.Judging(awayService),
	Paths:        workAt[wire.ServiceWork],
	Within: workWithin(func(planned, now wire.ServiceWork) bool {
		boot := now.AtBoot == nil || planned.AtBoot != nil && *now.AtBoot == *planned.AtBoot
		told := now.Now == "" || now.Now == "stop" && planned.Away || now.Now == planned.Now || now.Now == planned.Nudge || now.Now == "reload" || now.Now == "start" || now.Now == "restart" && planned.Now == "start"
		return boot && told && (!now.Unmask || planned.Unmask) && (!now.SetDrop || planned.SetDrop && maps.Equal(now.DropIns, planned.DropIns))
	}),
})

func runs(f wire.ServiceFound) bool {
	return (f.Active == "active" || f.Active == "reloading") && !f.Unsteady
}

// runsSomehow says whether something of it runs, steadily or not.
func runsSomehow(f wire.ServiceFound) bool { return runs(f) || f.Unsteady || f.Active == "activating" }

func masked(f wire.ServiceFound) bool { return strings.HasPrefix(f.Boot, "masked") }

// startsAtBoot says whether it starts at boot: by itself, or, of a unit without a state of its
// own there, because another starts it.
func startsAtBoot(f wire.ServiceFound) bool {
	switch f.Boot {
	case "enabled":
		return f.Elsewhere == ""
	case "static", "generated", "indirect", "transient":
		return f.Wanted
	}
	return false
}

// bootable says whether the state at boot can be set.
func bootable(f wire.ServiceFound) bool {
	return f.Boot == "enabled" || f.Boot == "disabled" || f.Boot == "enabled-runtime" || f.Boot == "linked" || f.Boot == "" || masked(f)
}

func judgeService(in stake.Input, w wire.ServiceWant, f wire.ServiceFound) stake.Verdict {
	work := wire.ServiceWork{Name: w.Name}
	v := stake.Verdict{Touched: f.Touched, Gone: !f.Known || !runsSomehow(f) && !startsAtBoot(f)}
	if w.Running != nil || w.AtBoot != nil {
		v.SameAs = "service " + cmp.Or(f.Is, w.Name)
	}
	d := serviceDiffers(w, f, &work)
	judgeDropIns(in, f, &d, &work)
	v.Differences = d
	if wants(w.Running, false) && len(f.Starters) > 0 {
		v.Cautions = append(v.Cautions, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is up, and starts %s when it is asked", strings.Join(f.Starters, ", "), w.Name), Fix: "stop that as well, by hand: North Stake keeps services alone"})
	}
	if wants(w.Running, true) && f.Ends {
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("%s does its work and ends (it is a oneshot): it never runs for long", w.Name), Fix: "leave running out, and declare whether it starts at boot"}}
		v.Differences = append(d, wire.Difference{Attribute: "running", Wanted: "yes", Found: "it ends when it has done its work"})
		return v
	}
	if len(d) == 0 {
		if !f.Known && !in.Pending {
			v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("no unit on this host is called %s", w.Name), Fix: "check the name" + nearWords(f.Here, f.Near)}}
		}
		return v
	}
	if n := serviceBlocked(in, w, f, work); n != nil {
		v.Blockers = []stake.Note{*n}
		return v
	}
	if first := in.Traits.FirstProcess; first != "" && wants(w.AtBoot, true) {
		v.Cautions = append(v.Cautions, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("whether %s comes up again with the host is a matter of its first process, %s, which is none that is known to start services", w.Name, first), Fix: "have that start it; else northstake restore does after each restart"})
	}
	v.Moves = []wire.Move{serviceMove(in, w.Name, f, work)}
	if work.Unmask {
		v.Cautions = append(v.Cautions, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is masked: somebody has made sure that it does not start", w.Name), Fix: "ask who did that, and why, before it is unmasked"})
	}
	return v
}

// wants says whether something is wanted to be so; what is left out is not wanted at all.
func wants(wanted *bool, so bool) bool { return wanted != nil && *wanted == so }

// serviceDiffers is how a service stands otherwise than it is wanted, and puts into the work what changes that.
func serviceDiffers(w wire.ServiceWant, f wire.ServiceFound, work *wire.ServiceWork) (d differences) {
	if masked(f) && (wants(w.Running, true) || wants(w.AtBoot, true)) {
		d.add("masked", "no", "yes")
		work.Unmask = true
	}
	if w.AtBoot != nil && startsAtBoot(f) != *w.AtBoot {
		d.differ("at boot", yesNo(*w.AtBoot), bootWords(f))
		work.AtBoot = w.AtBoot
	}
	switch {
	case wants(w.Running, true) && !f.Ends && !runs(f):
		d.differ("running", "yes", runWords(f))
		work.Now = map[bool]string{true: "restart", false: "start"}[f.Unsteady]
	case wants(w.Running, false) && runsSomehow(f):
		d.differ("running", "no", runWords(f))
		work.Now = "stop"
	}
	return d
}

// serviceBlocked is what stands in the way of what is to be done with a service, nil for nothing.
func serviceBlocked(in stake.Input, w wire.ServiceWant, f wire.ServiceFound, work wire.ServiceWork) *stake.Note {
	note := func(what, fix string) *stake.Note {
		return &stake.Note{Address: in.Stake.Address(), What: what, Fix: fix}
	}
	switch {
	case !f.Known && !in.Pending:
		return unknownService(in, w.Name, f)
	case work.AtBoot != nil && f.Known && !bootable(f):
		return note(fmt.Sprintf("%s has no state at boot that could be set (it is %s)", w.Name, f.Boot), "leave at_boot out, or have what starts it be as you want it")
	case wants(work.AtBoot, true) && f.Elsewhere != "":
		return note(fmt.Sprintf("%s is enabled to start with %s, and %s boots to %s", w.Name, f.Elsewhere, in.Stake.Place, f.Target), fmt.Sprintf("on %s: systemctl reenable %s, or systemctl set-default multi-user.target where somebody has set that otherwise", in.Stake.Place, w.Name))
	case work.Now != "start":
		return nil
	}
	if l := outside(in, w, f); l != nil {
		return note(fmt.Sprintf("%s runs already, outside of the service manager (process %d), and holds port %d", l.Program, l.PID, l.Port), fmt.Sprintf("end it on %s: nobody starts it again, reloads it or keeps its log", in.Stake.Place))
	}
	if in.Restores { // elsewhere its sites say so
		return takenFrom(in)
	}
	return nil
}

// unknownService says that a host has no unit of a name, and which one may be meant.
func unknownService(in stake.Input, name string, f wire.ServiceFound) *stake.Note {
	if strings.HasSuffix(name, "@") && slices.Contains(f.Near, name) {
		return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is a template of units, and none by itself", name), Fix: fmt.Sprintf("name one made of it, such as %sone", name)}
	}
	fix := "check the name, or declare the package that brings it"
	if near := nearWords(f.Here, f.Near); near != "" {
		fix = strings.TrimPrefix(near, ": ")
	}
	return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("no unit on this host is called %s", name), Fix: fix}
}

// serviceMove does a service's work, and tells it what else has to be taken notice of.
func serviceMove(in stake.Input, name string, f wire.ServiceFound, work wire.ServiceWork) wire.Move {
	for _, n := range in.Nudges {
		work.Nudge = stronger(work.Nudge, told(n.How, f))
	}
	if work.Now == "" && work.Nudge != "" && runs(f) {
		work.Now, work.Nudge = work.Nudge, ""
	}
	verb, text := serviceWords(name, work)
	move := wire.Move{Verb: verb, Text: text, Because: reasons(in.Nudges, work), Work: wire.JSON(work)}
	if wire.FiltersItself(name) && (work.Now == "start" || work.Now == "restart") {
		move.Confirm, move.Details = true, []wire.Detail{armed}
	}
	return move
}

// takenFrom says who holds a port on which a service that is to be started serves a declared site, nil
// for nobody.
func takenFrom(in stake.Input) *stake.Note {
	for d, site := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		if site.ServedBy() != in.Stake.Local() || site.Within != "" || site.Off {
			continue
		}
		for _, port := range site.Listen.Ports() {
			l := in.Traits.On(port)
			if l == nil || l.Program == site.Program || slices.Contains(site.Yields, l.Program) || letsGo(in.Leaving, in.Memo, *l) {
				continue
			}
			return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("port %d, on which %s serves site %s, is taken by %s (process %d)", port, in.Stake.Name, d.Name, l.Program, l.PID),
				Fix: fmt.Sprintf("stop that program on %s (or declare it as not running, and apply that first), or let the site listen elsewhere", in.Stake.Place)}
		}
	}
	return nil
}

// unwantedService says whether a server that nothing declared needs any more holds a port on
// which a declared site listens with another, or has a site that did.
func unwantedService(gone stake.Stake, in stake.Surroundings) (why, forStake string) {
	was, _ := stake.Decoded[wire.ServiceWant](gone.Want)
	had := map[int]bool{}
	for _, p := range was.Ports {
		had[p] = true
	}
	for _, site := range leaving[wire.SiteWant](in.Leaving, "site", in.Memo) {
		for _, p := range site.Listen.Ports() {
			had[p] = had[p] || site.ServedBy() == gone.Local()
		}
	}
	for d, now := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		if now.ServedBy() == gone.Local() {
			continue
		}
		for _, p := range now.Listen.Ports() {
			if l := in.Traits.On(p); had[p] || l != nil && l.Program == was.Serves && l.Program != "" {
				return fmt.Sprintf("site %s listens on port %d with %s now", d.Name, p, now.By()), d.Local()
			}
		}
	}
	return "", ""
}

// awayService stops a service, and has it not start at boot. A server that serves others is theirs: it
// is only told of what is gone.
func awayService(in stake.Input, w wire.ServiceWant, f wire.ServiceFound) stake.Verdict {
	if others := servedFor(in, w.Serves); len(others) > 0 {
		v := stake.Verdict{Gone: !written(in, w.Serves)}
		if !v.Gone {
			v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("%s is not stopped: it serves what %s says as well", w.Name, servedWords(others)), Fix: "take that away by hand when nobody needs it any more"}}
		}
		return v
	}
	work, off := wire.ServiceWork{Name: w.Name, Away: true}, false
	if runsSomehow(f) {
		work.Now = "stop"
	}
	if startsAtBoot(f) && bootable(f) {
		work.AtBoot = &off
	}
	v := stake.Verdict{Gone: work.Now == "" && work.AtBoot == nil}
	if !v.Gone {
		verb, text := serviceWords(w.Name, work)
		v.Moves = []wire.Move{{Verb: verb, Text: text, Work: wire.JSON(work)}}
		if in.Pending {
			v.Late = true
			v.Cautions = []stake.Note{gap(in, w.Name)}
		}
	}
	return v
}

// BetweenSteps stands in a caution for the step of its stake and the one after it, whose numbers
// the plan puts there.
const BetweenSteps = "{steps}"

// AtAQuietHour is what to do about what is down for a moment.
const AtAQuietHour = "apply this at a quiet hour"

// gap is the caution that a server stops before the other one starts.
func gap(in stake.Input, server string) stake.Note {
	return stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("what %s serves is down between %s, a few seconds", server, BetweenSteps), Fix: AtAQuietHour}
}

// outside is the program of a service that serves sites, where it listens although its
// service does not run.
func outside(in stake.Input, w wire.ServiceWant, f wire.ServiceFound) *wire.Listener {
	if w.Serves == "" || runsSomehow(f) {
		return nil
	}
	contained := map[int]bool{} // ports of containers, whose programs may be called alike
	for _, site := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		if site.Within != "" {
			for _, p := range site.Listen.Ports() {
				contained[p] = true
			}
		}
	}
	for i, l := range in.Traits.Listeners {
		if l.Program == w.Serves && l.PID > 0 && !contained[l.Port] && !letsGo(in.Leaving, in.Memo, l) {
			return &in.Traits.Listeners[i]
		}
	}
	return nil
}

// judgeDropIns compares the files that change a unit with those that were there
// when the service was last as declared: nothing is said of files that have
// always been there.
func judgeDropIns(in stake.Input, f wire.ServiceFound, d *differences, work *wire.ServiceWork) {
	before, ok := stake.Decoded[wire.ServiceFound](in.LastFound)
	if !ok {
		return
	}
	var names []string
	for n := range f.DropIns {
		names = append(names, n)
	}
	for n := range before.DropIns {
		if _, ok := f.DropIns[n]; !ok {
			names = append(names, n)
		}
	}
	sort.Strings(names)
	back := maps.Clone(before.DropIns)
	for _, n := range names {
		now, was := f.DropIns[n], before.DropIns[n]
		switch {
		case now == was:
			continue
		case in.Paths[n]: // it is a stake of its own
			if back == nil {
				back = map[string]string{}
			}
			if delete(back, n); now != "" {
				back[n] = now
			}
			continue
		case was == "":
			d.add("drop-in "+n, "absent", "added")
		case now == "":
			d.add("drop-in "+n, "as before", "removed")
		default:
			d.add("drop-in "+n, "as before", "changed")
		}
		work.SetDrop = true
	}
	if work.SetDrop {
		work.DropIns = back
		if work.Now == "" && runs(f) {
			work.Now = "restart"
		}
	}
}

// nudgedService reloads or restarts a service whose own stake is as declared.
func nudgedService(in stake.Input) (*wire.Move, error) {
	found, err := wire.Decode[wire.ServiceFound](in.Memo, "found "+in.Stake.Local(), in.Found)
	if err != nil {
		return nil, err
	}
	if !runs(found) && !in.Pending {
		return nil, nil // it takes notice when somebody starts it
	}
	work := wire.ServiceWork{Name: in.Stake.Name}
	for _, n := range in.Nudges {
		work.Now = stronger(work.Now, told(n.How, found))
	}
	why := reasons(in.Nudges, work)
	return &wire.Move{Verb: work.Now, Text: work.Now + " " + in.Stake.Name, Because: why, Work: wire.JSON(work)}, nil
}
