package stake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
)

// Package says how a package should be.
type Package struct {
	Is      string            `toml:"is" json:"is,omitempty" doc:"Whether it is installed in whatever version, in the newest one that the sources offer, or gone." enum:"installed,gone,newest" default:"installed" example:"\"gone\""`
	Version string            `toml:"version" json:"version,omitempty" doc:"Exactly which version is installed, with or without the family's own revision behind it." default:"any" example:"\"1.22.1\""`
	AtLeast string            `toml:"at_least" json:"at_least,omitempty" doc:"The oldest version that will do." default:"any" example:"\"1.22\""`
	Names   map[string]string `toml:"names" each:"FAMILY" json:"names,omitempty" doc:"Its name on families of systems where that is another, such as redhat = \"cronie\"; an empty name leaves the package out there." example:"{ redhat = \"cronie\" }"`
}

// PackageWant is a package that should be installed, or gone. Of a version there
// is at most one of Version, exactly which, with or without the family's own
// revision behind it; AtLeast; and Newest, that no source offers a newer one.
type PackageWant struct {
	Name    string `json:"name"`
	Gone    bool   `json:"gone,omitempty"`
	Version string `json:"version,omitempty"`
	AtLeast string `json:"at_least,omitempty"`
	Newest  bool   `json:"newest,omitempty"`
	Whole   bool   `json:"whole,omitempty"` // of one that is gone, that what came along with it goes too
}

// PackageGone says whether a PackageWant wants a package to be gone.
func PackageGone(want json.RawMessage) bool {
	var w PackageWant
	return json.Unmarshal(want, &w) == nil && w.Gone
}

// VersionsDeclared lists the packages of some stakes whose version is declared.
func VersionsDeclared(stakes []Stake) []string {
	var out []string
	for _, s := range stakes {
		var w PackageWant
		if s.Type == "package" && json.Unmarshal(s.Want, &w) == nil && w.Version != "" {
			out = append(out, w.Name)
		}
	}
	return out
}

// PackageFound is what the package manager's records say. State is "installed",
// "absent", or another of dpkg's states such as "half-configured" (dpkg(1)). Of a
// package that is not as wanted, Candidate is the version that would be installed,
// "" where no source offers one; and of one that no source offers, Offered is what
// they offer instead, Near are names that are like it, and Here is what the host's
// family calls what others call that.
type PackageFound struct {
	State     string    `json:"state"`
	Version   string    `json:"version,omitempty"`
	Unmet     bool      `json:"unmet,omitempty"` // installed, in another version than is wanted
	Older     bool      `json:"older,omitempty"` // the candidate is older than what is installed
	Candidate string    `json:"candidate,omitempty"`
	Offered   []string  `json:"offered,omitempty"`
	Near      []string  `json:"near,omitempty"`
	Providers []string  `json:"providers,omitempty"` // packages that bring it, where it is no package's own name
	Here      string    `json:"here,omitempty"`
	Lacks     []string  `json:"lacks,omitempty"`    // programs, libraries and units of it that are not there any more
	ListsAt   time.Time `json:"lists_at,omitzero"`  // of when what the sources offer is known, where it was asked for
	Lists     string    `json:"lists,omitempty"`    // how old the sources' lists are, "" where that is no matter
	Disabled  []string  `json:"disabled,omitempty"` // sources that are switched off
	Short     *Short    `json:"short,omitempty"`    // where there may not be room enough to install it

	// With are the packages that would go with one that should be gone, because they need
	// it, or that would go for one that is installed. Refused is why the manager would do
	// neither, NeededBy who needs one that cannot go, and Services what goes with one that
	// goes. Orphans came along with one that should be gone, and nothing else needs them. Held
	// says that somebody keeps it at its version.
	With     []string `json:"with,omitempty"`
	Orphans  []string `json:"orphans,omitempty"`
	Refused  string   `json:"refused,omitempty"`
	NeededBy []string `json:"needed_by,omitempty"`
	Services []string `json:"services,omitempty"`
	Held     bool     `json:"held,omitempty"`
}

