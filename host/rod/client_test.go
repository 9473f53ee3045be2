package rod

import (
	"testing"
	"time"
)

func TestAClockIsWrongFromTwoSecondsOn(t *testing.T) {
	here := time.Date(2026, 4, 1, 12, 0, 0, 0, time.UTC)
	for ahead, want := range map[time.Duration]string{0: "", 1400 * time.Millisecond: "", -time.Second: "", 2 * time.Second: "2s", -90 * time.Second: "-1m30s", 26 * time.Hour: "26h0m0s"} {
		if got := skew(here.Add(ahead), here); got != want {
			t.Errorf("%s ahead is %q, want %q", ahead, got, want)
		}
	}
}
