package jobs

import (
	"context"
	"net"
	"slices"
	"testing"

	"northstake/core/declare"
	"northstake/core/wire"
)

// A port that is refused while a program restarts is no port that is shut: it is tried again once the host has
// been read, and counts as shut only where something goes on listening there.
func TestARefusedPortIsTriedAgain(t *testing.T) {
	h := &declare.Host{Address: "127.0.0.1"}
	free := func() (port int) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		return l.Addr().(*net.TCPAddr).Port
	}
	restarted, gone, shut := free(), free(), free()
	out := dialAll(t.Context(), h, []int{restarted, gone, shut})
	for _, port := range out.ports {
		if out.reached[port] || !slices.Contains(out.refused, port) {
			t.Fatalf("port %d, on which nothing listens: %+v", port, out)
		}
	}
	l, err := net.ListenTCP("tcp", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: restarted})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	asked := 0
	after := func(context.Context) (wire.Traits, error) { // a filter refuses the last one
		asked++
		return wire.Traits{Listeners: []wire.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: restarted}, {Protocol: "tcp", Address: "0.0.0.0", Port: shut}}}, nil
	}
	if out, err = out.again(t.Context(), h, after); err != nil {
		t.Fatal(err)
	}
	if _, known := out.reached[gone]; !out.reached[restarted] || known {
		t.Errorf("%d begins to listen, %d ends: %v", restarted, gone, out.reached)
	}
	if let, known := out.reached[shut]; let || !known || asked != 1 {
		t.Errorf("%d is refused while something listens: %v, asked %d times", shut, out.reached, asked)
	}
	if out = dialAll(t.Context(), h, []int{restarted}); len(out.refused) > 0 {
		t.Errorf("%+v", out)
	}
	if _, err := out.again(t.Context(), h, after); err != nil || asked != 1 {
		t.Errorf("what was let in is asked again, %d times: %v", asked, err)
	}
}
