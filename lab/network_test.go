package lab

import (
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
)

// A lab never asks for a subnet of the network that the engine itself keeps, and
// tries each of its own once.
func TestCandidatesKeepClearOfTheEnginesOwnNetwork(t *testing.T) {
	engines := netip.MustParsePrefix("10.88.0.0/16")
	for _, home := range []string{"/var/tmp/a", "/root/work/lab", "/var/tmp/northstake-e2e/lab"} {
		seen := map[string]bool{}
		for _, c := range candidates(home) {
			if seen[c] || engines.Contains(netip.MustParseAddr(c+".1")) {
				t.Fatalf("%s: %s", home, c)
			}
			seen[c] = true
		}
		if len(seen) != 4096 {
			t.Fatalf("%s: %d subnets", home, len(seen))
		}
	}
}

// A subnet inside a wider network of the machine is taken, and so is one that
// holds a narrower network.
func TestOnMachineSeesWiderAndNarrowerNetworks(t *testing.T) {
	_, wide, _ := net.ParseCIDR("10.90.0.0/16")
	ip, narrow, _ := net.ParseCIDR("10.91.7.129/25")
	narrow.IP = ip
	addrs := []net.Addr{wide, narrow}
	for subnet, want := range map[string]bool{"10.90.3": true, "10.91.7": true, "10.91.8": false} {
		if got := onMachine(addrs, subnet); got != want {
			t.Errorf("%s: taken %v", subnet, got)
		}
	}
}

// Of two labs only one gets a subnet; it is free again once released, or when the
// holder's home is gone.
func TestASubnetHasOneLab(t *testing.T) {
	const subnet = "10.104.255.test"
	t.Cleanup(func() { os.Remove(filepath.Join(claims, subnet)) })
	one, two := &Lab{home: t.TempDir()}, &Lab{home: t.TempDir()}
	expect := func(l *Lab, want bool) {
		t.Helper()
		if ok, err := l.claim(subnet); err != nil || ok != want {
			t.Fatalf("claimed %v, %v; want %v", ok, err, want)
		}
	}
	expect(one, true)
	expect(two, false)
	expect(one, true)
	release(two.home) // not its own
	expect(two, false)
	release(one.home)
	expect(two, true)
	if err := os.RemoveAll(two.home); err != nil {
		t.Fatal(err)
	}
	expect(one, true)
}
