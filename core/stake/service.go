package stake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
)

// Service says how a service should be.
type Service struct {
	Running *bool `toml:"running" json:"running,omitempty" doc:"Whether it runs now." default:"left alone" example:"true"`
	AtBoot  *bool `toml:"at_boot" json:"at_boot,omitempty" doc:"Whether it starts at boot." default:"left alone" example:"true"`

	Names map[string]string `toml:"names" each:"FAMILY" json:"names,omitempty" doc:"Its name on families of systems where that is another, such as redhat = \"crond\"; an empty name leaves the service out there." example:"{ redhat = \"crond\" }"`
}

// ServiceWant is how a service should be; a nil pointer leaves that half alone.
type ServiceWant struct {
	Name    string `json:"name"`
	Running *bool  `json:"running,omitempty"`
	AtBoot  *bool  `json:"at_boot,omitempty"`
	Serves  string `json:"serves,omitempty"` // of one that serves sites, the name of its program
	Ports   []int  `json:"ports,omitempty"`  // on which it serves sites
}

// ServiceFound is what systemd says of a unit. Is is the unit's own name where the one
// that was asked for is another of it. Active is its ActiveState, Boot the unit file's state
// as read from disk (systemctl(1), is-enabled). Unsteady says that it ends and is started
// again, Ends that it does its work and is over, Wanted that something starts it at boot
// although it has no state of its own there; Starters start it when they are asked. DropIns
// maps the files that change the unit to the SHA-256 of their text, with the mode where that
// is unusual, or with where a link leads.
type ServiceFound struct {
	Known   bool              `json:"known"`
	Is      string            `json:"is,omitempty"`
	Active  string            `json:"active"`
	Boot    string            `json:"boot"`
	DropIns map[string]string `json:"drop_ins,omitempty"`

	Unsteady bool     `json:"unsteady,omitempty"`
	Ends     bool     `json:"ends,omitempty"`
	Wanted   bool     `json:"wanted,omitempty"`
	Starters []string `json:"starters,omitempty"`
	NoReload bool     `json:"no_reload,omitempty"` // it takes notice of a change by a restart alone

	Touched Touch    `json:"touched,omitzero"`
	Near    []string `json:"near,omitempty"` // of an unknown one, units that are called alike
	Here    string   `json:"here,omitempty"` // of an unknown one, what the host's family calls it
}

// ServiceWork is what a step does to a service, in this order: bring drop-ins
// back to what they were, unmask, set what happens at boot, and then start,
// stop, reload or restart it.
type ServiceWork struct {
	Name    string            `json:"name"`
	Unmask  bool              `json:"unmask,omitempty"`
	AtBoot  *bool             `json:"at_boot,omitempty"`
	Now     string            `json:"now,omitempty"`      // start, stop, reload, restart
	Nudge   string            `json:"nudge,omitempty"`    // when it already runs by then
	DropIns map[string]string `json:"drop_ins,omitempty"` // nil leaves them
	SetDrop bool              `json:"set_drop,omitempty"`
	Away    bool              `json:"away,omitempty"` // it is not declared any more
}

