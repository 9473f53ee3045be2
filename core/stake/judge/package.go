package judge

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("package", stake.Judgement{
	Nothing: wire.PackageGone,
	MayCutAccess: workMayCut(func(access *wire.Access, w wire.PackageWork) bool {
		return access.RestsOnPackages(append(append(w.Names(), w.Remove), w.With...)...)
	}),
	Off: func(raw json.RawMessage) []string {
		w, _ := stake.Decoded[wire.PackageWork](raw)
		return append(slices.Clone(w.With), w.Remove)
	},
	Judge: stake.Judging(judgePackage),
	Away:  stake.Judging(awayPackage),
	AskedAway: func(want json.RawMessage, goes bool) json.RawMessage { // what would go with it
		w, _ := stake.Decoded[wire.PackageWant](want)
		return wire.JSON(wire.PackageWant{Name: w.Name, Gone: goes, Whole: goes})
	},
	Follows: true,
	Passing: []string{"short", "lists", "lists_at"},
	Join:    joinPackages,
	Within: workWithin(func(planned, now wire.PackageWork) bool {
		shown := func(g wire.PackageGoal) bool { return slices.Contains(planned.Install, g) }
		same := now.Remove == planned.Remove && now.Finish == planned.Finish && now.Reinstall == planned.Reinstall && now.Version == planned.Version
		return same && !slices.ContainsFunc(now.Install, func(g wire.PackageGoal) bool { return !shown(g) }) &&
			!slices.ContainsFunc(now.With, func(n string) bool { return !slices.Contains(planned.With, n) })
	}),
})

func judgePackage(in stake.Input, w wire.PackageWant, f wire.PackageFound) stake.Verdict {
	if w.Gone {
		return judgeGonePackage(in, w, f)
	}
	v := stake.Verdict{Differences: comparePackage(w, f), Gone: !f.There()}
	switch {
	case len(v.Differences) == 0 && w.Newest && !f.ListsAt.IsZero():
		return stake.Verdict{Rests: "the newest by lists of " + listsWords(f.ListsAt)}
	case len(v.Differences) == 0:
		return stake.Verdict{}
	case f.There() && f.State != wire.PackageInstalled:
		v.Moves = []wire.Move{finishMove(w, f)}
		return v
	case !f.Unmet && len(f.Lacks) > 0:
		if f.Candidate == "" && !in.Pending && f.Lists == wire.ListsFresh {
			v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("of package %s %s, and no package source of this host offers it in the version that is there, %s", w.Name, lackWords(f.Lacks), f.Version),
				Fix: "declare a version that one offers, or a source that has it"}}
			return v
		}
		v.Moves = []wire.Move{againMove(w, f)}
		return v
	}
	return judgeComing(in, w, f, v)
}

// judgeComing has a package installed, in the version that is to come.
func judgeComing(in stake.Input, w wire.PackageWant, f wire.PackageFound, v stake.Verdict) stake.Verdict {
	block := func(what, fix string) stake.Verdict {
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: what, Fix: fix}}
		return v
	}
	work := installWork(w, f)
	unsure := work.Refresh || in.Pending // another look may find it
	switch {
	case f.Older && w.Version == "" && unsure:
		work.Install[0].Version, work.Install[0].AtLeast = "", w.AtLeast
		f.Older = false
	case f.Older && w.Version == "":
		return block(fmt.Sprintf("the sources offer %s %s at most, which is older than %s", w.Name, f.Candidate, versionWords(w)), "declare a source that has it, or another version")
	case f.Candidate == "" && !unsure:
		v.Blockers = []stake.Note{noSource(in, w, f)}
		return v
	}
	if what, fix := notInstalled(w, f); what != "" {
		return block(what, fix)
	}
	v.Cautions, v.Takes = exclusions(in, w, f), locals("package", f.With)
	if s := f.Short; s != nil && s.Takes > 0 {
		return block(fmt.Sprintf("%s has %s free, and the packages of this plan take %s with all that they bring along", s.Path, wire.Bytes(s.Free), wire.Bytes(s.Takes)), "make room on the host")
	}
	work.With = f.With
	v.Cautions = append(v.Cautions, installCautions(in, w, f)...)
	v.Moves = []wire.Move{installMove(work)}
	return v
}

