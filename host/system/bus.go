package system

import (
	"fmt"

	godbus "github.com/godbus/dbus/v5"
)

const busSocket = "/run/dbus/system_bus_socket"

// Bus connects to the system's message bus, once.
func (m *Machine) Bus() (*godbus.Conn, error) {
	return Alive(m, "bus", (*godbus.Conn).Connected, func() (*godbus.Conn, error) {
		bus, err := godbus.Dial("unix:path=" + busSocket)
		if err != nil {
			return nil, fmt.Errorf("connect to the system's message bus: %w", err)
		}
		if err = bus.Auth([]godbus.Auth{godbus.AuthExternal("0")}); err == nil {
			err = bus.Hello()
		}
		if err != nil {
			bus.Close()
			return nil, fmt.Errorf("connect to the system's message bus: %w", err)
		}
		return bus, nil
	})
}
