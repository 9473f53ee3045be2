package family

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/coreos/go-systemd/v22/dbus"
	godbus "github.com/godbus/dbus/v5"
)

// starts says what of the host is started when it boots: all that its default target reaches.
type starts struct {
	u      *Units
	target func() string   // the default one, such as graphical.target; "" where nobody says
	with   map[string]bool // by unit, whether the target starts it
}

func (u *Units) starts(ctx context.Context) *starts {
	call := u.manager().GoWithContext(ctx, "org.freedesktop.systemd1.Manager.GetDefaultTarget", 0, nil)
	return &starts{u: u, with: map[string]bool{}, target: sync.OnceValue(func() (target string) {
		if <-call.Done; call.Err == nil {
			call.Store(&target)
		}
		return target
	})}
}

// upwards are the properties of a unit that name those which start it (org.freedesktop.systemd1(5)).
// Nearly everything is started by what the first two name, so that the others are asked for where
// those do not lead to the target.
var (
	mostly  = []string{unitInterface + "WantedBy", unitInterface + "RequiredBy"}
	upwards = append(slices.Clone(mostly), unitInterface+"UpheldBy", unitInterface+"BoundBy", unitInterface+"TriggeredBy")
)

// above are the units that are told by some of those properties.
func (p properties) above(by []string) (out []string) {
	for _, full := range by {
		by, _ := p.get(strings.TrimPrefix(full, unitInterface)).([]string)
		out = append(out, by...)
	}
	return out
}

// says what starts a unit at boot: one that has no state of its own there by others, and one that is
// enabled by what it is enabled for, which may be something to which the host does not boot. P has what
// mostly starts it, and at is where systemd has it.
func (s *starts) says(ctx context.Context, st *UnitState, unit string, at godbus.ObjectPath, p properties) {
	if s.any(ctx, p.above(mostly)) {
		st.Wanted = st.Boot != "enabled"
		return
	}
	by := s.u.ask(ctx, at, upwards...).above(upwards)
	if st.Boot != "enabled" {
		st.Wanted = s.any(ctx, by)
		return
	}
	if len(by) == 0 {
		by = linkedTo("/", unit)
	}
	if len(by) > 0 && !s.any(ctx, by) { // one that has but another name is enabled by that
		st.Elsewhere, st.Target = strings.Join(by, ", "), s.target()
	}
}

// any says whether one of some units is started at boot.
func (s *starts) any(ctx context.Context, units []string) bool {
	for _, name := range units {
		is, known := s.with[name]
		if !known {
			is = s.reached(ctx, name, mostly) || s.reached(ctx, name, upwards)
			s.with[name] = is
		}
		if is {
			return true
		}
	}
	return false
}

// reached says whether the default target leads to a unit, by what starts that, and what starts those.
func (s *starts) reached(ctx context.Context, unit string, by []string) bool {
	if s.target() == "" {
		return true
	}
	seen := map[string]bool{unit: true}
	for next := []string{unit}; len(next) > 0; {
		var above []string
		for _, name := range next {
			if name == s.target() || strings.HasSuffix(name, ".device") { // which the kernel brings
				return true
			}
			for _, starter := range s.u.ask(ctx, pathOf(name), by...).above(by) {
				if !seen[starter] {
					seen[starter] = true
					above = append(above, starter)
				}
			}
		}
		next = above
	}
	return false
}

// pathOf is where systemd has a unit, which it loads when it is asked there (org.freedesktop.systemd1(5)).
func pathOf(unit string) godbus.ObjectPath {
	return godbus.ObjectPath("/org/freedesktop/systemd1/unit/" + dbus.PathBusEscape(unit))
}

// linkedTo are the units that are to start one by links on disk, which count for those that are not
// loaded as well (systemd.unit(5), "[Install]").
func linkedTo(root, unit string) (out []string) {
	for _, dir := range []string{"/etc/systemd/system", "/run/systemd/system", "/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"} {
		for _, how := range []string{".wants", ".requires", ".upholds"} {
			found, _ := filepath.Glob(filepath.Join(root, dir, "*"+how, unit))
			for _, f := range found {
				out = append(out, strings.TrimSuffix(filepath.Base(filepath.Dir(f)), how))
			}
		}
	}
	return out
}