var _ = Register(Kind{
	Type: "service", After: []string{"site"},
	Rehearsal: `services = { cron = { running = true, at_boot = true }, nftables = { at_boot = true } }`,
	Settings:  []declare.Setting{declare.Table[Service]("services", "NAME", "Services and how they should be.", `{ cron = { running = true, at_boot = true } }`)},
	Check:     checkServices,
	Wanted: func(w *Wanting) error {
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			list := declare.Get[map[string]*Service](s, "services")
			for _, n := range sortedKeys(list) {
				if name := w.Named(n, list[n].Names); name != "" {
					w.Service(name, list[n].Running, list[n].AtBoot, at("services", n))
				}
			}
		})
		return nil
	},
	Finish: func(w *Wanting) {
		g, bring := gathering[services](w, "service"), w.of("package")
		files := append(w.of("file"), w.of("link")...)
		for _, name := range g.order {
			s, after := g.byName[name], slices.Clone(bring)
			for _, f := range files { // a declared file can be what makes the service known
				if base := path.Base(f); strings.TrimSuffix(base, path.Ext(base)) == name {
					after = append(after, f)
				}
			}
			w.Want(Stake{Type: "service", Name: name, Want: JSON(s.want), From: s.from, For: s.sites, Needs: unique(s.needs), After: after})
		}
	},
	Claims: Claiming(func(w ServiceWant) []Claim {
		if w.Running == nil && w.AtBoot == nil {
			return []Claim{{Need: Finds, Sort: ClaimService, What: w.Name}}
		}
		return []Claim{{Need: Owns, Sort: ClaimService, What: w.Name}}
	}),
	Judge: Judging(judgeService), Follows: true,
	Nudged: nudgedService, Unwanted: unwantedService, Away: Judging(awayService),
	Paths: func(work json.RawMessage) []string {
		w, _ := last[ServiceWork](work)
		return sortedKeys(w.DropIns)
	},
	Within: workWithin(func(planned, now ServiceWork) bool {
		boot := now.AtBoot == nil || planned.AtBoot != nil && *now.AtBoot == *planned.AtBoot
		told := now.Now == "" || now.Now == "stop" && planned.Away || now.Now == planned.Now || now.Now == planned.Nudge || now.Now == "reload" || now.Now == "start" || now.Now == "restart" && planned.Now == "start"
		return boot && told && (!now.Unmask || planned.Unmask) && (!now.SetDrop || planned.SetDrop && maps.Equal(now.DropIns, planned.DropIns))
	}),
})

// services is what is gathered of services, in the order in which they were first
// wanted.
type services struct {
	byName map[string]*wantedService
	order  []string
}

type wantedService struct {
	want  ServiceWant
	from  declare.Position
	needs []string
	sites []string // that alone call for it
}

// Service wants a service to be as is said, nil leaving a half alone; what is nearer
// to the host comes later.
func (w *Wanting) Service(name string, running, atBoot *bool, from declare.Position) {
	g := gathering[services](w, "service")
	if g.byName == nil {
		g.byName = map[string]*wantedService{}
	}
	s := g.byName[name]
	if s == nil {
		s = &wantedService{want: ServiceWant{Name: name}, from: from}
		g.byName[name] = s
		g.order = append(g.order, name)
	}
	if running != nil || atBoot != nil {
		s.from = from
	}
	if running != nil {
		s.want.Running = running
	}
	if atBoot != nil {
		s.want.AtBoot = atBoot
	}
}

// ServiceFor wants a service that serves a site, with a program, to run and to start at
// boot. It needs some stakes first.
// Ports are those on which it serves the site.
func (w *Wanting) ServiceFor(site, name, program string, ports []int, needs []string, from declare.Position) {
	g := gathering[services](w, "service")
	before := g.byName[name]
	declared := before != nil && len(before.sites) == 0
	if declared && (before.want.Running != nil && !*before.want.Running || before.want.AtBoot != nil && !*before.want.AtBoot) {
		w.contradicts(Local("service", name), before.from, from, fmt.Sprintf("service %s is not to run, and site %s is served by it", name, site))
	}
	yes := true
	w.Service(name, &yes, &yes, from)
	s := g.byName[name]
	s.want.Serves = program
	for _, p := range ports {
		if !slices.Contains(s.want.Ports, p) {
			s.want.Ports = append(s.want.Ports, p)
		}
	}
	if !declared {
		s.sites = append(s.sites, site)
	}
	s.needs = append(s.needs, needs...)
}

// WantsService says whether a service is wanted in any way.
func (w *Wanting) WantsService(name string) bool {
	return gathering[services](w, "service").byName[name] != nil
}

