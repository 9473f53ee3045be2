//go:build rehearse

package main

import (
	"northstake/host/rehearse"
	"northstake/host/work"
)

// rehearsed has a host stop where a test tells it to.
func rehearsed(h *work.Host) { h.Boundary = rehearse.Hold(h.Machine) }
