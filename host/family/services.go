package family

import (
	"context"
	"errors"

	"northstake/core/wire"
	"northstake/host/system"
)

// ServiceManager starts and stops services, and says whether they start at boot.
type ServiceManager interface {
	Name() string
	// States reads how services stand.
	States(ctx context.Context, services []string) (map[string]UnitState, error)
	// Do starts, stops, reloads or restarts a service, and returns when that is done.
	Do(ctx context.Context, action, service string) error
	// Boot makes a service start at boot, or not.
	Boot(ctx context.Context, service string, on bool) error
	// Mask keeps a service from being started by anybody, or no longer.
	Mask(ctx context.Context, service string, on bool) error
	// Reload makes the manager read what it knows of services again.
	Reload(ctx context.Context) error
	// Forget drops what starts a service at boot, whose unit or script is about to go.
	Forget(ctx context.Context, service string) error
	// ForgetFailed drops that a service has failed, of one that is gone as well.
	ForgetFailed(ctx context.Context, service string)
	// Names lists the services there are, sorted.
	Names(ctx context.Context) ([]string, error)
	// Log is the end of what a service has said, "" where that is not kept.
	Log(ctx context.Context, service string) string
}

// Services is the service manager of the machine: systemd where it runs, else the
// scripts in /etc/init.d.
func Services(ctx context.Context, m *system.Machine) (ServiceManager, error) {
	switch {
	case m.HasSystemd():
		return units(ctx, m)
	case m.Exists(initScripts):
		return sysv{m}, nil
	}
	return nil, errors.New("this host has neither systemd nor scripts in " + initScripts)
}

// HasServices says whether the machine has a service manager.
func HasServices(m *system.Machine) bool { return m.HasSystemd() || m.Exists(initScripts) }

// ServiceManagerName is its name for people, "none" where there is none.
func ServiceManagerName(m *system.Machine) string {
	switch {
	case m.HasSystemd():
		return wire.Systemd
	case m.Exists(initScripts):
		return sysv{}.Name()
	}
	return wire.NoServices
}
