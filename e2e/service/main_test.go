// Package service tests, end to end, the service itself, its contract, its console, its client, and its pages.
package service

import (
	"testing"

	"northstake/e2e/stage"
)

func TestMain(m *testing.M) { stage.Main(m) }
