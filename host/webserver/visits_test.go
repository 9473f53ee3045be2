package webserver

import (
	"fmt"
	"testing"

	"northstake/core/wire"
)

// A site is asked where it listens, and nowhere else: on a port of one address at that alone, and at those
// of version 6 of IP where it listens there.
func TestASiteIsVisitedWhereItListens(t *testing.T) {
	here := []string{"192.0.2.1", "192.0.2.2", "2001:db8::1"}
	w := wire.SiteWant{Listen: wire.Listening{{Port: 80}, {Address: "192.0.2.2", Port: 8081}}, Visit: &wire.Visit{}}
	for v6, want := range map[bool]string{false: "[192.0.2.1:80 192.0.2.2:80 192.0.2.2:8081]", true: "[192.0.2.1:80 192.0.2.2:80 [2001:db8::1]:80 192.0.2.2:8081]"} {
		w.Visit.V6 = v6
		var at []string
		for _, e := range visited(w, here) {
			at = append(at, e.Socket())
		}
		if fmt.Sprint(at) != want {
			t.Errorf("version 6 %t: %v", v6, at)
		}
	}
}
