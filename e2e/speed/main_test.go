//go:build bench

// Package speed tests, end to end, how long things take, which no test passes or fails by.
package speed

import (
	"testing"

	"northstake/e2e/stage"
)

func TestMain(m *testing.M) { stage.Main(m) }
