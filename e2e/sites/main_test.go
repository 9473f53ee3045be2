// Package sites tests, end to end, what web servers do with what is declared of sites, and what visitors get.
package sites

import (
	"testing"

	"northstake/e2e/stage"
)

func TestMain(m *testing.M) { stage.Main(m) }
