// Package runs tests, end to end, runs that fail, are cut off, killed, cancelled or resumed.
package runs

import (
	"testing"

	"northstake/e2e/stage"
)

func TestMain(m *testing.M) { stage.Main(m) }
