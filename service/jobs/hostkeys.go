package jobs

import (
	"context"
	"fmt"

	"northstake/host/reach"
	"northstake/service/contract"
	"northstake/service/store"
)

// HostKeys asks a host for its keys; nothing but the key exchange happens.
func (j *Service) HostKeys(ctx context.Context, g store.Ground, host string) (contract.HostKeys, error) {
	d, err := j.Declaration(ctx, g.ID, g.Newest)
	if err != nil {
		return contract.HostKeys{}, err
	}
	h := d.Hosts[host]
	if h == nil {
		return contract.HostKeys{}, Unknown{host}
	}
	out := contract.HostKeys{Host: host, Address: h.Address, Port: d.ReachOf(host).Port}
	if out.Trusted, err = j.Store.HostKeys(ctx, g.ID, host); err != nil {
		return out, err
	}
	if out.Offered, err = reach.HostKeys(ctx, reach.Target{Host: host, Address: h.Address, Port: d.ReachOf(host).Port}); err != nil {
		return out, err
	}
	for _, k := range out.Offered {
		owner, err := j.Store.KeyOwner(ctx, g.ID, k.Fingerprint)
		if err != nil {
			return out, err
		}
		if owner != "" && owner != host {
			out.Owner = owner
			out.Warning = fmt.Sprintf("the key that %s offers at %s is the one known for host %s: the two addresses look swapped", host, h.Address, owner)
		}
	}
	return out, nil
}