func unique(list []string) []string {
	seen := map[string]bool{}
	out := list[:0]
	for _, s := range list {
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	return out
}

func checkServices(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*Service](s, "services")
	for _, name := range sortedKeys(list) {
		here := check.At(at, "services", name)
		c.Names(list[name].Names, check.At(here, "names"), form.Service, "service")
		if !form.Service.MatchString(name) {
			c.Say(here, fmt.Sprintf("%q is not a service name", name), "use the unit's name without .service")
		} else if strings.HasSuffix(name, ".service") {
			c.Say(here, fmt.Sprintf("%q has its unit's ending", name), fmt.Sprintf("write %q", strings.TrimSuffix(name, ".service")))
		}
	}
}

func (f ServiceFound) running() bool {
	return (f.Active == "active" || f.Active == "reloading") && !f.Unsteady
}

// some says whether something of it runs, steadily or not.
func (f ServiceFound) some() bool { return f.running() || f.Unsteady || f.Active == "activating" }

func (f ServiceFound) masked() bool { return strings.HasPrefix(f.Boot, "masked") }

// atBoot says whether it starts at boot: by itself, or, of a unit without a state of its
// own there, because another starts it.
func (f ServiceFound) atBoot() bool {
	switch f.Boot {
	case "enabled":
		return true
	case "static", "generated", "indirect", "transient":
		return f.Wanted
	}
	return false
}

// bootable says whether the state at boot can be set.
func (f ServiceFound) bootable() bool {
	return f.Boot == "enabled" || f.Boot == "disabled" || f.Boot == "enabled-runtime" || f.Boot == "linked" || f.Boot == "" || f.masked()
}

func judgeService(in Input, w ServiceWant, f ServiceFound) Verdict {
	var d differences
	work := ServiceWork{Name: w.Name}
	v := Verdict{Touched: f.Touched, Gone: !f.Known || !f.some() && !f.atBoot()}
	if w.Running != nil || w.AtBoot != nil {
		v.Is = "service " + cmp.Or(f.Is, w.Name)
	}
	if f.masked() && ((w.Running != nil && *w.Running) || (w.AtBoot != nil && *w.AtBoot)) {
		d.add("masked", "no", "yes")
		work.Unmask = true
	}
	if w.AtBoot != nil {
		if at := f.atBoot(); at != *w.AtBoot {
			d.differ("at boot", yesNo(*w.AtBoot), bootWords(f))
			work.AtBoot = w.AtBoot
		}
	}
	switch {
	case w.Running == nil || f.Ends && *w.Running:
	case *w.Running && !f.running():
		d.differ("running", "yes", runWords(f))
		work.Now = map[bool]string{true: "restart", false: "start"}[f.Unsteady]
	case !*w.Running && f.some():
		d.differ("running", "no", runWords(f))
		work.Now = "stop"
	}
	judgeDropIns(in, f, &d, &work)
	v.Differences = d
	if w.Running != nil && !*w.Running && len(f.Starters) > 0 {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s is up, and starts %s when it is asked", strings.Join(f.Starters, ", "), w.Name), "stop that as well, by hand: North Stake keeps services alone"})
	}
	if w.Running != nil && *w.Running && f.Ends {
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s does its work and ends (it is a oneshot): it never runs for long", w.Name), "leave running out, and declare whether it starts at boot"}}
		v.Differences = append(d, Difference{"running", "yes", "it ends when it has done its work"})
		return v
	}
	if len(d) == 0 {
		if !f.Known && !in.Pending {
			v.Cautions = []Note{{in.Stake.Address(), fmt.Sprintf("no unit on this host is called %s, which a declared file is to reload or restart", w.Name), "check the name" + nearWords(f.Here, f.Near)}}
		}
		return v
	}
	if !f.Known && !in.Pending {
		fix := "check the name, or declare the package that brings it"
		if near := nearWords(f.Here, f.Near); near != "" {
			fix = strings.TrimPrefix(near, ": ")
		}
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("no unit on this host is called %s", w.Name), fix}}
		return v
	}
	if work.AtBoot != nil && f.Known && !f.bootable() {
		what := fmt.Sprintf("%s has no state at boot that could be set (it is %s)", w.Name, f.Boot)
		v.Blockers = []Note{{in.Stake.Address(), what, "leave at_boot out, or have what starts it be as you want it"}}
		return v
	}
	if first := in.Traits.FirstProcess; first != "" && w.AtBoot != nil && *w.AtBoot {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("whether %s comes up again with the host is a matter of its first process, %s, which is none that is known to start services", w.Name, first), "have that start it; else northstake restore does after each restart"})
	}
	if l := outside(in, w, f); l != nil && work.Now == "start" {
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s runs already, outside of the service manager (process %d), and holds port %d", l.Program, l.PID, l.Port), fmt.Sprintf("end it on %s: nobody starts it again, reloads it or keeps its log", in.Stake.Host)}}
		return v
	}
	for _, n := range in.Nudges {
		work.Nudge = stronger(work.Nudge, told(n.How, f))
	}
	if work.Now == "" && work.Nudge != "" && f.running() {
		work.Now, work.Nudge = work.Nudge, ""
	}
	verb, text := serviceWords(w.Name, work)
	move := Move{Verb: verb, Text: text, Because: reasons(in.Nudges, work), Work: JSON(work)}
	if FiltersItself(w.Name) && (work.Now == "start" || work.Now == "restart") {
		move.Confirm, move.Details = true, []Detail{armed}
	}
	v.Moves = []Move{move}
	if work.Unmask {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s is masked: somebody has made sure that it does not start", w.Name), "ask who did that, and why, before it is unmasked"})
	}
	return v
}

