// Package packages tests, end to end, packages, their sources and their versions.
package packages

import (
	"testing"

	"northstake/e2e/stage"
)

func TestMain(m *testing.M) { stage.Main(m) }
