package wire

import (
	"path"
	"slices"
	"strings"
)

// Access is how the service gets in to a host over its SSH service, and what that rests on there.
type Access struct {
	User string // that it logs in as
	Sudo bool   // it goes on as root by sudo

	Paths    []Path   // with all that lies below them
	UnitDirs []Path   // where units are changed
	Units    []string // patterns of what lies there that it rests on
	Services []string
	Packages []string
	Entrance []string // packages without which nobody gets in; sudo is one where it is gone on by
}

// RestsOnPath says whether the way in rests on what lies at a path, or above or below it.
func (a *Access) RestsOnPath(p Path) bool {
	if slices.ContainsFunc(a.Paths, p.Meets) {
		return true
	}
	return slices.ContainsFunc(a.UnitDirs, func(dir Path) bool {
		for at := p; at.Below(dir); at = at.Dir() {
			if a.unit(at.Base()) {
				return true
			}
		}
		return false
	})
}

func (a *Access) unit(name string) bool {
	return slices.ContainsFunc(a.Units, func(pattern string) bool {
		is, err := path.Match(pattern, name)
		return is || err != nil
	})
}

// RestsOnService says whether the way in rests on a service, or on a firewall that shuts everybody out as it starts.
func (a *Access) RestsOnService(name string) bool {
	return slices.Contains(a.Services, strings.TrimSuffix(name, ".service")) || FiltersItself(name)
}

// RestsOnPackages says whether it rests on one of some packages.
func (a *Access) RestsOnPackages(names ...string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return slices.Contains(a.Packages, n) })
}

// EntersBy says whether the service gets in by a package.
func (a *Access) EntersBy(pkg string) bool {
	return slices.Contains(a.Entrance, pkg) && (pkg != "sudo" || a.Sudo)
}
