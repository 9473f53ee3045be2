package jobs

import (
	"context"
	"errors"
	"testing"

	"northstake/core/declare"
)

// What is made at once takes no more of a replica than there is room for, and gives it back.
func TestThereIsRoomForFewPlaces(t *testing.T) {
	o := newAtOnce()
	if o.takes(fewPlaces + 1) {
		t.Error("many hosts are looked at at once")
	}
	for n := 0; n < mostAtOnce; n += fewPlaces {
		if !o.takes(fewPlaces) {
			t.Fatalf("there is no room for %d hosts beside %d", fewPlaces, n)
		}
	}
	if o.takes(1) {
		t.Error("there is room for one more")
	}
	o.leave(fewPlaces - 1)
	if o.takes(fewPlaces) {
		t.Error("there is room for more than have left")
	}
	if !o.takes(fewPlaces - 1) {
		t.Error("what had no room at last has kept some")
	}
}

// A host that is looked at already is not looked at again.
func TestALookThatIsUnderWayIsTaken(t *testing.T) {
	mine := errors.New("of the look that is under way")
	under := looks{"quay1": func() (look, error) { return look{}, mine }}
	s := scope{d: &declare.Declaration{}} // a new look finds no such host
	for host, want := range map[string]error{"quay1": mine, "quay2": Unknown{"quay2"}} {
		if _, err := under.at(context.Background(), &Service{}, s, host); err != want {
			t.Errorf("host %s: %v, not %v", host, err, want)
		}
	}
}