// unwantedService says whether a server that nothing declared needs any more holds a port on
// which a declared site listens with another, or has a site that did.
func unwantedService(gone Stake, in Around) (why, forStake string) {
	was, _ := last[ServiceWant](gone.Want)
	had := map[int]bool{}
	for _, p := range was.Ports {
		had[p] = true
	}
	for _, site := range leaving[SiteWant](in.Leaving, "site", in.Memo) {
		for _, p := range site.Listen {
			had[p] = had[p] || site.ServedBy() == gone.Local()
		}
	}
	for d, now := range of[SiteWant](in.Declared, "site", in.Memo) {
		if now.ServedBy() == gone.Local() {
			continue
		}
		for _, p := range now.Listen {
			if l := in.Traits.On(p); had[p] || l != nil && l.Program == was.Serves && l.Program != "" {
				return fmt.Sprintf("site %s listens on port %d with %s now", d.Name, p, now.By()), d.Local()
			}
		}
	}
	return "", ""
}

// awayService stops a service, and has it not start at boot.
func awayService(in Input, w ServiceWant, f ServiceFound) Verdict {
	work, off := ServiceWork{Name: w.Name, Away: true}, false
	if f.some() {
		work.Now = "stop"
	}
	if f.atBoot() && f.bootable() {
		work.AtBoot = &off
	}
	v := Verdict{Gone: work.Now == "" && work.AtBoot == nil}
	if !v.Gone {
		verb, text := serviceWords(w.Name, work)
		v.Moves = []Move{{Verb: verb, Text: text, Work: JSON(work)}}
		if in.Pending {
			v.Late = true
			v.Cautions = []Note{gap(in, w.Name)}
		}
	}
	return v
}

// gap is the caution that a server stops before the other one starts.
func gap(in Input, server string) Note {
	return Note{in.Stake.Address(), fmt.Sprintf("what %s serves is not served from the step that stops it until the next one, which starts the other server: for as long as these two take, a few seconds at most", server), "apply this when few are about"}
}