// notInstalled is why the host does not install a package in another version, "" where it does, and what to do.
func notInstalled(w wire.PackageWant, f wire.PackageFound) (what, fix string) {
	switch {
	case f.Held && f.Unmet:
		return fmt.Sprintf("package %s is held at %s on this host: somebody has made sure that it stays", w.Name, f.Version), "ask who did that, and let go of it (apt-mark unhold), or declare that version"
	case f.Refused != "":
		return fmt.Sprintf("package %s cannot be installed: %s", w.Name, f.Refused), "declare what goes together, or what has to go first as gone"
	}
	return "", ""
}

// comparePackage is what is not as declared of a package that is to be there.
func comparePackage(w wire.PackageWant, f wire.PackageFound) (d differences) {
	switch {
	case f.State != wire.PackageInstalled:
		d.add("state", "installed", f.State)
	case f.Unmet:
		d.add("version", versionWords(w), f.Version)
	case len(f.Lacks) > 0:
		d.add("files", "all there", lackWords(f.Lacks))
	}
	return d
}

// againMove installs a package again of which files are gone.
func againMove(w wire.PackageWant, f wire.PackageFound) wire.Move {
	work := wire.PackageWork{Reinstall: w.Name, Version: f.Version, Refresh: f.Candidate == ""}
	m := wire.Move{Verb: "install", Text: fmt.Sprintf("install package %s %s again: %s", w.Name, f.Version, lackWords(f.Lacks)),
		Because: "it restarts its services where its own scripts do that", Work: wire.JSON(work)}
	arm(&m, work)
	return m
}

// installWork installs what the sources offer, or what is declared where the lists say nothing of it yet.
func installWork(w wire.PackageWant, f wire.PackageFound) wire.PackageWork {
	goal := wire.PackageGoal{Name: w.Name, Version: f.Candidate}
	if f.Candidate == "" {
		goal.Exactly, goal.AtLeast = w.Version, w.AtLeast
	}
	if f.Unmet {
		goal.From = f.Version
	}
	return wire.PackageWork{Install: []wire.PackageGoal{goal}, Refresh: f.Lists == wire.ListsOld || f.Lists == wire.ListsNone}
}

// exclusions say what goes when a package comes.
func exclusions(in stake.Input, w wire.PackageWant, f wire.PackageFound) []stake.Note {
	if len(f.With) == 0 {
		return nil
	}
	return []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("installing %s removes %s", w.Name, strings.Join(f.With, ", ")), Fix: "they exclude each other: declare which of them is wanted"}}
}

// installCautions are what to know before a package is installed.
func installCautions(in stake.Input, w wire.PackageWant, f wire.PackageFound) (out []stake.Note) {
	caution := func(what, fix string) {
		out = append(out, stake.Note{Address: in.Stake.Address(), What: what, Fix: fix})
	}
	if s := f.Short; s != nil {
		caution(fmt.Sprintf("%s has only %s free for packages", s.Path, wire.Bytes(s.Free)), "make room before the run")
	}
	if f.Older {
		caution(fmt.Sprintf("%s goes back from %s to %s", w.Name, f.Version, f.Candidate), "what the newer version has written may not be readable for the older one")
	}
	return append(out, wrongClock(in)...)
}

// finishMove carries on with an installation that was interrupted, in the version that was to come where a
// source offers that.
func finishMove(w wire.PackageWant, f wire.PackageFound) wire.Move {
	work := wire.PackageWork{Finish: w.Name, Version: cmp.Or(f.Candidate, f.Version)}
	m := wire.Move{Verb: "finish", Text: fmt.Sprintf("finish installing package %s, which is %s", w.Name, f.State), Because: "an installation was interrupted", Work: wire.JSON(work)}
	if f.Candidate != "" && f.Version != "" && f.Candidate != f.Version {
		m.Text += fmt.Sprintf(", in version %s", f.Candidate)
		m.Because += fmt.Sprintf(", and no source offers %s, which it was of", f.Version)
	}
	arm(&m, work)
	return m
}

