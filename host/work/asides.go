package work

import (
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"northstake/core/wire"
)

// asides are the endings of files in which a package manager leaves one of two texts of a configuration
// file that somebody has changed: what the package brings, or what was there (dpkg(1), --force-confold;
// rpm's %config).
var asides = map[string]string{
	".dpkg-dist": "was changed here, and is left as it is; what its package brings now lies in",
	".rpmnew":    "was changed here, and is left as it is; what its package brings now lies in",
	".dpkg-old":  "is what its package brings now; what was there lies in",
	".rpmsave":   "is what its package brings now, or gone with it; what was there lies in",
}

// asidesOf are those that lie where packages have their configuration, and when each was last changed.
func asidesOf(m *Host) map[wire.Path]time.Time {
	out := map[wire.Path]time.Time{}
	_ = filepath.WalkDir(m.Path("/etc"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || asides[filepath.Ext(path)] == "" {
			return nil // what cannot be looked at is none that is told of
		}
		own := m.Own(path)
		out[own], _ = m.ChangedAt(own)
		return nil
	})
	return out
}

// tellingAsides does what may change packages, and says which configuration files were put aside by it.
func tellingAsides(m *Host, j Job, do func() error) error {
	before := asidesOf(m)
	err := do()
	now := asidesOf(m)
	for _, path := range slices.Sorted(maps.Keys(now)) {
		if was, there := before[path]; !there || !was.Equal(now[path]) {
			j.Say("%s %s %s", strings.TrimSuffix(string(path), filepath.Ext(string(path))), asides[filepath.Ext(string(path))], path)
		}
	}
	return err
}
