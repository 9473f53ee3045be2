package stake

import (
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/wire"
)

// Service says how a service should be.
type Service struct {
	Running *bool `toml:"running" json:"running,omitempty" default:"left alone" example:"true"`
	AtBoot  *bool `toml:"at_boot" json:"at_boot,omitempty" default:"left alone" example:"true"`

	Names map[string]string `toml:"names" each:"FAMILY" json:"names,omitempty" example:"{ redhat = \"crond\" }"`
}

var _ = declare.Explain[Service](map[string]string{
	"running": "Whether it runs now.",
	"at_boot": "Whether it starts at boot.",
	"names":   "Its name on families of systems where that is another, such as { redhat = \"crond\" }; an empty name leaves the service out there.",
})

var _ = Register(Kind{
	Type:      "service",
	After:     []string{"site"},
	Rehearsal: `service = { cron = { running = true, at_boot = true }, nftables = { at_boot = true } }`,
	Settings: []declare.Setting{
		declare.Value[[]string]("services", "Services that run, and start at boot. What is nearer to a host wins: its own list or table over those of its kits, a later kit over an earlier one.", "", `["cron"]`),
		declare.Table[Service]("service", "NAME", "Services of which there is more to say, by name. A table says of a service what is to be otherwise: it wins over the list of a kit, and the half that it leaves out stays as that has it.", `{ cron = { running = true, at_boot = false } }`),
	},
	Check: checkServices,
	Wanted: func(w *Wanting) error {
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			yes := true
			for i, n := range declare.Get[[]string](s, "services") {
				wantService(w, n, &yes, &yes, at("services", strconv.Itoa(i)))
			}
			list := declare.Get[map[string]*Service](s, "service")
			for _, n := range sortedKeys(list) {
				if name := w.Named(n, list[n].Names); name != "" {
					wantService(w, name, list[n].Running, list[n].AtBoot, at("service", n))
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
				if brings(path.Base(f), name) {
					after = append(after, f)
				}
			}
			w.Want(Stake{Type: "service", Name: name, Want: wire.JSON(s.want), From: s.from, For: s.sites, Needs: unique(s.needs), After: after})
		}
	},
	Claims: Claiming(func(w wire.ServiceWant) []Claim {
		if w.Running == nil && w.AtBoot == nil {
			return []Claim{{Need: Requires, Sort: ClaimService, What: w.Name}}
		}
		return []Claim{{Need: Owns, Sort: ClaimService, What: w.Name}}
	}),
})

var _ = Judged("service", Judgement{
	Nothing: func(want json.RawMessage) bool {
		w, ok := last[wire.ServiceWant](want)
		return ok && !wants(w.Running, true) && !wants(w.AtBoot, true)
	},
	MayCutAccess: func(access *wire.Access, name string, _ json.RawMessage) bool { return access.RestsOnService(name) },
	Judge:        Judging(judgeService),
	Follows:      true,
	Nudged:       nudgedService,
	Unwanted:     unwantedService,
	Away:         Judging(awayService),
	Paths:        workAt[wire.ServiceWork],
	Within: workWithin(func(planned, now wire.ServiceWork) bool {
		boot := now.AtBoot == nil || planned.AtBoot != nil && *now.AtBoot == *planned.AtBoot
		told := now.Now == "" || now.Now == "stop" && planned.Away || now.Now == planned.Now || now.Now == planned.Nudge || now.Now == "reload" || now.Now == "start" || now.Now == "restart" && planned.Now == "start"
		return boot && told && (!now.Unmask || planned.Unmask) && (!now.SetDrop || planned.SetDrop && maps.Equal(now.DropIns, planned.DropIns))
	}),
})

// brings says whether a file of that name is the unit, or the template of the unit, of a service, timer
// or socket (systemd.unit(5)), or the script of a service.
func brings(file, name string) bool {
	plain := strings.TrimSuffix(file, path.Ext(file))
	if template, one, ok := strings.Cut(name, "@"); ok {
		name = template + "@" + path.Ext(one)
	}
	return file == name || plain == name
}

// services is what is gathered of services, in the order in which they were first
// wanted.
type services struct {
	byName map[string]*wantedService
	order  []string
}

type wantedService struct {
	want  wire.ServiceWant
	from  declare.Position
	needs []string
	sites []string // that alone call for it
}

// wantService wants a service to be as is said, nil leaving a half alone; what is nearer
// to the host comes later.
func wantService(w *Wanting, name string, running, atBoot *bool, from declare.Position) {
	g := gathering[services](w, "service")
	if g.byName == nil {
		g.byName = map[string]*wantedService{}
	}
	s := g.byName[name]
	if s == nil {
		s = &wantedService{want: wire.ServiceWant{Name: name}, from: from}
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

// wantServiceFor wants a service that serves a site, with a program, to run and to start at
// boot. It needs some stakes first.
// Ports are those on which it serves the site.
func wantServiceFor(w *Wanting, site, name, program string, ports []int, needs []string, from declare.Position) {
	g := gathering[services](w, "service")
	before := g.byName[name]
	declared := before != nil && len(before.sites) == 0
	if declared && (before.want.Running != nil && !*before.want.Running || before.want.AtBoot != nil && !*before.want.AtBoot) {
		w.contradicts(wire.Local("service", name), before.from, from, fmt.Sprintf("service %s is not to run, and site %s is served by it", name, site))
	}
	yes := true
	wantService(w, name, &yes, &yes, from)
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

// wantsService says whether a service is wanted in any way.
func wantsService(w *Wanting, name string) bool {
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
	named := func(name string, here []string) {
		if !form.Service.MatchString(name) {
			c.Say(here, fmt.Sprintf("%q is not a service name", name), "use the unit's name without .service")
		} else if strings.HasSuffix(name, ".service") {
			c.Say(here, fmt.Sprintf("%q has its unit's ending", name), fmt.Sprintf("write %q", strings.TrimSuffix(name, ".service")))
		}
	}
	listed := declare.Get[[]string](s, "services")
	for i, name := range listed {
		named(name, check.At(at, "services", strconv.Itoa(i)))
	}
	table := declare.Get[map[string]*Service](s, "service")
	for _, name := range sortedKeys(table) {
		here := check.At(at, "service", name)
		c.Names(table[name].Names, check.At(here, "names"), form.Service, "service")
		named(name, here)
		if slices.Contains(listed, name) {
			c.Say(here, fmt.Sprintf("service %s stands in services as well", name), "keep one of the two")
		}
	}
}

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
