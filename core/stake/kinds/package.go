package kinds

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Package says how a package should be.
type Package struct {
	Is      string            `toml:"is" json:"is,omitempty" enum:"installed,gone,newest" default:"installed" example:"\"gone\""`
	Version string            `toml:"version" json:"version,omitempty" default:"any" example:"\"1.22.1\""`
	AtLeast string            `toml:"at_least" json:"at_least,omitempty" default:"any" example:"\"1.22\""`
	Names   map[string]string `toml:"names" each:"FAMILY" json:"names,omitempty" example:"{ redhat = \"cronie\" }"`
}

var _ = declare.Explain[Package](map[string]string{
	"is":       "Whether it is installed in whatever version, in the newest one that the sources offer, or gone.",
	"version":  "Exactly which version is installed, with or without the family's own revision behind it.",
	"at_least": "The oldest version that will do.",
	"names":    "Its name on families of systems where that is another, such as { redhat = \"cronie\" }; an empty name leaves the package out there.",
})

// VersionsDeclared lists the packages of some stakes whose version is declared.
func VersionsDeclared(stakes []stake.Stake) []string {
	var out []string
	for _, s := range stakes {
		var w wire.PackageWant
		if s.Type == "package" && json.Unmarshal(s.Want, &w) == nil && w.Version != "" {
			out = append(out, w.Name)
		}
	}
	return out
}

var _ = stake.Register(stake.Kind{
	Type:      "package",
	After:     []string{"source"},
	Rehearsal: `packages = ["cron"]`,
	Settings: []declare.Setting{
		declare.Value[[]string]("packages", "Packages that are installed.", "", `["curl"]`),
		declare.Table[Package]("package", "NAME", "Packages of which there is more to say, by name.", `{ telnet = { is = "gone" } }`),
	},
	Check: checkPackages,
	Wanted: func(w *stake.Wanting) error {
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			for i, p := range declare.Get[[]string](s, "packages") {
				wantPackage(w, wire.PackageWant{Name: p}, at("packages", strconv.Itoa(i)))
			}
			list := declare.Get[map[string]*Package](s, "package")
			for _, n := range stake.SortedKeys(list) {
				if name, p := w.Named(n, list[n].Names), list[n]; name != "" {
					wantPackage(w, wire.PackageWant{Name: name, Gone: p.Is == "gone", Newest: p.Is == "newest", Version: p.Version, AtLeast: p.AtLeast}, at("package", n))
				}
			}
		})
		return nil
	},
	Finish: func(w *stake.Wanting) {
		g, sources := stake.Gathering[packages](w, "package"), w.Locals("source")
		for _, s := range g.stakes {
			s.For, s.After = g.sites[s.Name], sources
			w.Want(s)
		}
	},
	Claims: stake.Claiming(func(w wire.PackageWant) []claim.Claim {
		if w.Gone {
			return []claim.Claim{{Need: claim.Leaves, Sort: claim.Package, What: w.Name}}
		}
		return []claim.Claim{{Need: claim.Owns, Sort: claim.Package, What: w.Name}}
	}),
})

// packages is what is gathered of packages: their stakes, and the sites that alone
// call for one, by its name on the host.
type packages struct {
	stakes []stake.Stake
	sites  map[string][]string
}

func (g *packages) find(name string) *stake.Stake {
	if i := slices.IndexFunc(g.stakes, func(s stake.Stake) bool { return s.Name == name }); i >= 0 {
		return &g.stakes[i]
	}
	return nil
}

// wantPackage wants a package. What is nearer to the host goes over what its kits say, but
// a mention alone leaves the version that was declared before.
func wantPackage(w *stake.Wanting, want wire.PackageWant, from declare.Position) {
	g := stake.Gathering[packages](w, "package")
	before := g.find(want.Name)
	if before == nil {
		g.stakes = append(g.stakes, stake.Stake{Type: "package", Name: want.Name, Want: wire.JSON(want), From: from})
		return
	}
	if wire.PackageGone(before.Want) || want != (wire.PackageWant{Name: want.Name}) {
		before.Want = wire.JSON(want)
	}
	before.From = from
}

// wantPackageFor wants a package that a site calls for, and returns the name of its stake.
func wantPackageFor(w *stake.Wanting, site, name string, from declare.Position) string {
	g := stake.Gathering[packages](w, "package")
	if g.sites == nil {
		g.sites = map[string][]string{}
	}
	before := g.find(name)
	known := before != nil
	if known && wire.PackageGone(before.Want) {
		w.Contradicts(wire.Local("package", name), before.From, from, fmt.Sprintf("package %s is to be gone, and site %s needs it", name, site))
	}
	if !known {
		wantPackage(w, wire.PackageWant{Name: name}, from)
	}
	if !known || len(g.sites[name]) > 0 {
		g.sites[name] = append(g.sites[name], site)
	}
	return wire.Local("package", name)
}

func checkPackages(c *check.Checker, s declare.Settings, at []string) {
	listed := declare.Get[[]string](s, "packages")
	for i, p := range listed {
		if !form.Package.MatchString(p) {
			c.Say(check.At(at, "packages", strconv.Itoa(i)), fmt.Sprintf("%q is not a package name", p), "use letters, digits and + . - _; one of another architecture than the host's is written like libc6:i386")
		}
	}
	table := declare.Get[map[string]*Package](s, "package")
	for _, name := range stake.SortedKeys(table) {
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