// Short is a file system with little room for the packages that are not as wanted,
// those of all stakes together. Takes is 0 where it cannot be known yet.
type Short struct {
	Path  string `json:"path"`
	Free  int64  `json:"free"`  // bytes
	Takes int64  `json:"takes"` // bytes
}

// How old the lists of what the sources offer are.
const (
	ListsFresh = "fresh"
	ListsOld   = "old"
	ListsNone  = "none"
)

// PackageGoal is a package that a step installs. Version is "" where the plan
// could not know it yet; then Exactly and AtLeast say which it may be.
type PackageGoal struct {
	Name    string `json:"name"`
	Version string `json:"version,omitempty"`
	From    string `json:"from,omitempty"` // the version that is there, of one that is changed
	Exactly string `json:"exactly,omitempty"`
	AtLeast string `json:"at_least,omitempty"`
}

// Pick is the version to be installed of those that the sources offer, the one
// that they would take first; "" where none will do.
func Pick(offered []string, exactly string) string {
	for _, v := range offered {
		if exactly == "" || MeetsExactly(v, exactly) {
			return v
		}
	}
	return ""
}

// PackageWork installs packages in one transaction, or removes one, or carries on with
// what was interrupted, or installs one again of which files are gone; both at Version, the one that is
// there where a source offers that. With are the packages that go along. Refresh says
// that the sources' lists are read anew first.
type PackageWork struct {
	Install []PackageGoal `json:"install,omitempty"`
	Remove  string        `json:"remove,omitempty"`
	With    []string      `json:"with,omitempty"`
	Finish  string        `json:"finish,omitempty"`
	Again   string        `json:"again,omitempty"`
	Version string        `json:"version,omitempty"`
	Refresh bool          `json:"refresh,omitempty"`
}

// There says whether something of the package is on the host beside its
// configuration.
func (f PackageFound) There() bool { return f.State != "absent" && f.State != "config-files" }

var _ = Register(Kind{
	Type: "package", After: []string{"source"},
	WayIn: workOnWay(func(way *Way, w PackageWork) bool {
		return way.OnPackages(append(append(w.Names(), w.Remove), w.With...)...)
	}),
	Off: func(raw json.RawMessage) []string {
		w, _ := last[PackageWork](raw)
		return append(slices.Clone(w.With), w.Remove)
	},
	Rehearsal: `packages = ["cron"]`,
	Settings: []declare.Setting{
		declare.Value[[]string]("packages", "Packages that are installed.", "", `["curl"]`),
		declare.Table[Package]("package", "NAME", "Packages of which there is more to say, by name.", `{ telnet = { is = "gone" } }`),
	},
	Check: checkPackages,
	Wanted: func(w *Wanting) error {
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			for i, p := range declare.Get[[]string](s, "packages") {
				w.Package(PackageWant{Name: p}, at("packages", strconv.Itoa(i)))
			}
			list := declare.Get[map[string]*Package](s, "package")
			for _, n := range sortedKeys(list) {
				if name, p := w.Named(n, list[n].Names), list[n]; name != "" {
					w.Package(PackageWant{Name: name, Gone: p.Is == "gone", Newest: p.Is == "newest", Version: p.Version, AtLeast: p.AtLeast}, at("package", n))
				}
			}
		})
		return nil
	},
	Finish: func(w *Wanting) {
		g, sources := gathering[packages](w, "package"), w.of("source")
		for _, s := range g.stakes {
			s.For, s.After = g.sites[s.Name], sources
			w.Want(s)
		}
	},
	Claims: Claiming(func(w PackageWant) []Claim {
		if w.Gone {
			return []Claim{{Need: Leaves, Sort: ClaimPackage, What: w.Name}}
		}
		return []Claim{{Need: Owns, Sort: ClaimPackage, What: w.Name}}
	}),
	Judge: Judging(judgePackage), Away: Judging(awayPackage),
	AskedAway: func(want json.RawMessage, goes bool) json.RawMessage { // what would go with it
		w, _ := last[PackageWant](want)
		return JSON(PackageWant{Name: w.Name, Gone: goes, Whole: goes})
	},
	Follows: true, Passing: []string{"short", "lists", "lists_at"},
	Join: joinPackages,
	Within: workWithin(func(planned, now PackageWork) bool {
		shown := func(g PackageGoal) bool { return slices.Contains(planned.Install, g) }
		same := now.Remove == planned.Remove && now.Finish == planned.Finish && now.Again == planned.Again && now.Version == planned.Version
		return same && !slices.ContainsFunc(now.Install, func(g PackageGoal) bool { return !shown(g) }) &&
			!slices.ContainsFunc(now.With, func(n string) bool { return !slices.Contains(planned.With, n) })
	}),
})