// outside is the program of a service that serves sites, where it listens although its
// service does not run.
func outside(in Input, w ServiceWant, f ServiceFound) *Listener {
	if w.Serves == "" || f.some() {
		return nil
	}
	contained := map[int]bool{} // ports of containers, whose programs may be called alike
	for _, site := range of[SiteWant](in.Declared, "site", in.Memo) {
		if site.Within != "" {
			for _, p := range site.Listen {
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
func judgeDropIns(in Input, f ServiceFound, d *differences, work *ServiceWork) {
	before, ok := last[ServiceFound](in.LastFound)
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
		if work.Now == "" && f.running() {
			work.Now = "restart"
		}
	}
}

// nearWords says what a name that is unknown on a host may mean: what the host's
// family calls it, and names that are like it.
func nearWords(here string, near []string) string {
	switch {
	case here != "":
		return fmt.Sprintf(": systems of this family call it %s; names can give both", here)
	case len(near) > 0:
		return ": there is " + strings.Join(near, ", ")
	}
	return ""
}

// told is how a service is told of a change: one that cannot reload is restarted.
func told(how string, f ServiceFound) string {
	if how == "reload" && f.NoReload {
		return "restart"
	}
	return how
}

func bootWords(f ServiceFound) string {
	switch {
	case f.masked():
		return "no, masked"
	case f.Boot == "":
		return "no such unit"
	case f.Boot == "enabled-runtime":
		return "only until the next restart"
	case f.Boot == "linked":
		return "no, only linked"
	case !f.bootable():
		return yesNo(f.atBoot()) + ", " + f.Boot
	}
	return yesNo(f.Boot == "enabled")
}

func runWords(f ServiceFound) string {
	if !f.Known {
		return "no such unit"
	}
	switch {
	case f.running():
		return "yes"
	case f.Unsteady || f.Active == "activating":
		return "no, it ends and is started again"
	}
	if f.Active == "failed" {
		return "no, it failed"
	}
	return "no"
}

func stronger(a, b string) string {
	if a == "restart" || b == "restart" {
		return "restart"
	}
	if a == "" {
		return b
	}
	return a
}

func serviceWords(name string, w ServiceWork) (verb, text string) {
	var parts []string
	if w.SetDrop {
		parts = append(parts, "put the drop-ins of "+name+" back")
	}
	if w.Unmask {
		parts = append(parts, "unmask "+name)
	}
	switch w.Now {
	case "start", "stop", "reload", "restart":
		parts = append(parts, w.Now+" "+name)
	}
	if w.AtBoot != nil && *w.AtBoot {
		parts = append(parts, "make "+name+" start at boot")
	} else if w.AtBoot != nil {
		parts = append(parts, "keep "+name+" from starting at boot")
	}
	text = parts[0]
	for _, p := range parts[1:] {
		text += ", " + strings.ReplaceAll(p, " "+name, " it")
	}
	return strings.Fields(parts[0])[0], text
}

func reasons(nudges []Nudge, w ServiceWork) string {
	if len(nudges) == 0 || (w.Now != "reload" && w.Now != "restart") {
		return ""
	}
	return because(nudges)
}

// because is why something takes notice, in words: a few reasons, each once.
func because(nudges []Nudge) string {
	seen := map[string]bool{}
	var out []string
	for _, n := range nudges {
		if !seen[n.Reason] {
			seen[n.Reason] = true
			out = append(out, n.Reason)
		}
	}
	const most = 3
	if more := len(out) - most; more > 0 {
		return fmt.Sprintf("%s; and %d more", strings.Join(out[:most], "; "), more)
	}
	return strings.Join(out, "; ")
}

// nudgedService reloads or restarts a service whose own stake is as declared.
func nudgedService(in Input) (*Move, error) {
	found, err := Decode[ServiceFound](in.Memo, "found "+in.Stake.Local(), in.Found)
	if err != nil {
		return nil, err
	}
	if !found.running() && !in.Pending {
		return nil, nil // it takes notice when somebody starts it
	}
	work := ServiceWork{Name: in.Stake.Name}
	for _, n := range in.Nudges {
		work.Now = stronger(work.Now, told(n.How, found))
	}
	why := reasons(in.Nudges, work)
	return &Move{Verb: work.Now, Text: work.Now + " " + in.Stake.Name, Because: why, Work: JSON(work)}, nil
}
