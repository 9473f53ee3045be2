// Package hosts tests, end to end, the plain kinds on hosts, what others do there, and the way in.
package hosts

import (
	"testing"

	"northstake/e2e/stage"
)

func TestMain(m *testing.M) { stage.Main(m) }
