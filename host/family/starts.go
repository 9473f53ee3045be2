package family

import (
	"context"
	"path/filepath"
	"strings"
)

// starts says what of the host is started when it boots: all that its default target reaches.
type starts struct {
	u      *Units
	target string          // the default one, such as graphical.target; "" where nobody says
	with   map[string]bool // by unit, whether the target starts it
}

func (u *Units) starts(ctx context.Context) *starts {
	s := &starts{u: u, with: map[string]bool{}}
	call := u.manager().CallWithContext(ctx, "org.freedesktop.systemd1.Manager.GetDefaultTarget", 0)
	if call.Err == nil {
		call.Store(&s.target)
	}
	return s
}

// upwards are the properties of a unit that name those which start it (org.freedesktop.systemd1(5)).
var upwards = []string{unitInterface + "WantedBy", unitInterface + "RequiredBy", unitInterface + "UpheldBy", unitInterface + "BoundBy", unitInterface + "TriggeredBy"}

// above are the units that are told by those properties.
func (p properties) above() (out []string) {
	for _, full := range upwards {
		by, _ := p.get(strings.TrimPrefix(full, unitInterface)).([]string)
		out = append(out, by...)
	}
	return out
}

// says what starts a unit at boot: one that has no state of its own there by others, and one that is
// enabled by what it is enabled for, which may be something to which the host does not boot.
func (s *starts) says(ctx context.Context, st *UnitState, unit string, p properties) {
	by := p.above()
	if st.Boot != "enabled" {
		st.Wanted = s.any(ctx, by)
		return
	}
	if len(by) == 0 {
		by = linkedTo("/", unit)
	}
	if len(by) > 0 && !s.any(ctx, by) { // one that has but another name is enabled by that
		st.Elsewhere, st.Target = strings.Join(by, ", "), s.target
	}
}

// any says whether one of some units is started at boot.
func (s *starts) any(ctx context.Context, units []string) bool {
	for _, name := range units {
		is, known := s.with[name]
		if !known {
			is = s.reached(ctx, name)
			s.with[name] = is
		}
		if is {
			return true
		}
	}
	return false
}

// reached says whether the default target leads to a unit, by whatever starts that, and what starts those.
func (s *starts) reached(ctx context.Context, unit string) bool {
	if s.target == "" {
		return true
	}
	seen := map[string]bool{unit: true}
	for next := []string{unit}; len(next) > 0; {
		var above []string
		for _, name := range next {
			if name == s.target || strings.HasSuffix(name, ".device") { // which the kernel brings
				return true
			}
			for _, by := range s.u.startedBy(ctx, name) {
				if !seen[by] {
					seen[by] = true
					above = append(above, by)
				}
			}
		}
		next = above
	}
	return false
}

// startedBy are the units that start one.
func (u *Units) startedBy(ctx context.Context, name string) []string {
	list, err := u.conn.ListUnitsByNamesContext(ctx, []string{name})
	if err != nil || len(list) != 1 {
		return nil
	}
	return u.ask(ctx, list[0].Path, upwards...).above()
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
