package wire

import (
	"path"
	"slices"
	"strings"
)

// Way is how the service gets in to a host over its SSH service, and what that rests on there.
type Way struct {
	User string // that it logs in as
	Sudo bool   // it goes on as root by sudo

	Paths    []string // with all that lies below them
	UnitDirs []string // where units are changed
	Units    []string // patterns of what lies there that it rests on
	Services []string
	Packages []string
	Entrance []string // packages without which nobody gets in; sudo is one where it is gone on by
}

// OnPath says whether the way in rests on what lies at a path, or above or below it.
func (w *Way) OnPath(p string) bool {
	if slices.ContainsFunc(w.Paths, func(at string) bool {
		return p == at || strings.HasPrefix(p, at+"/") || strings.HasPrefix(at, p+"/")
	}) {
		return true
	}
	return slices.ContainsFunc(w.UnitDirs, func(dir string) bool {
		rest, in := strings.CutPrefix(p, dir+"/")
		return in && slices.ContainsFunc(strings.Split(rest, "/"), w.unit)
	})
}

func (w *Way) unit(name string) bool {
	return slices.ContainsFunc(w.Units, func(pattern string) bool {
		is, err := path.Match(pattern, name)
		return is || err != nil
	})
}

// OnService says whether the way in rests on a service, or on a firewall that shuts everybody out as it starts.
func (w *Way) OnService(name string) bool {
	return slices.Contains(w.Services, strings.TrimSuffix(name, ".service")) || FiltersItself(name)
}

// OnPackages says whether it rests on one of some packages.
func (w *Way) OnPackages(names ...string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return slices.Contains(w.Packages, n) })
}

// Through says whether the service gets in by a package.
func (w *Way) Through(pkg string) bool {
	return slices.Contains(w.Entrance, pkg) && (pkg != "sudo" || w.Sudo)
}
