package jobs

import (
	"context"
	"net"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/host/reach"
)

// dialLimit is how long a port may take to let a connection in.
const dialLimit = 2 * time.Second

// reachable tries the ports of a host, from outside, that stakes can be told by and that
// something listens on; nothing is sent. Vantage is where the connections come from. A way
// to a host that proves nothing of the network tells nothing here.
func reachable(ctx context.Context, h *declare.Host, stakes []stake.Stake, traits stake.Traits) (reached map[int]bool, vantage string) {
	via, _ := h.WayTo()
	if way, err := reach.WayOf(via); err != nil || !way.Proves {
		return nil, ""
	}
	var mu sync.Mutex
	var wg sync.WaitGroup
	reached = map[int]bool{}
	tried := map[int]bool{}
	for _, s := range stakes {
		kind, err := stake.KindOf(s.Type)
		if err != nil || kind.Dials == nil {
			continue
		}
		for _, port := range kind.Dials(s.Want) {
			if tried[port] || !listens(traits, h.Address, port) {
				continue
			}
			tried[port] = true
			wg.Go(func() {
				ok := dial(ctx, net.JoinHostPort(h.Address, strconv.Itoa(port)))
				mu.Lock()
				defer mu.Unlock()
				reached[port] = ok
			})
		}
	}
	wg.Wait()
	return reached, wayFrom(h.Address)
}

// listens says whether a program listens on a TCP port at the address that the host is
// reached by.
func listens(t stake.Traits, address string, port int) bool {
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

func dial(ctx context.Context, address string) bool {
	d := net.Dialer{Timeout: dialLimit}
	conn, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return false
	}
	conn.Close()
	return true
}