// packages is what is gathered of packages: their stakes, and the sites that alone
// call for one, by its name on the host.
type packages struct {
	stakes []Stake
	sites  map[string][]string
}

func (g *packages) find(name string) *Stake {
	if i := slices.IndexFunc(g.stakes, func(s Stake) bool { return s.Name == name }); i >= 0 {
		return &g.stakes[i]
	}
	return nil
}

// Package wants a package. What is nearer to the host goes over what its kits say, but
// a mention alone leaves the version that was declared before.
func (w *Wanting) Package(want PackageWant, from declare.Position) {
	g := gathering[packages](w, "package")
	before := g.find(want.Name)
	if before == nil {
		g.stakes = append(g.stakes, Stake{Type: "package", Name: want.Name, Want: JSON(want), From: from})
		return
	}
	if PackageGone(before.Want) || want != (PackageWant{Name: want.Name}) {
		before.Want = JSON(want)
	}
	before.From = from
}

// PackageFor wants a package that a site calls for, and returns the name of its stake.
func (w *Wanting) PackageFor(site, name string, from declare.Position) string {
	g := gathering[packages](w, "package")
	if g.sites == nil {
		g.sites = map[string][]string{}
	}
	before := g.find(name)
	known := before != nil
	if known && PackageGone(before.Want) {
		w.contradicts(Local("package", name), before.From, from, fmt.Sprintf("package %s is to be gone, and site %s needs it", name, site))
	}
	if !known {
		w.Package(PackageWant{Name: name}, from)
	}
	if !known || len(g.sites[name]) > 0 {
		g.sites[name] = append(g.sites[name], site)
	}
	return Local("package", name)
}

func checkPackages(c *check.Checker, s declare.Settings, at []string) {
	listed := declare.Get[[]string](s, "packages")
	for i, p := range listed {
		if !form.Package.MatchString(p) {
			c.Say(check.At(at, "packages", strconv.Itoa(i)), fmt.Sprintf("%q is not a package name", p), "use letters, digits and + . - _; one of another architecture than the host's is written like libc6:i386")
		}
	}
	table := declare.Get[map[string]*Package](s, "package")
	for _, name := range sortedKeys(table) {
		p, here := table[name], check.At(at, "package", name)
		if !form.Package.MatchString(name) {
			c.Say(here, fmt.Sprintf("%q is not a package name", name), "use letters, digits and + . - _; one of another architecture than the host's is written like libc6:i386")
		}
		if slices.Contains(listed, name) {
			c.Say(here, fmt.Sprintf("package %s stands in packages as well", name), "keep one of the two")
		}
		c.Names(p.Names, check.At(here, "names"), form.Package, "package")
		for k, v := range map[string]string{"version": p.Version, "at_least": p.AtLeast} {
			switch {
			case v == "":
			case !form.Version.MatchString(v):
				c.Say(check.At(here, k), fmt.Sprintf("%q is not a version", v), "write it as the package manager has it, such as \"1.22.1\"")
			case p.Is == "gone" || p.Is == "newest":
				c.Say(check.At(here, k), fmt.Sprintf("a package that is %s has no version that is wanted", p.Is), "keep one of is and "+k)
			}
		}
		if p.Version != "" && p.AtLeast != "" {
			c.Say(check.At(here, "at_least"), "a package is wanted in exactly a version, or in at least one", "keep one of version and at_least")
		}
	}
}

