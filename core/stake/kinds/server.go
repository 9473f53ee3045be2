package kinds

import (
	"fmt"
	"slices"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/wire"
)

// WebServerOwn says what becomes of what a web server's package brings of its own.
type WebServerOwn struct {
	DefaultSite string `toml:"default_site" json:"default_site,omitempty" enum:"kept,off,removed" default:"switched off where a declared site needs its port" example:"\"kept\""`
}

var _ = declare.Explain[WebServerOwn](map[string]string{
	"default_site": "What becomes of the site that its package brings, and of the ports that it listens on by itself: kept, switched off so that it can be switched on again, or removed.",
})

var _ = stake.Register(stake.Kind{
	Type:     "server",
	After:    []string{"package"},
	Settings: []declare.Setting{declare.Table[WebServerOwn]("server", "SERVER", "Web servers, for what their packages bring of their own.", `{ nginx = { default_site = "kept" } }`)},
	Check: func(c *check.Checker, s declare.Settings, at []string) {
		servers := declare.Values("SiteSettings", "server")
		for _, name := range declare.NamesIn(s, "server") {
			if !slices.Contains(servers, name) {
				c.Say(check.At(at, "server", name), fmt.Sprintf("no web server is called %q here", name), "there are "+strings.Join(servers, ", "))
			}
		}
	},
	Implied: func(w *stake.Wanting) error {
		seen := map[string]bool{}
		for _, site := range w.D.SitesOn(w.Place) {
			name := serverOf(w.D.Sites[site])
			layout, known := layoutOf(w, name)
			if seen[name] || !known {
				continue
			}
			seen[name] = true
			at := w.D.At("site", site, "server")
			want := ownOf(w, name, layout)
			if want.Import.File == "" && len(want.Options) == 0 && (want.Default == wire.DefaultKept || len(want.Links)+len(want.Paths()) == 0) {
				continue // nothing of its own is in the way
			}
			w.Want(stake.Stake{Type: "server", Name: name, Want: wire.JSON(want), From: at, Needs: []string{wantPackageFor(w, site, layout.Package, at)}})
		}
		return nil
	},
})

// ownOf is what is wanted of a server's own configuration: what stands in the way of a
// declared site goes, and what is declared counts.
func ownOf(w *stake.Wanting, server string, layout wire.Layout) wire.ServerWant {
	want := wire.ServerWant{Server: server, Service: layout.Service, Default: wire.DefaultKept, Own: layout.Own}
	mine, others := map[int]bool{}, map[int]bool{}
	for _, name := range w.D.SitesOn(w.Place) {
		s := w.D.Sites[name]
		for _, p := range s.Ports() {
			if s.IsServed() {
				mine[p], others[p] = mine[p] || serverOf(s) == server, others[p] || serverOf(s) != server
			}
		}
	}
	if mine[wire.DefaultPort] || others[wire.DefaultPort] {
		want.Default = wire.DefaultOff
	}
	if others[wire.DefaultPort] && !mine[wire.DefaultPort] && slices.Contains(listens(w, server, layout, wire.ServerWant{}), wire.DefaultPort) {
		want.Silent = []int{wire.DefaultPort}
	}
	for _, own := range declare.Nearest[WebServerOwn](w.D, w.Place, "server") {
		if own.Name == server && own.Value.DefaultSite != "" {
			want.Default = own.Value.DefaultSite
		}
	}
	if want.Default == wire.DefaultKept {
		want.Silent = nil
	}
	if want.Whole != "" {
		want.Options = optionsFor(w, server)
	}
	if len(want.Options) == 0 {
		want.Whole = ""
	}
	return want
}

// optionsFor is what has to hold for all that a server serves, so that of HTTPS it does what is declared and no
// more: by itself it opens port 80 to send visitors on, and speaks HTTP/3 (caddyserver's global options).
func optionsFor(w *stake.Wanting, server string) []wire.Option {
	secure, sends := false, false
	for _, name := range w.D.SitesOn(w.Place) {
		s := w.D.Sites[name]
		if !s.IsServed() || serverOf(s) != server || s.Certificate == "" {
			continue
		}
		secure = true
		sends = sends || !s.Listening().Has(wire.OwnPort(wire.HTTP))
	}
	var out []wire.Option
	if sends {
		out = append(out, wire.Option{Name: "auto_https", Lines: []string{"auto_https disable_redirects"}})
	}
	if secure {
		out = append(out, wire.Option{Name: "servers", Lines: []string{"servers {", "\tprotocols h1 h2", "}"}})
	}
	return out
}

// listens are the ports on which a server listens by lines beside those of sites: as its package brings
// them, or as they are where it is installed, but for those that are switched off.
func listens(w *stake.Wanting, server string, layout wire.Layout, own wire.ServerWant) []int {
	lines := make([]wire.ListenLine, len(layout.Listens))
	for i, p := range layout.Listens {
		lines[i] = wire.ListenLine{Port: p, File: layout.Own.Listen}
	}
	for _, s := range w.Traits.WebServers {
		if s.Name == server && s.Listens != nil {
			lines = s.Listens
		}
	}
	var out []int
	for _, l := range lines {
		if l.File != own.Listen || !slices.Contains(own.Silent, l.Port) {
			out = append(out, l.Port)
		}
	}
	return out
}

// silenced says whether another server's default site gives a port up on a host, for the
// sites that are declared there.
func silenced(w *stake.Wanting, server string) []string {
	var out []string
	for name, layout := range w.Layouts {
		if name != server && w.Wants(wire.Local("server", name)) && ownOf(w, name, layout).Default != wire.DefaultKept {
			out = append(out, layout.Program)
		}
	}
	slices.Sort(out)
	return out
}
