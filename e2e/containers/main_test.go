// Package containers tests, end to end, hosts that run containers, containers that are hosts, and sites in them.
package containers

import (
	"testing"

	"northstake/e2e/stage"
)

func TestMain(m *testing.M) { stage.Main(m) }
