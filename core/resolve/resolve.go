// Package resolve works out the stakes of a host from a declaration and the
// host's traits. People declare sites; a site implies a package, a service,
// directories, content, a virtual host, ports and probes.
package resolve

import (
	"fmt"
	"strings"

	"northstake/core/declare"
	"northstake/core/stake"
)

// Probe is one HTTP check of a site on one host.
type Probe struct {
	Site     string `json:"site"`
	Host     string `json:"host"`
	Name     string `json:"name"` // sent as the Host header
	Port     int    `json:"port"`
	Path     string `json:"path"`
	Status   int    `json:"status"`
	Contains string `json:"contains,omitempty"`
}

// Host is what a declaration means for one host. Stakes stand in an order in
// which they can be brought about.
type Host struct {
	Stakes []stake.Stake `json:"stakes"`
	Probes []Probe       `json:"probes"`
}

// OneHost works out the stakes and probes of a host, whose family's web servers lie as
// the layouts say. The error names what the host's platform cannot do.
func OneHost(d *declare.Declaration, name string, traits stake.Traits, layouts map[string]stake.Layout) (Host, error) {
	if d.Hosts[name] == nil {
		return Host{}, fmt.Errorf("ground %s has no host %q", d.Ground.Name, name)
	}
	stakes, err := (&stake.Wanting{D: d, Host: name, Traits: traits, Layouts: layouts}).Stakes()
	if err != nil {
		return Host{}, err
	}
	return Host{stakes, ProbesOf(d, name)}, nil
}

// ProbesOf lists the checks of the sites that a host serves: those that are
// declared, and one of / for a site that has content and declares none.
func ProbesOf(d *declare.Declaration, host string) []Probe {
	var out []Probe
	for _, name := range d.SitesOn(host) {
		s := d.Sites[name]
		base := Probe{Site: name, Host: host, Name: strings.Replace(s.Names[0], "*", "www", 1), Port: s.ListenOn()[0], Path: "/", Status: 200}
		for _, p := range s.Probes {
			one := base
			one.Path, one.Contains = p.Path, p.Contains
			if p.Status != 0 {
				one.Status = p.Status
			}
			out = append(out, one)
		}
		if len(s.Probes) == 0 && s.Content != nil {
			out = append(out, base)
		}
	}
	return out
}