// lackWords names files of a package that are gone.
func lackWords(lacks []string) string {
	if len(lacks) == 1 {
		return lacks[0] + " is gone"
	}
	return fmt.Sprintf("%d of its files are gone, %s among them", len(lacks), lacks[0])
}

// clockLimit is how wrong a clock may be before lists that were signed lately, or
// hold for a few days alone, are not believed.
const clockLimit = 10 * time.Minute

// wrongClock says of a host whose clock is wrong that its package sources may be
// refused for that.
func wrongClock(in stake.Input) []stake.Note {
	skew, err := time.ParseDuration(in.Traits.ClockSkew)
	if err != nil || skew.Abs() < clockLimit {
		return nil
	}
	way := "ahead"
	if skew < 0 {
		way = "behind"
	}
	return []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("the host's clock is %s %s: lists that are signed may be refused as not valid yet, or no longer", skew.Abs(), way), Fix: "set the clock first"}}
}

// versionWords says which version is wanted.
func versionWords(w wire.PackageWant) string {
	switch {
	case w.Version != "":
		return w.Version
	case w.AtLeast != "":
		return "at least " + w.AtLeast
	}
	return "the newest"
}

// listsWords is when lists of packages were read.
func listsWords(at time.Time) string { return at.UTC().Format("2006-01-02 15:04 UTC") }

func noSource(in stake.Input, w wire.PackageWant, f wire.PackageFound) stake.Note {
	n := stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("no package source of this host offers %s", w.Name), Fix: "check the name"}
	if len(f.Offered) > 0 {
		n.What += fmt.Sprintf(" %s: there is %s", versionWords(w), strings.Join(f.Offered, ", "))
		n.Fix = "declare one of these versions, or a source that has it"
	} else if len(f.Providers) > 0 && f.Here == "" {
		n.What = fmt.Sprintf("%s is no package: it is what others bring, %s", w.Name, strings.Join(f.Providers[:min(len(f.Providers), 8)], ", "))
		n.Fix = "declare the one that is meant"
	} else {
		n.Fix += nearWords(f.Here, f.Near)
	}
	if name, arch, other := strings.Cut(w.Name, ":"); other && len(f.Offered) == 0 {
		n.Fix += fmt.Sprintf("; %s is the host's own architecture's, and %s is offered once the host takes packages of that as well (dpkg --add-architecture %s, in the Debian family)", name, w.Name, arch)
	}
	if len(f.Disabled) > 0 && len(f.Offered) == 0 {
		n.Fix += fmt.Sprintf("; or switch a source on: %s is off", strings.Join(f.Disabled, ", "))
	}
	if !f.ListsAt.IsZero() {
		n.What += " (its lists are of " + listsWords(f.ListsAt) + ")"
		n.Fix += fmt.Sprintf("; what was published since is there after: northstake act refresh-lists --on %s", in.Stake.Place)
	}
	return n
}

func locals(typ string, names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = wire.Local(typ, n)
	}
	return out
}

// awayPackage removes a package that nothing needs but what goes with the same plan.
func awayPackage(in stake.Input, w wire.PackageWant, f wire.PackageFound) stake.Verdict {
	if w.Gone { // it was declared to be gone, and nothing was made
		return stake.Verdict{Gone: true}
	}
	v := judgeGonePackage(in, w, f)
	needs := f.NeededBy
	for _, with := range f.With {
		goes := func(p wire.PackageWant) bool { return p.Name == with }
		if !slices.ContainsFunc(leaving[wire.PackageWant](in.Leaving, "package", in.Memo), goes) {
			needs = append(needs, with)
		}
	}
	declared := map[string]bool{}
	for _, p := range stake.Of[wire.PackageWant](in.Declared, "package", in.Memo) {
		declared[p.Name] = declared[p.Name] || !p.Gone
	}
	along := slices.DeleteFunc(slices.Clone(f.Orphans), func(n string) bool { return declared[n] })
	for _, s := range in.Traits.WebServers {
		if others := servedFor(in, s.Program); s.Package == w.Name && len(others) > 0 {
			return stake.Verdict{Cautions: []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("package %s stays: it serves what %s says", w.Name, servedWords(others)), Fix: "take that away first, or leave it"}}}
		}
	}
	if f.Held && f.There() {
		return stake.Verdict{Cautions: []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("package %s stays: it is held on this host", w.Name), Fix: "let go of it (apt-mark unhold), or leave it"}}}
	}
	if len(v.Blockers)+len(needs) > 0 {
		why := cmp.Or(strings.Join(needs, ", "), "something") + " needs it"
		return stake.Verdict{Cautions: []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("package %s stays: %s", w.Name, why), Fix: "take those away first, or leave it"}}}
	}
	if len(along) > 0 && len(v.Moves) > 0 {
		v.Moves[0].Text += fmt.Sprintf(", and what came along with it: %s", strings.Join(along, ", "))
		v.Moves[0].Work = wire.JSON(wire.PackageWork{Remove: w.Name, With: append(slices.Clone(f.With), along...)})
	}
	return v
}

