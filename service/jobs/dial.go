package jobs

import (
	"context"
	"errors"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/reach"
)

// dialLimit is how long a port may take to let a connection in.
const dialLimit = 2 * time.Second

// dials are the ports of a host that stakes can be told by from outside, and that something listens
// on, in order; nil of what is no host, or where the way to it proves nothing of the network.
func dials(h *declare.Host, stakes []stake.Stake, traits wire.Traits) []int {
	if h == nil {
		return nil
	}
	via, _ := h.Transport()
	if way, err := reach.TransportOf(via); err != nil || !way.Proves {
		return nil
	}
	ports := []int{}
	for _, s := range stakes {
		kind, err := stake.KindOf(s.Type)
		if err != nil || kind.Dials == nil {
			continue
		}
		for _, port := range kind.Dials(s.Want) {
			if listens(traits, h.Address, port) {
				ports = append(ports, port)
			}
		}
	}
	slices.Sort(ports)
	return slices.Compact(ports)
}

// dialled is which ports of a host let a connection in, and where it came from. What was refused was so at
// once: by a filter, or because nothing listened there just then.
type dialled struct {
	ports   []int
	reached map[int]bool
	refused []int
	vantage string
}

// dialAll tries ports of a host, from outside; nothing is sent.
func dialAll(ctx context.Context, h *declare.Host, ports []int) dialled {
	out := dialled{ports: ports}
	if ports == nil {
		return out
	}
	var mu sync.Mutex
	var wg sync.WaitGroup
	out.reached = map[int]bool{}
	for _, port := range ports {
		wg.Go(func() {
			err := dial(ctx, net.JoinHostPort(h.Address, strconv.Itoa(port)))
			mu.Lock()
			defer mu.Unlock()
			out.reached[port] = err == nil
			if errors.Is(err, syscall.ECONNREFUSED) {
				out.refused = append(out.refused, port)
			}
		})
	}
	wg.Wait()
	out.vantage = wayFrom(h.Address)
	return out
}

// again tries what was refused once more: a program may have begun to listen while the host was read. What is
// refused still counts as shut only where the host says afterwards, too, that something listens there; of the
// rest nothing is known from outside.
func (d dialled) again(ctx context.Context, h *declare.Host, after func(context.Context) (wire.Traits, error)) (dialled, error) {
	if len(d.refused) == 0 {
		return d, nil
	}
	now := dialAll(ctx, h, d.refused)
	maps.Copy(d.reached, now.reached)
	d.refused = now.refused
	if len(d.refused) == 0 {
		return d, nil
	}
	traits, err := after(ctx)
	for _, port := range d.refused {
		if !listens(traits, h.Address, port) {
			delete(d.reached, port)
		}
	}
	return d, err
}

// dialBeside is dialAll while the host is read; what it returns waits for the end.
func dialBeside(ctx context.Context, h *declare.Host, ports []int) func() dialled {
	done := make(chan dialled, 1)
	go func() { done <- dialAll(ctx, h, ports) }()
	return func() dialled { return <-done }
}

// listens says whether a program listens on a TCP port at the address that the host is
// reached by.
func listens(t wire.Traits, address string, port int) bool {
	for _, l := range t.Listeners {
		if addr, err := netip.ParseAddr(l.Address); l.Protocol == "tcp" && l.Port == port && err == nil && (addr.IsUnspecified() || l.Address == address) {
			return true
		}
	}
	return false
}

// wayFrom is the address from which this machine reaches another; nothing is sent.
func wayFrom(address string) string {
	conn, err := net.Dial("udp", net.JoinHostPort(address, "9"))
	if err != nil {
		return ""
	}
	defer conn.Close()
	a, ok := conn.LocalAddr().(*net.UDPAddr)
	if !ok {
		return ""
	}
	addr := a.AddrPort().Addr().Unmap()
	return netip.PrefixFrom(addr, addr.BitLen()).String()
}

func dial(ctx context.Context, address string) error {
	d := net.Dialer{Timeout: dialLimit}
	conn, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return err
	}
	return conn.Close()
}