func judgePackage(in Input, w PackageWant, f PackageFound) Verdict {
	if w.Gone {
		return judgeGonePackage(in, w, f)
	}
	var d differences
	switch {
	case f.State != "installed":
		d.add("state", "installed", f.State)
	case f.Unmet:
		d.add("version", w.versionWords(), f.Version)
	case len(f.Lacks) > 0:
		d.add("files", "all there", lackWords(f.Lacks))
	case w.Newest && !f.ListsAt.IsZero():
		return Verdict{Rests: "the newest by lists of " + listsWords(f.ListsAt)}
	default:
		return Verdict{}
	}
	v := Verdict{Differences: d, Gone: !f.There()}
	switch {
	case f.There() && f.State != "installed":
		v.Moves = []Move{finishMove(w, f)}
		return v
	case !f.Unmet && len(f.Lacks) > 0 && f.Candidate == "" && !in.Pending && f.Lists == ListsFresh:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("of package %s %s, and no package source of this host offers it in the version that is there, %s", w.Name, lackWords(f.Lacks), f.Version),
			"declare a version that one offers, or a source that has it"}}
		return v
	case !f.Unmet && len(f.Lacks) > 0:
		work := PackageWork{Again: w.Name, Version: f.Version, Refresh: f.Candidate == ""}
		m := Move{Verb: "install", Text: fmt.Sprintf("install package %s %s again: %s", w.Name, f.Version, lackWords(f.Lacks)),
			Because: "it restarts its services where its own scripts do that", Work: JSON(work)}
		m.arm(work)
		v.Moves = []Move{m}
		return v
	}
	goal := PackageGoal{Name: w.Name, Version: f.Candidate}
	if f.Candidate == "" {
		goal.Exactly, goal.AtLeast = w.Version, w.AtLeast
	}
	if f.Unmet {
		goal.From = f.Version
	}
	work := PackageWork{Install: []PackageGoal{goal}, Refresh: f.Lists == ListsOld || f.Lists == ListsNone}
	switch {
	case f.Older && w.Version == "" && (work.Refresh || in.Pending):
		work.Install[0].Version, work.Install[0].AtLeast = "", w.AtLeast // another look may find it
		f.Older = false
	case f.Older && w.Version == "":
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("the sources offer %s %s at most, which is older than %s", w.Name, f.Candidate, w.versionWords()), "declare a source that has it, or another version"}}
		return v
	case f.Candidate != "" || in.Pending || work.Refresh:
	default:
		v.Blockers = []Note{noSource(in, w, f)}
		return v
	}
	switch {
	case f.Held && f.Unmet:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("package %s is held at %s on this host: somebody has made sure that it stays", w.Name, f.Version), "ask who did that, and let go of it (apt-mark unhold), or declare that version"}}
		return v
	case f.Refused != "":
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("package %s cannot be installed: %s", w.Name, f.Refused), "declare what goes together, or what has to go first as gone"}}
		return v
	}
	if len(f.With) > 0 {
		work.With, v.Takes = f.With, locals("package", f.With)
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("installing %s removes %s", w.Name, strings.Join(f.With, ", ")), "they exclude each other: declare which of them is wanted"})
	}
	switch s := f.Short; {
	case s == nil:
	case s.Takes > 0:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s has %s free, and the packages of this plan take %s with all that they bring along", s.Path, Bytes(s.Free), Bytes(s.Takes)), "make room on the host"}}
		return v
	default:
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s has only %s free for packages", s.Path, Bytes(s.Free)), "make room before the run"})
	}
	if f.Older {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s goes back from %s to %s", w.Name, f.Version, f.Candidate), "what the newer version has written may not be readable for the older one"})
	}
	v.Cautions = append(v.Cautions, wrongClock(in)...)
	v.Moves = []Move{installMove(work)}
	return v
}

