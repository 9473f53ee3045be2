// Package family knows the families of systems: their package and service managers,
// their accounts, what marks a host for a restart, and where web servers lie on them.
// A family is one folder of data below families/.
package family

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"northstake/core/wire"
	"northstake/host/system"
)

//go:embed families
var familyFiles embed.FS

//go:embed contained.toml
var containedFile []byte

// contained are how web servers lie in the containers that sites are served from.
var contained = func() map[string]wire.Layout {
	out := map[string]wire.Layout{}
	d := toml.NewDecoder(bytes.NewReader(containedFile))
	if err := d.DisallowUnknownFields().Decode(&out); err != nil {
		panic(err) // it is embedded, and a test reads it
	}
	return out
}()

// Contained is how a web server lies in the containers that sites are served from.
func Contained(server string) (wire.Layout, bool) {
	l, ok := contained[server]
	return l, ok
}

// Family is what systems made from one another have in common: the package
// manager and how web servers lie on them. Each is one folder of data; nothing
// else knows families by name.
type Family struct {
	Name     string                 `toml:"-"`
	Systems  []string               `toml:"systems"`  // ID or ID_LIKE of os-release(5)
	Packages string                 `toml:"packages"` // a name in packageManagers
	Servers  map[string]wire.Layout `toml:"server"`
	Called   Called                 `toml:"called"`
	PHP      *wire.PHP              `toml:"php"`
	SSH      *wire.SSHServer        `toml:"ssh"`
}

// Called maps names of other families to what this one calls the same thing.
type Called struct {
	Packages map[string]string `toml:"packages"`
	Services map[string]string `toml:"services"`
}

// builtIn are the families that the rod knows.
var builtIn = func() []Family {
	files, err := fs.Sub(familyFiles, "families")
	if err == nil {
		var list []Family
		if list, err = ReadFamilies(files); err == nil {
			return list
		}
	}
	panic(err) // they are embedded, and a test reads them
}()

// BuiltIn are the families that come with North Stake. The caller must not change the list.
func BuiltIn() []Family { return builtIn }

// Layouts are how web servers lie on systems of a family, by their names; nil where
// none is known by that name.
func Layouts(name string) map[string]wire.Layout {
	for _, f := range builtIn {
		if f.Name == name {
			return f.Servers
		}
	}
	return nil
}

// SSHServer is the SSH server of a family's systems, nil where none is known by that name.
func SSHServer(name string) *wire.SSHServer {
	for _, f := range builtIn {
		if f.Name == name {
			return f.SSH
		}
	}
	return nil
}

// AllLayouts are the layouts of the families that come with North Stake, by their names.
func AllLayouts() map[string]map[string]wire.Layout {
	out := map[string]map[string]wire.Layout{}
	for _, f := range builtIn {
		out[f.Name] = f.Servers
	}
	return out
}

// ReadFamilies reads the families in the folders of a file system, each from its
// family.toml, in the order of their names.
func ReadFamilies(files fs.FS) ([]Family, error) {
	paths, err := fs.Glob(files, "*/family.toml")
	if err != nil {
		return nil, err
	}
	var out []Family
	for _, p := range paths {
		f := Family{Name: path.Dir(p)}
		b, err := fs.ReadFile(files, p)
		if err != nil {
			return nil, fmt.Errorf("read family %s: %w", f.Name, err)
		}
		d := toml.NewDecoder(strings.NewReader(string(b)))
		d.DisallowUnknownFields()
		if err := d.Decode(&f); err != nil {
			return nil, fmt.Errorf("read family %s: %w", f.Name, err)
		}
		if packageManagers[f.Packages] == nil {
			return nil, fmt.Errorf("read family %s: there is no package manager %q", f.Name, f.Packages)
		}
		if f.SSH == nil || f.SSH.Service == "" {
			return nil, fmt.Errorf("read family %s: it does not say what the SSH server's service is called", f.Name)
		}
		for name, l := range f.Servers {
			l.PHP = f.PHP
			if inside, ok := contained[name]; ok {
				l.Inside = &inside
			}
			f.Servers[name] = l
		}
		out = append(out, f)
	}
	return out, nil
}

// Of finds a machine's family among some, or among the built-in ones where there are none, by its os-release: by what it is, else by
// what it is like, the nearest first. Nil says that none is known.
func Of(m *system.Machine, list []Family) (*Family, error) {
	release, err := system.Cached(m, "release", m.FileKey("/etc/os-release", "/usr/lib/os-release"), func() (map[string]string, error) { return Release(m) })
	if err != nil {
		return nil, err
	}
	if list == nil {
		list = builtIn
	}
	for _, word := range append([]string{release["ID"]}, strings.Fields(release["ID_LIKE"])...) {
		for i := range list {
			if slices.Contains(list[i].Systems, word) {
				return &list[i], nil
			}
		}
	}
	return nil, nil
}
