// Package walk tests, end to end, random walks of what people and accidents do to hosts.
package walk

import (
	"testing"

	"northstake/e2e/stage"
)

func TestMain(m *testing.M) { stage.Main(m) }