// finishMove carries on with an installation that was interrupted, in the version that was to come where a
// source offers that.
func finishMove(w PackageWant, f PackageFound) Move {
	work := PackageWork{Finish: w.Name, Version: cmp.Or(f.Candidate, f.Version)}
	m := Move{Verb: "finish", Text: fmt.Sprintf("finish installing package %s, which is %s", w.Name, f.State), Because: "an installation was interrupted", Work: JSON(work)}
	if f.Candidate != "" && f.Version != "" && f.Candidate != f.Version {
		m.Text += fmt.Sprintf(", in version %s", f.Candidate)
		m.Because += fmt.Sprintf(", and no source offers %s, which it was of", f.Version)
	}
	m.arm(work)
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
func wrongClock(in Input) []Note {
	skew, err := time.ParseDuration(in.Traits.ClockSkew)
	if err != nil || skew.Abs() < clockLimit {
		return nil
	}
	way := "ahead"
	if skew < 0 {
		way = "behind"
	}
	return []Note{{in.Stake.Address(), fmt.Sprintf("the host's clock is %s %s: lists that are signed may be refused as not valid yet, or no longer", skew.Abs(), way), "set the clock first"}}
}

// versionWords says which version is wanted.
func (w PackageWant) versionWords() string {
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

func noSource(in Input, w PackageWant, f PackageFound) Note {
	n := Note{Address: in.Stake.Address(), What: fmt.Sprintf("no package source of this host offers %s", w.Name), Fix: "check the name"}
	if len(f.Offered) > 0 {
		n.What += fmt.Sprintf(" %s: there is %s", w.versionWords(), strings.Join(f.Offered, ", "))
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
		n.Fix += fmt.Sprintf("; what was published since is there after: northstake act refresh-lists --on %s", in.Stake.Host)
	}
	return n
}

func locals(typ string, names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = Local(typ, n)
	}
	return out
}

// awayPackage removes a package that nothing needs but what goes with the same plan.
func awayPackage(in Input, w PackageWant, f PackageFound) Verdict {
	if w.Gone { // it was declared to be gone, and nothing was made
		return Verdict{Gone: true}
	}
	v := judgeGonePackage(in, w, f)
	needs := f.NeededBy
	for _, with := range f.With {
		goes := func(p PackageWant) bool { return p.Name == with }
		if !slices.ContainsFunc(leaving[PackageWant](in.Leaving, "package", in.Memo), goes) {
			needs = append(needs, with)
		}
	}
	declared := map[string]bool{}
	for _, p := range of[PackageWant](in.Declared, "package", in.Memo) {
		declared[p.Name] = declared[p.Name] || !p.Gone
	}
	along := slices.DeleteFunc(slices.Clone(f.Orphans), func(n string) bool { return declared[n] })
	for _, s := range in.Traits.WebServers {
		if others := servedFor(in, s.Program); s.Package == w.Name && len(others) > 0 {
			return Verdict{Cautions: []Note{{in.Stake.Address(), fmt.Sprintf("package %s stays: it serves what %s says", w.Name, servedWords(others)), "take that away first, or leave it"}}}
		}
	}
	if f.Held && f.There() {
		return Verdict{Cautions: []Note{{in.Stake.Address(), fmt.Sprintf("package %s stays: it is held on this host", w.Name), "let go of it (apt-mark unhold), or leave it"}}}
	}
	if len(v.Blockers)+len(needs) > 0 {
		why := cmp.Or(strings.Join(needs, ", "), "something") + " needs it"
		return Verdict{Cautions: []Note{{in.Stake.Address(), fmt.Sprintf("package %s stays: %s", w.Name, why), "take those away first, or leave it"}}}
	}
	if len(along) > 0 && len(v.Moves) > 0 {
		v.Moves[0].Text += fmt.Sprintf(", and what came along with it: %s", strings.Join(along, ", "))
		v.Moves[0].Work = JSON(PackageWork{Remove: w.Name, With: append(slices.Clone(f.With), along...)})
	}
	return v
}

func judgeGonePackage(in Input, w PackageWant, f PackageFound) Verdict {
	if !f.There() {
		return Verdict{Gone: true}
	}
	if f.Refused != "" {
		n := Note{in.Stake.Address(), fmt.Sprintf("package %s cannot go: %s", w.Name, f.Refused), "leave it, or declare those that need it as gone"}
		if len(f.NeededBy) > 0 {
			n.What = fmt.Sprintf("package %s cannot go: %s needs it", w.Name, strings.Join(f.NeededBy, ", "))
		}
		return Verdict{Differences: []Difference{{"state", "gone", f.State}}, Blockers: []Note{n}}
	}
	if f.Held {
		return Verdict{Differences: []Difference{{"state", "gone", f.State}}, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("package %s is held on this host: somebody has made sure that it stays", w.Name), "ask who did that, and let go of it (apt-mark unhold)"}}}
	}
	text := fmt.Sprintf("remove package %s %s", w.Name, f.Version)
	if len(f.With) > 0 {
		text += ", and with it " + strings.Join(f.With, ", ")
	}
	return Verdict{Differences: []Difference{{"state", "gone", f.State}}, Takes: append(locals("package", f.With), locals("service", f.Services)...),
		Moves: []Move{{Verb: "remove", Text: text, Work: JSON(PackageWork{Remove: w.Name, With: f.With})}}}
}

