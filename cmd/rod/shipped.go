//go:build !rehearse

package main

import "northstake/host/work"

// rehearsed does nothing in the rods that are sent to hosts.
func rehearsed(*work.Host) {}
