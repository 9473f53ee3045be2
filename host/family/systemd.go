package family

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/coreos/go-systemd/v22/dbus"
	godbus "github.com/godbus/dbus/v5"

	"northstake/core/wire"
	"northstake/host/system"
)

// Units is systemd over its private socket (org.freedesktop.systemd1(5)).
type Units struct {
	conn *dbus.Conn
	raw  *godbus.Conn
	run  system.Runner
	sysv sysv // what systemd runs as it finds it among the init scripts
}

const systemdSocket = "/run/systemd/private"

func dialSystemd(ctx context.Context) (*godbus.Conn, error) {
	line, err := (&net.Dialer{}).DialContext(ctx, "unix", systemdSocket)
	if err != nil {
		return nil, err
	}
	c, err := godbus.NewConn(newQuiet(line))
	if err == nil {
		err = c.Auth([]godbus.Auth{godbus.AuthExternal("0")})
	}
	if err != nil {
		line.Close()
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
		raw, err := dialSystemd(ctx)
		if err != nil {
			return nil, fmt.Errorf("connect to systemd: %w", err)
		}
		// It wants a line for signals of its own, which would have everything said twice.
		conn, err := dbus.NewConnection(func() (*godbus.Conn, error) { return raw, nil })
		if err != nil {
			raw.Close()
			return nil, fmt.Errorf("connect to systemd: %w", err)
		}
		return &Units{conn, raw, m.Run, sysv{m}}, nil
	})
}

// Name is "systemd".
func (*Units) Name() string { return "systemd" }

// unitName is the name of a unit: of a service, unless it says that it is another sort.
func unitName(service string) string {
	for _, sort := range []string{".socket", ".timer", ".path"} {
		if strings.HasSuffix(service, sort) {
			return service
		}
	}
	return service + ".service"
}

// syncTime is how long the journal may take to take in what it was sent.
const syncTime = 3 * time.Second