func judgeGonePackage(in stake.Input, w wire.PackageWant, f wire.PackageFound) stake.Verdict {
	if !f.There() {
		return stake.Verdict{Gone: true}
	}
	if f.Refused != "" {
		n := stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("package %s cannot go: %s", w.Name, f.Refused), Fix: "leave it, or declare those that need it as gone"}
		if len(f.NeededBy) > 0 {
			n.What = fmt.Sprintf("package %s cannot go: %s needs it", w.Name, strings.Join(f.NeededBy, ", "))
		}
		return stake.Verdict{Differences: []wire.Difference{{Attribute: "state", Wanted: "gone", Found: f.State}}, Blockers: []stake.Note{n}}
	}
	if f.Held {
		return stake.Verdict{Differences: []wire.Difference{{Attribute: "state", Wanted: "gone", Found: f.State}}, Blockers: []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("package %s is held on this host: somebody has made sure that it stays", w.Name), Fix: "ask who did that, and let go of it (apt-mark unhold)"}}}
	}
	text := fmt.Sprintf("remove package %s %s", w.Name, f.Version)
	if len(f.With) > 0 {
		text += ", and with it " + strings.Join(f.With, ", ")
	}
	return stake.Verdict{Differences: []wire.Difference{{Attribute: "state", Wanted: "gone", Found: f.State}}, Takes: append(locals("package", f.With), locals("service", f.Services)...),
		Moves: []wire.Move{{Verb: "remove", Text: text, Work: wire.JSON(wire.PackageWork{Remove: w.Name, With: f.With})}}}
}

// installMove installs packages in one transaction.
func installMove(w wire.PackageWork) wire.Move {
	words := make([]string, len(w.Install))
	for i, g := range w.Install {
		words[i] = g.Name
		switch {
		case g.Version != "":
			words[i] += " " + g.Version
		case g.Exactly != "":
			words[i] += " " + g.Exactly
		case g.AtLeast != "":
			words[i] += ", at least " + g.AtLeast + ","
		}
		if g.From != "" {
			words[i] += " in place of " + g.From
		}
	}
	m := wire.Move{Verb: "install", Text: "install package " + strings.TrimSuffix(words[0], ","), Work: wire.JSON(w), Joins: true}
	if len(words) > 1 {
		m.Text = fmt.Sprintf("install %d packages: %s", len(words), strings.Join(words, ", "))
	}
	arm(&m, w)
	if len(w.With) > 0 {
		m.Text += ", which removes " + strings.Join(w.With, ", ")
	}
	if w.Refresh {
		m.Because = "the lists of what the sources offer are too old, or not there: they are read first"
	}
	return m
}

// arm has a step held that brings a firewall program: it may begin to filter as soon as it is there.
func arm(m *wire.Move, w wire.PackageWork) {
	if slices.ContainsFunc(w.Names(), wire.FiltersItself) {
		m.Confirm, m.Details = true, []wire.Detail{armed}
	}
}

// joinPackages makes one transaction of several.
func joinPackages(moves []wire.Move) wire.Move {
	var all wire.PackageWork
	for _, m := range moves {
		w, _ := stake.Decoded[wire.PackageWork](m.Work)
		all.Install = append(all.Install, w.Install...)
		for _, n := range w.With {
			if !slices.Contains(all.With, n) {
				all.With = append(all.With, n)
			}
		}
		all.Refresh = all.Refresh || w.Refresh
	}
	return installMove(all)
}
