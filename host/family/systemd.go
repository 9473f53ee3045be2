package family

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/coreos/go-systemd/v22/dbus"
	godbus "github.com/godbus/dbus/v5"

	"northstake/host/system"
)

// Units is systemd over its private socket (org.freedesktop.systemd1(5)).
type Units struct {
	conn *dbus.Conn
	raw  *godbus.Conn
	run  system.Runner
}

const systemdSocket = "unix:path=/run/systemd/private"

func dialSystemd(ctx context.Context) (*godbus.Conn, error) {
	c, err := godbus.Dial(systemdSocket, godbus.WithContext(ctx))
	if err != nil {
		return nil, err
	}
	if err := c.Auth([]godbus.Auth{godbus.AuthExternal("0")}); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// units connects to systemd, once.
func units(ctx context.Context, m *system.Machine) (*Units, error) {
	if m.Root != "" && m.Root != "/" {
		return nil, errors.New("a folder has no running systemd")
	}
	return system.Alive(m, "systemd", func(u *Units) bool { return u.conn.Connected() }, func() (*Units, error) {
		raw, err := dialSystemd(context.Background())
		if err != nil {
			return nil, fmt.Errorf("connect to systemd: %w", err)
		}
		conn, err := dbus.NewConnection(func() (*godbus.Conn, error) { return dialSystemd(context.Background()) })
		if err != nil {
			raw.Close()
			return nil, fmt.Errorf("connect to systemd: %w", err)
		}
		return &Units{conn, raw, m.Run}, nil
	})
}

// Name is "systemd".
func (*Units) Name() string { return "systemd" }

// Log is the end of a unit's journal.
func (u *Units) Log(ctx context.Context, service string) string {
	out, err := u.run(ctx, nil, "journalctl", "-u", service+".service", "-n", "12", "--no-pager", "-o", "cat")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// UnitState is how one unit stands.
type UnitState struct {
	Known  bool
	Active string
	Boot   string
}

// States reads how services stand: ActiveState of each in one call, and the
// unit files' states from disk, because the property of a loaded unit is stale
// after a hand edit.
func (u *Units) States(ctx context.Context, services []string) (map[string]UnitState, error) {
	names := make([]string, len(services))
	for i, s := range services {
		names[i] = s + ".service"
	}
	list, err := u.conn.ListUnitsByNamesContext(ctx, names)
	if err != nil {
		return nil, fmt.Errorf("ask systemd for units: %w", err)
	}
	out := map[string]UnitState{}
	for _, l := range list {
		out[strings.TrimSuffix(l.Name, ".service")] = UnitState{Known: l.LoadState != "not-found", Active: l.ActiveState}
	}
	manager := u.raw.Object("org.freedesktop.systemd1", "/org/freedesktop/systemd1")
	calls := make([]*godbus.Call, len(services))
	for i := range services {
		calls[i] = manager.GoWithContext(ctx, "org.freedesktop.systemd1.Manager.GetUnitFileState", 0, nil, names[i])
	}
	for i, s := range services {
		<-calls[i].Done
		st := out[s]
		if calls[i].Err == nil {
			if err := calls[i].Store(&st.Boot); err != nil {
				return nil, err
			}
			st.Known = true
		}
		out[s] = st
	}
	return out, nil
}

// Do starts, stops, reloads or restarts a service and waits for the job to end.
func (u *Units) Do(ctx context.Context, action, service string) error {
	do := map[string]func(context.Context, string, string, chan<- string) (int, error){
		"start": u.conn.StartUnitContext, "stop": u.conn.StopUnitContext,
		"reload": u.conn.ReloadOrRestartUnitContext, "restart": u.conn.RestartUnitContext,
	}[action]
	if do == nil {
		return fmt.Errorf("systemd has no action %q", action)
	}
	if action != "stop" {
		// Of starts that follow one another closely systemd counts, and refuses the
		// sixth; a start that was asked for is none of those. Of a unit that is not
		// loaded nothing is counted.
		_ = u.conn.ResetFailedUnitContext(ctx, service+".service")
	}
	done := make(chan string, 1)
	if _, err := do(ctx, service+".service", "replace", done); err != nil {
		return fmt.Errorf("%s %s: %w", action, service, err)
	}
	select {
	case result := <-done:
		if result != "done" {
			return fmt.Errorf("%s %s: systemd says %s", action, service, result)
		}
		return nil
	case <-time.After(90 * time.Second):
		return fmt.Errorf("%s %s: systemd has not finished after 90 s", action, service)
	}
}

// Boot makes a service start at boot, or not.
func (u *Units) Boot(ctx context.Context, service string, on bool) error {
	var err error
	if on {
		_, _, err = u.conn.EnableUnitFilesContext(ctx, []string{service + ".service"}, false, true)
	} else {
		_, err = u.conn.DisableUnitFilesContext(ctx, []string{service + ".service"}, false)
	}
	if err != nil {
		return fmt.Errorf("set whether %s starts at boot: %w", service, err)
	}
	return u.Reload(ctx)
}

// Mask masks or unmasks a service.
func (u *Units) Mask(ctx context.Context, service string, on bool) error {
	var err error
	if on {
		_, err = u.conn.MaskUnitFilesContext(ctx, []string{service + ".service"}, false, true)
	} else {
		_, err = u.conn.UnmaskUnitFilesContext(ctx, []string{service + ".service"}, false)
		if err == nil {
			_, err = u.conn.UnmaskUnitFilesContext(ctx, []string{service + ".service"}, true)
		}
	}
	if err != nil {
		return fmt.Errorf("mask or unmask %s: %w", service, err)
	}
	return u.Reload(ctx)
}

// Forget has nothing to do: Boot has removed what there was.
func (*Units) Forget(context.Context, string) error { return nil }

// Reload makes systemd read its unit files again.
func (u *Units) Reload(ctx context.Context) error {
	if err := u.conn.ReloadContext(ctx); err != nil {
		return fmt.Errorf("reload systemd's units: %w", err)
	}
	return nil
}

// Names lists the services that have a unit file.
func (u *Units) Names(ctx context.Context) ([]string, error) {
	files, err := u.conn.ListUnitFilesByPatternsContext(ctx, nil, []string{"*.service"})
	if err != nil {
		return nil, err
	}
	var out []string
	for _, f := range files {
		out = append(out, strings.TrimSuffix(filepath.Base(f.Path), ".service"))
	}
	sort.Strings(out)
	return out, nil
}

// unitDirs are where an administrator changes units (systemd.unit(5)).
var unitDirs = []string{"/etc/systemd/system", "/run/systemd/system", "/etc/systemd/system.control", "/run/systemd/system.control"}

// DropIns lists the files by which an administrator changes a unit, with the
// SHA-256 of their text, and when the newest was changed: drop-ins, and a whole
// unit of the same name. A link is no such file: it is what enabling and masking
// make.
func DropIns(m *system.Machine, service string) (map[string]string, error) {
	out := map[string]string{}
	for _, dir := range unitDirs {
		files, err := filepath.Glob(m.Path(dir + "/" + service + ".service.d/*.conf"))
		if err != nil {
			return nil, err
		}
		if s, err := os.Lstat(m.Path(dir + "/" + service + ".service")); err == nil && s.Mode().IsRegular() {
			files = append(files, m.Path(dir+"/"+service+".service"))
		}
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				return nil, err
			}
			sum := sha256.Sum256(b)
			name := f
			if m.Root != "" && m.Root != "/" {
				name = strings.TrimPrefix(f, m.Root)
			}
			out[name] = hex.EncodeToString(sum[:])
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}
