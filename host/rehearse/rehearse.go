// Package rehearse has a host stop in the middle of a step, where tests say so: what is left when the power, the
// line or the program goes just there is then looked at. Nothing of it is in the rods that are sent to hosts;
// those of the tests are built with it (go build -tags rehearse ./cmd/rod).
package rehearse

import (
	"fmt"
	"os"
	"strings"
	"time"

	"northstake/host/system"
)

// File is where a host is told at which boundary to stop, as "STEP BOUNDARY", and Reached where it says that it
// stands there.
func File(m *system.Machine) (name, reached string) {
	name = m.State("hold")
	return name, name + ".reached"
}

// Hold stops at a boundary of a step while the host's file names it.
func Hold(m *system.Machine) func(step int, boundary string) {
	return func(step int, boundary string) {
		name, reached := File(m)
		line := fmt.Sprintf("%d %s", step, boundary)
		for {
			b, err := os.ReadFile(name)
			if err != nil || strings.TrimSpace(string(b)) != line {
				return
			}
			os.WriteFile(reached, []byte(line), 0o600)
			time.Sleep(10 * time.Millisecond)
		}
	}
}
