package family

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

// initScripts is where the scripts of System V's init lie (init-d-script(5)).
const initScripts = "/etc/init.d"

// sysv is the way of services without systemd: a script for each, and links that
// start it at boot.
type sysv struct{ m *system.Machine }

func (sysv) Name() string { return "init scripts" }

// bootLinks are the links that start services in the run levels with a network.
var bootLinks = regexp.MustCompile(`^S[0-9][0-9](.+)$`)

// runLevels are the directories of those links, by the families' forms.
var runLevels = []string{"/etc/rc2.d", "/etc/rc3.d", "/etc/rc5.d", "/etc/rc.d/rc3.d"}

// atBoot lists the services that start at boot.
func (s sysv) atBoot() map[string]bool {
	out := map[string]bool{}
	for _, dir := range runLevels {
		links, err := os.ReadDir(s.m.Path(wire.Path(dir)))
		if err != nil {
			continue // the other family's form
		}
		for _, l := range links {
			if m := bootLinks.FindStringSubmatch(l.Name()); m != nil {
				out[m[1]] = true
			}
		}
	}
	return out
}

// ScriptAtBoot says whether a service's script is run at boot, on a machine without
// systemd.
func ScriptAtBoot(m *system.Machine, service string) bool {
	return !m.HasSystemd() && sysv{m}.atBoot()[service]
}

func (s sysv) States(ctx context.Context, services []string) (map[string]UnitState, error) {
	boot := s.atBoot()
	out := map[string]UnitState{}
	for _, name := range services {
		if !s.m.Exists(wire.Path(initScripts + "/" + name)) {
			out[name] = UnitState{}
			continue
		}
		st := UnitState{Known: true, Name: name, Active: "inactive", Boot: "disabled", CanReload: true}
		if boot[name] {
			st.Boot = "enabled"
		}
		// Status 0 says that it runs (LSB, init script actions).
		_, err := s.m.Run(ctx, nil, initScripts+"/"+name, "status")
		var failed *system.Failed
		switch {
		case err == nil:
			st.Active = "active"
		case errors.Is(err, fs.ErrPermission): // a script that cannot be run starts nothing
			st.Boot = "disabled"
		case !errors.As(err, &failed):
			return nil, err
		}
		out[name] = st
	}
	return out, nil
}

func (s sysv) Do(ctx context.Context, action, service string) error {
	if _, err := s.m.Run(ctx, nil, initScripts+"/"+service, action); err != nil {
		return fmt.Errorf("%s %s: %w", action, service, err)
	}
	return nil
}

// settable says whether the family's tool for the links is there.
func (s sysv) settable() bool {
	return s.m.Exists("/usr/sbin/update-rc.d") || s.m.Exists("/usr/sbin/chkconfig") || s.m.Exists("/sbin/chkconfig")
}

// Boot uses the family's own tool where there is one: update-rc.d(8), chkconfig(8).
func (s sysv) Boot(ctx context.Context, service string, on bool) error {
	var steps [][]string
	switch {
	case s.m.Exists("/usr/sbin/update-rc.d") && on:
		steps = [][]string{{"update-rc.d", service, "defaults"}, {"update-rc.d", service, "enable"}}
	case s.m.Exists("/usr/sbin/update-rc.d"):
		steps = [][]string{{"update-rc.d", service, "defaults"}, {"update-rc.d", service, "disable"}}
	default:
		steps = [][]string{{"chkconfig", service, map[bool]string{true: "on", false: "off"}[on]}}
	}
	for _, step := range steps {
		if _, err := s.m.Run(ctx, nil, step[0], step[1:]...); err != nil {
			return fmt.Errorf("set whether %s starts at boot: %w", service, err)
		}
	}
	return nil
}

func (sysv) Mask(context.Context, string, bool) error {
	return errors.New("init scripts cannot be masked")
}

func (sysv) Reload(context.Context) error { return nil }

func (s sysv) Forget(ctx context.Context, service string) error {
	step := []string{"chkconfig", "--del", service}
	if s.m.Exists("/usr/sbin/update-rc.d") {
		step = []string{"update-rc.d", "-f", service, "remove"}
	}
	if _, err := s.m.Run(ctx, nil, step[0], step[1:]...); err != nil {
		return fmt.Errorf("forget when %s starts: %w", service, err)
	}
	return nil
}

func (sysv) ForgetFailed(context.Context, string) {}

func (sysv) Log(context.Context, string) string { return "" }

func (s sysv) Names(context.Context) ([]string, error) {
	files, err := filepath.Glob(s.m.Path(initScripts + "/*"))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, f := range files {
		if info, err := os.Stat(f); err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o111 != 0 && !strings.Contains(filepath.Base(f), ".") {
			out = append(out, filepath.Base(f))
		}
	}
	slices.Sort(out)
	return out, nil
}