// installMove installs packages in one transaction.
func installMove(w PackageWork) Move {
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
	m := Move{Verb: "install", Text: "install package " + strings.TrimSuffix(words[0], ","), Work: JSON(w), Joins: true}
	if len(words) > 1 {
		m.Text = fmt.Sprintf("install %d packages: %s", len(words), strings.Join(words, ", "))
	}
	m.arm(w)
	if len(w.With) > 0 {
		m.Text += ", which removes " + strings.Join(w.With, ", ")
	}
	if w.Refresh {
		m.Because = "the lists of what the sources offer are too old, or not there: they are read first"
	}
	return m
}

// arm has a step held that brings a firewall program: it may begin to filter as soon as it is there.
func (m *Move) arm(w PackageWork) {
	if slices.ContainsFunc(w.Names(), FiltersItself) {
		m.Confirm, m.Details = true, []Detail{armed}
	}
}

// joinPackages makes one transaction of several.
func joinPackages(moves []Move) Move {
	var all PackageWork
	for _, m := range moves {
		w, _ := last[PackageWork](m.Work)
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

// MeetsExactly says whether a version that a family has is the one that is
// wanted: the same, or the same but for the family's own revision behind it and
// epoch before it ("1:1.22.1-9+deb12u2" is 1.22.1).
func MeetsExactly(version, wanted string) bool {
	if version == wanted {
		return true
	}
	_, bare, ok := strings.Cut(version, ":")
	if !ok {
		bare = version
	}
	for _, v := range []string{version, bare} {
		if i := strings.LastIndexByte(v, '-'); v == wanted || i > 0 && v[:i] == wanted {
			return true
		}
	}
	return false
}

// Names lists the packages that a step installs, once more or to the end as well.
func (w PackageWork) Names() []string {
	var out []string
	for _, g := range w.Install {
		out = append(out, g.Name)
	}
	for _, n := range []string{w.Finish, w.Again} {
		if n != "" {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}