// Log is the end of a unit's journal, with what has been said just now: the journal is asked to take
// that in first, where it can be.
func (u *Units) Log(ctx context.Context, service string) string {
	limited, cancel := context.WithTimeout(ctx, syncTime)
	defer cancel()
	_, _ = u.run(limited, nil, "journalctl", "--sync")
	out, err := u.run(ctx, nil, "journalctl", "-u", unitName(service), "-n", "12", "--no-pager", "-o", "cat")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// UnitState is how one unit stands. Name is the unit's own, where it was asked for by
// another. Unsteady says that it was started again and again, the last time just now. Ends
// says that it does its work and is over, CanReload that it can take notice without a
// restart. Starters are sockets, timers and the like that are up and start it, and
// Wanted says that something else starts it when the host boots.
type UnitState struct {
	Known     bool
	Name      string
	Active    string
	Boot      string
	Unsteady  bool
	Ends      bool
	CanReload bool
	Starters  []string
	Wanted    bool
	Elsewhere string // of an enabled one, what it starts with, where the host does not boot to that
	Target    string // to which the host boots, where that counts
}

// steadyAfter is how long a service that was started again by itself has to run before it
// counts as one that stays up.
const steadyAfter = 10 * time.Second

// States reads how services stand: ActiveState of each in one call, and the
// unit files' states from disk, because the property of a loaded unit is stale
// after a hand edit. A name that cannot be one leaves the others readable.
func (u *Units) States(ctx context.Context, services []string) (map[string]UnitState, error) {
	out := map[string]UnitState{}
	names := make([]string, len(services))
	for i, s := range services {
		names[i] = unitName(s)
	}
	list, err := u.conn.ListUnitsByNamesContext(ctx, names)
	if err != nil && len(services) > 1 {
		for _, s := range services {
			one, err := u.States(ctx, []string{s})
			if err != nil {
				return nil, err
			}
			out[s] = one[s]
		}
		return out, nil
	}
	var wrong godbus.Error
	if errors.As(err, &wrong) && wrong.Name == "org.freedesktop.DBus.Error.InvalidArgs" {
		return map[string]UnitState{services[0]: {}}, nil
	}
	if err != nil || len(list) != len(services) {
		return nil, fmt.Errorf("ask systemd for units: %w", err)
	}
	boot := u.starts(ctx)
	manager := u.manager()
	calls := make([]*godbus.Call, len(services))
	props := make([]properties, len(services))
	var scripts map[string]bool // that start at boot
	for i, l := range list {    // in the order of the names
		calls[i] = manager.GoWithContext(ctx, fileState, 0, nil, l.Name)
		if l.LoadState != "not-found" {
			props[i] = u.ask(ctx, l.Path, append([]string{unitInterface + "CanReload", serviceInterface + "NRestarts", unitInterface + "TriggeredBy"}, mostly...)...)
		}
	}
	for i, s := range services {
		l := list[i]
		st := UnitState{Known: l.LoadState != "not-found", Active: l.ActiveState, Name: strings.TrimSuffix(l.Name, ".service"), CanReload: true}
		<-calls[i].Done
		if calls[i].Err == nil {
			if err := calls[i].Store(&st.Boot); err != nil {
				return nil, err
			}
			st.Known = true
		}
		if u.script(st) {
			if scripts == nil {
				scripts = u.sysv.atBoot()
			}
			st.Boot = map[bool]string{true: "enabled", false: "disabled"}[scripts[st.Name]]
		}
		if props[i] != nil {
			st.CanReload, _ = props[i].get("CanReload").(bool)
			restarts, _ := props[i].get("NRestarts").(uint32)
			triggers, _ := props[i].get("TriggeredBy").([]string)
			if st.Starters, err = u.up(ctx, triggers); err != nil {
				return nil, err
			}
			u.more(ctx, &st, l.Path, restarts)
			boot.says(ctx, &st, l.Name, l.Path, props[i])
		}
		out[s] = st
	}
	return out, nil
}

// fileState tells a unit's state at boot by what lies on disk.
const fileState = "org.freedesktop.systemd1.Manager.GetUnitFileState"

func (u *Units) manager() godbus.BusObject {
	return u.raw.Object("org.freedesktop.systemd1", "/org/freedesktop/systemd1")
}

// script says whether systemd has made a unit of an init script (systemd-sysv-generator(8)): whether
// it starts at boot is then a matter of the run levels' links.
func (u *Units) script(st UnitState) bool {
	return st.Boot == "generated" && u.sysv.m.Exists(wire.Path(initScripts+"/"+st.Name)) && u.sysv.settable()
}

// The interfaces of a unit, as their properties begin.
const (
	unitInterface    = "org.freedesktop.systemd1.Unit."
	serviceInterface = "org.freedesktop.systemd1.Service."
)

// properties are what was asked of a unit, by their names.
type properties map[string]*godbus.Call

// ask asks for properties, each by its interface and name.
func (u *Units) ask(ctx context.Context, at godbus.ObjectPath, names ...string) properties {
	out := properties{}
	unit := u.raw.Object("org.freedesktop.systemd1", at)
	for _, full := range names {
		dot := strings.LastIndexByte(full, '.')
		out[full[dot+1:]] = unit.GoWithContext(ctx, "org.freedesktop.DBus.Properties.Get", 0, nil, full[:dot], full[dot+1:])
	}
	return out
}

// get waits for an answer; a property that this systemd does not have is nil.
func (p properties) get(name string) any {
	call := p[name]
	call.Done <- <-call.Done // it may be asked for again
	var v godbus.Variant
	if call.Err != nil || call.Store(&v) != nil {
		return nil
	}
	return v.Value()
}

// up are those of some units that are active.
func (u *Units) up(ctx context.Context, names []string) (out []string, err error) {
	if len(names) == 0 {
		return nil, nil
	}
	list, err := u.conn.ListUnitsByNamesContext(ctx, names)
	if err != nil {
		return nil, fmt.Errorf("ask systemd what starts a service: %w", err)
	}
	for _, t := range list {
		if t.ActiveState == "active" {
			out = append(out, t.Name)
		}
	}
	return out, nil
}

// more asks for what matters of a few units alone: how long one runs that was started
// again by itself, and of one that does not run whether it only ended.
func (u *Units) more(ctx context.Context, st *UnitState, at godbus.ObjectPath, restarts uint32) {
	if restarts > 0 {
		entered, _ := u.ask(ctx, at, unitInterface+"ActiveEnterTimestamp").get("ActiveEnterTimestamp").(uint64)
		st.Unsteady = time.Since(time.UnixMicro(int64(entered))) < steadyAfter
	}
	own := st.Boot == "enabled" || st.Boot == "disabled"
	if own && st.Active == "active" {
		return
	}
	p := u.ask(ctx, at, serviceInterface+"Type", serviceInterface+"RemainAfterExit")
	typ, _ := p.get("Type").(string)
	remains, _ := p.get("RemainAfterExit").(bool)
	st.Ends = typ == "oneshot" && !remains
}

// ForgetFailed drops that a unit has failed; one that systemd does not know has not.
func (u *Units) ForgetFailed(ctx context.Context, service string) {
	_ = u.conn.ResetFailedUnitContext(ctx, unitName(service))
}

// Do starts, stops, reloads or restarts a service and waits for the job to end.
func (u *Units) Do(ctx context.Context, action, service string) error {
	do := map[string]func(context.Context, string, string, chan<- string) (int, error){
		"start": u.conn.StartUnitContext, "stop": u.conn.StopUnitContext,
		"reload": u.conn.ReloadUnitContext, "restart": u.conn.RestartUnitContext,
	}[action]
	if do == nil {
		return fmt.Errorf("systemd has no action %q", action)
	}
	if action != "stop" {
		// Of starts that follow one another closely systemd counts, and refuses the
		// sixth; a start that was asked for is none of those. Of a unit that is not
		// loaded nothing is counted.
		u.ForgetFailed(ctx, service)
	}
	if err := u.takeIn(ctx, service); err != nil {
		return err
	}
	done := make(chan string, 1)
	if _, err := do(ctx, unitName(service), "replace", done); err != nil {
		return fmt.Errorf("%s %s: %w", action, service, err)
	}
	select {
	case result := <-done:
		if result != "done" {
			return fmt.Errorf("%s %s: systemd says %s", action, service, result)
		}
		return nil
	case <-ctx.Done():
		return fmt.Errorf("%s %s: %w", action, service, context.Cause(ctx))
	case <-time.After(90 * time.Second):
		return fmt.Errorf("%s %s: systemd has not finished after 90 s", action, service)
	}
}

// takeIn has systemd read unit files again where that of a service has changed on disk.
func (u *Units) takeIn(ctx context.Context, service string) error {
	stale, err := u.conn.GetUnitPropertyContext(ctx, unitName(service), "NeedDaemonReload")
	if err != nil {
		return fmt.Errorf("ask systemd for %s: %w", service, err)
	}
	if yes, _ := stale.Value.Value().(bool); !yes {
		return nil
	}
	return u.Reload(ctx)
}

// Boot makes a service start at boot, or not.
func (u *Units) Boot(ctx context.Context, service string, on bool) error {
	st := UnitState{Name: service}
	err := u.manager().CallWithContext(ctx, fileState, 0, unitName(service)).Store(&st.Boot)
	if err == nil && u.script(st) {
		if err := u.sysv.Boot(ctx, service, on); err != nil {
			return err
		}
		return u.Reload(ctx)
	}
	if on {
		_, _, err = u.conn.EnableUnitFilesContext(ctx, []string{unitName(service)}, false, true)
	} else {
		_, err = u.conn.DisableUnitFilesContext(ctx, []string{unitName(service)}, false)
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
		_, err = u.conn.MaskUnitFilesContext(ctx, []string{unitName(service)}, false, true)
	} else {
		_, err = u.conn.UnmaskUnitFilesContext(ctx, []string{unitName(service)}, false)
		if err == nil {
			_, err = u.conn.UnmaskUnitFilesContext(ctx, []string{unitName(service)}, true)
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
