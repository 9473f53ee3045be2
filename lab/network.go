package lab

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"
)

const networkName = "northstake-lab"

// The engine keeps 10.88.0.0/16 for a network of its own in every store, so the
// labs' subnets are the /24s of 10.89.0.0 to 10.104.0.0.
const firstOctet, octets = 89, 16

// claims holds one link per subnet in use, named for it and leading to the home
// of the lab that has it. A bridge shows on the machine only with its first host,
// too late for two labs that start together.
const claims = "/run/northstake-subnets"

// ensureNetwork finds the lab's network, or makes one on a subnet that neither
// the machine nor another lab uses, starting the search at a place that depends
// on the home's path: a lab that is made anew gets its old addresses.
func (l *Lab) ensureNetwork(ctx context.Context) error {
	got, err := l.cli.NetworkInspect(ctx, networkName, client.NetworkInspectOptions{})
	if err == nil && len(got.Network.IPAM.Config) > 0 {
		l.subnet = strings.TrimSuffix(got.Network.IPAM.Config[0].Subnet.Addr().String(), ".0")
		return nil
	}
	addrs, err := net.InterfaceAddrs()
	if err != nil {
		return fmt.Errorf("choose a subnet for the lab: %w", err)
	}
	var refusal error
	for _, subnet := range candidates(l.home) {
		if onMachine(addrs, subnet) {
			continue
		}
		if ok, err := l.claim(subnet); err != nil {
			return fmt.Errorf("choose a subnet for the lab: %w", err)
		} else if !ok {
			continue
		}
		prefix := netip.MustParsePrefix(subnet + ".0/24")
		_, refusal = l.cli.NetworkCreate(ctx, networkName, client.NetworkCreateOptions{
			Driver: "bridge",
			IPAM:   &network.IPAM{Config: []network.IPAMConfig{{Subnet: prefix, Gateway: prefix.Addr().Next()}}},
		})
		if refusal == nil {
			l.subnet = subnet
			return l.nameBridge()
		}
		release(l.home)
		if !strings.Contains(refusal.Error(), "already used") {
			break
		}
	}
	if refusal != nil {
		return fmt.Errorf("make lab network: %w", refusal)
	}
	return fmt.Errorf("choose a subnet for the lab: every /24 from 10.%d.0.0 to 10.%d.255.0 is in use on this machine", firstOctet, firstOctet+octets-1)
}

func (l *Lab) removeNetwork(ctx context.Context) error {
	if _, err := l.cli.NetworkRemove(ctx, networkName, client.NetworkRemoveOptions{}); err != nil {
		return fmt.Errorf("remove lab network: %w", err)
	}
	release(l.home)
	return nil
}

// candidates lists every subnet a lab may have, as first three octets, in the
// order in which the lab of this home tries them.
func candidates(home string) []string {
	h := fnv.New32a()
	h.Write([]byte(home))
	const n = octets * 256
	list := make([]string, n)
	for i := range list {
		v := (h.Sum32() + uint32(i)*37) % n // 37 and n have no common factor: each is met once
		list[i] = fmt.Sprintf("10.%d.%d", firstOctet+v/256, v%256)
	}
	return list
}

func onMachine(addrs []net.Addr, subnet string) bool {
	_, want, _ := net.ParseCIDR(subnet + ".0/24")
	for _, a := range addrs {
		if n, ok := a.(*net.IPNet); ok && (n.Contains(want.IP) || want.Contains(n.IP)) {
			return true
		}
	}
	return false
}

// claim takes the subnet for this lab, also from a lab whose home is gone.
func (l *Lab) claim(subnet string) (bool, error) {
	link := filepath.Join(claims, subnet)
	for {
		if err := os.MkdirAll(claims, 0o755); err != nil {
			return false, err
		}
		err := os.Symlink(l.home, link)
		if errors.Is(err, fs.ErrNotExist) {
			continue // another lab released the last claim just now
		}
		if !errors.Is(err, fs.ErrExist) {
			return err == nil, err
		}
		holder, err := os.Readlink(link)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was released just now
		}
		if err != nil || holder == l.home {
			return err == nil, err
		}
		if _, err := os.Stat(holder); err == nil {
			return false, nil
		}
		if err := os.Remove(link); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return false, err
		}
	}
}

// release gives up every claim of the lab with this home.
func release(home string) {
	links, _ := filepath.Glob(filepath.Join(claims, "*"))
	for _, link := range links {
		if holder, err := os.Readlink(link); err == nil && holder == home {
			os.Remove(link)
		}
	}
	os.Remove(claims) // if it was the last
}

// bridgeOf is the name of the bridge of the lab with this home.
func bridgeOf(home string) string {
	sum := sha256.Sum256([]byte(home))
	return "ns" + hex.EncodeToString(sum[:])[:10]
}

// removeBridge removes the bridge that a lab without an engine has left.
func removeBridge(ctx context.Context, home string) error {
	if _, err := net.InterfaceByName(bridgeOf(home)); err != nil {
		return nil // there is none
	}
	if out, err := exec.CommandContext(ctx, "ip", "link", "delete", bridgeOf(home)).CombinedOutput(); err != nil {
		return fmt.Errorf("remove the lab's bridge: %w: %s", err, out)
	}
	return nil
}

// nameBridge gives the network's bridge a name of this lab's own, before any host
// uses it: of two labs that start together the engine would call both bridges the
// same.
func (l *Lab) nameBridge() error {
	file := filepath.Join(l.home, "networks", networkName+".json")
	b, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("name the lab's bridge: %w", err)
	}
	var config map[string]any
	if err := json.Unmarshal(b, &config); err != nil {
		return fmt.Errorf("name the lab's bridge: %w", err)
	}
	config["network_interface"] = bridgeOf(l.home)
	if b, err = json.MarshalIndent(config, "", "  "); err != nil {
		return fmt.Errorf("name the lab's bridge: %w", err)
	}
	return os.WriteFile(file, b, 0o644)
}
