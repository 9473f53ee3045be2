package kinds

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
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

var _ = stake.Register(stake.Kind{
	Type:      "service",
	After:     []string{"site"},
	Rehearsal: `service = { cron = { running = true, at_boot = true }, nftables = { at_boot = true } }`,
	Settings: []declare.Setting{
		declare.Value[[]string]("services", "Services that run, and start at boot. What is nearer to a host wins: its own list or table over those of its kits, a later kit over an earlier one.", "", `["cron"]`),
		declare.Table[Service]("service", "NAME", "Services of which there is more to say, by name. A table says of a service what is to be otherwise: it wins over the list of a kit, and the half that it leaves out stays as that has it.", `{ cron = { running = true, at_boot = false } }`),
	},
	Check: checkServices,
	Wanted: func(w *stake.Wanting) error {
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			yes := true
			for i, n := range declare.Get[[]string](s, "services") {
				wantService(w, n, &yes, &yes, at("services", strconv.Itoa(i)))
			}
			list := declare.Get[map[string]*Service](s, "service")
			for _, n := range stake.SortedKeys(list) {
				if name := w.Named(n, list[n].Names); name != "" {
					wantService(w, name, list[n].Running, list[n].AtBoot, at("service", n))
				}
			}
		})
		return nil
	},
	Finish: func(w *stake.Wanting) {
		g, bring := stake.Gathering[services](w, "service"), w.Locals("package")
		files := append(w.Locals("file"), w.Locals("link")...)
		for _, name := range g.order {
			s, after := g.byName[name], slices.Clone(bring)
			for _, f := range files { // a declared file can be what makes the service known
				if brings(path.Base(f), name) {
					after = append(after, f)
				}
			}
			w.Want(stake.Stake{Type: "service", Name: name, Want: wire.JSON(s.want), From: s.from, For: s.sites, Needs: unique(s.needs), After: after})
		}
	},
	Claims: stake.Claiming(func(w wire.ServiceWant) []claim.Claim {
		if w.Running == nil && w.AtBoot == nil {
			return []claim.Claim{{Need: claim.Requires, Sort: claim.Service, What: w.Name}}
		}
		return []claim.Claim{{Need: claim.Owns, Sort: claim.Service, What: w.Name}}
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
func wantService(w *stake.Wanting, name string, running, atBoot *bool, from declare.Position) {
	g := stake.Gathering[services](w, "service")
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
func wantServiceFor(w *stake.Wanting, site, name, program string, ports []int, needs []string, from declare.Position) {
	g := stake.Gathering[services](w, "service")
	before := g.byName[name]
	declared := before != nil && len(before.sites) == 0
	if declared && (before.want.Running != nil && !*before.want.Running || before.want.AtBoot != nil && !*before.want.AtBoot) {
		w.Contradicts(wire.Local("service", name), before.from, from, fmt.Sprintf("service %s is not to run, and site %s is served by it", name, site))
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
func wantsService(w *stake.Wanting, name string) bool {
	return stake.Gathering[services](w, "service").byName[name] != nil
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
	for _, name := range stake.SortedKeys(table) {
		here := check.At(at, "service", name)
		c.Names(table[name].Names, check.At(here, "names"), form.Service, "service")
		named(name, here)
		if slices.Contains(listed, name) {
			c.Say(here, fmt.Sprintf("service %s stands in services as well", name), "keep one of the two")
		}
	}
}
