package stake

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/wire"
)

// WebServerOwn says what becomes of what a web server's package brings of its own.
type WebServerOwn struct {
	DefaultSite string `toml:"default_site" json:"default_site,omitempty" enum:"kept,off,removed" default:"switched off where a declared site needs its port" example:"\"kept\""`
}

var _ = declare.Explain[WebServerOwn](map[string]string{
	"default_site": "What becomes of the site that its package brings, and of the ports that it listens on by itself: kept, switched off so that it can be switched on again, or removed.",
})

var _ = Register(Kind{
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
	Implied: func(w *Wanting) error {
		seen := map[string]bool{}
		for _, site := range w.D.SitesOn(w.Host) {
			name := serverOf(w.D.Sites[site])
			layout, known := layoutOf(w, name)
			if seen[name] || !known {
				continue
			}
			seen[name] = true
			at := w.D.At("site", site, "server")
			want := ownOf(w, name, layout)
			if want.Import.File == "" && (want.Default == wire.DefaultKept || len(want.Links)+len(want.Paths()) == 0) {
				continue // nothing of its own is in the way
			}
			w.Want(Stake{Type: "server", Name: name, Want: wire.JSON(want), From: at, Needs: []string{wantPackageFor(w, site, layout.Package, at)}})
		}
		return nil
	},
})

var _ = Judged("server", Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        Judging(judgeServer),
	Follows:      true,
	Unwanted:     unwantedServer,
	Away:         Judging(awayServer),
})

// ownOf is what is wanted of a server's own configuration: what stands in the way of a
// declared site goes, and what is declared counts.
func ownOf(w *Wanting, server string, layout wire.Layout) wire.ServerWant {
	want := wire.ServerWant{Server: server, Service: layout.Service, Default: wire.DefaultKept, Own: layout.Own}
	mine, others := map[int]bool{}, map[int]bool{}
	for _, name := range w.D.SitesOn(w.Host) {
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
	for _, own := range declare.Nearest[WebServerOwn](w.D, w.Host, "server") {
		if own.Name == server && own.Value.DefaultSite != "" {
			want.Default = own.Value.DefaultSite
		}
	}
	if want.Default == wire.DefaultKept {
		want.Silent = nil
	}
	return want
}

// listens are the ports on which a server listens by lines beside those of sites: as its package brings
// them, or as they are where it is installed, but for those that are switched off.
func listens(w *Wanting, server string, layout wire.Layout, own wire.ServerWant) []int {
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

// Silenced says whether another server's default site gives a port up on a host, for the
// sites that are declared there.
func silenced(w *Wanting, server string) []string {
	var out []string
	for name, layout := range w.Layouts {
		if name != server && w.Wants(wire.Local("server", name)) && ownOf(w, name, layout).Default != wire.DefaultKept {
			out = append(out, layout.Program)
		}
	}
	slices.Sort(out)
	return out
}

// wantedAgain are the ports on which it is to listen by itself, and the lines for which are switched off.
func wantedAgain(w wire.ServerWant, text string) []int {
	var out []int
	for line := range strings.Lines(text) {
		if off, is := strings.CutPrefix(line, wire.OffMark); is {
			if m := wire.ListensAt.FindStringSubmatch(strings.TrimSuffix(off, "\n")); m != nil {
				if p, _ := strconv.Atoi(m[1]); !slices.Contains(w.Silent, p) {
					out = append(out, p)
				}
			}
		}
	}
	return out
}

// serverWords say what is switched off.
func serverWords(w wire.ServerWant) (verb, text string) {
	what := "the default site that " + w.Service + " brings"
	if len(w.Silent) > 0 {
		what += " and port " + strconv.Itoa(w.Silent[0]) + " on which it listens by itself"
	}
	take := ""
	if w.Import.File != "" {
		take = "include sites by the line " + w.Import.Line + " in " + w.Import.File
	}
	switch w.Default {
	case wire.DefaultKept:
		return "include", take
	case wire.DefaultRemoved:
		verb, text = "remove", "remove "+what
	default:
		verb, text = "switch", "switch off "+what
	}
	if take != "" {
		text += ", and " + take
	}
	return verb, text
}

func judgeServer(in Input, w wire.ServerWant, f wire.ServerFound) Verdict {
	var d differences
	var details []wire.Detail
	v := Verdict{Gone: !f.Installed, Touched: f.Touched}
	if !f.Installed {
		d.add("its own configuration", "default site "+w.Default, "not there yet")
	}
	for _, p := range w.Paths() {
		text, there := f.Texts[p]
		if wanted := w.Edit(p, text); there && wanted != text {
			d.differ(p, "default site "+w.Default, "as the package, or somebody, has it")
			details = append(details, wire.Detail{Title: p, Text: udiff.Unified("found", "wanted", text, wanted), Diff: true})
		}
	}
	if w.Default != wire.DefaultKept {
		for _, l := range f.Links {
			d.differ(l, "default site "+w.Default, "switched on")
		}
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	if w.Default != wire.DefaultKept {
		for _, e := range f.Edited {
			v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s is not as the package of %s brought it, and is %s", e, w.Service, map[bool]string{false: "switched off", true: "removed"}[w.Default == wire.DefaultRemoved]),
				fmt.Sprintf("if it is in use, add server.%s = { default_site = \"kept\" } to [host.%s], or declare what it serves as a site", w.Server, in.Stake.Host)})
		}
	}
	verb, text := serverWords(w)
	if again := wantedAgain(w, f.Texts[w.Listen]); len(again) > 0 && len(details) == 1 && details[0].Title == w.Listen && len(f.Links) == 0 {
		verb, text = "put", fmt.Sprintf("have %s listen by itself on %s again", w.Service, portsInWords(again))
	}
	v.Moves = []wire.Move{{Verb: verb, Text: text, Details: details, Work: wire.JSON(wire.ServerWork{ServerWant: w})}}
	v.Nudges = []Nudge{{Target: wire.Local("service", w.Service), How: "reload", Reason: "its own configuration changed"}}
	return v
}

// unwantedServer says whether a server that no declared site is served by any more goes on for others,
// and listens by lines of its own on a port that a declared site needs.
func unwantedServer(gone Stake, around Surroundings) (why, forStake string) {
	w, ok := last[wire.ServerWant](gone.Want)
	if !ok || w.Listen == "" {
		return "", ""
	}
	in := Input{Declared: around.Declared, Leaving: around.Leaving, Traits: around.Traits, Memo: around.Memo}
	for _, s := range in.Traits.WebServers {
		if s.Name != w.Server || len(servedFor(in, s.Program)) == 0 {
			continue
		}
		for d, site := range of[wire.SiteWant](in.Declared, "site", in.Memo) {
			for _, l := range s.Listens {
				if on := in.Traits.On(l.Port); l.File == w.Listen && needsPort(site, l.Port) && site.ServedBy() != wire.Local("service", w.Service) && on != nil && on.Program == s.Program {
					return fmt.Sprintf("site %s listens on port %d with %s now", d.Name, l.Port, site.By()), d.Local()
				}
			}
		}
	}
	return "", ""
}

// needsPort says whether a site listens on a port of the host.
func needsPort(w wire.SiteWant, port int) bool { return !w.Off && slices.Contains(w.Listen, port) }

// awayServer puts back what was switched off, where no declared site needs its port. A server that goes
// on for others lets go of the ports that one needs.
func awayServer(in Input, w wire.ServerWant, f wire.ServerFound) Verdict {
	back := w
	back.Default, back.Silent, back.Import = wire.DefaultKept, nil, wire.Import{}
	verb, text := "put", "put the default site of "+w.Service+" back"
	if in.Pending {
		i := slices.IndexFunc(in.Traits.WebServers, func(s wire.WebServer) bool { return s.Name == w.Server && len(servedFor(in, s.Program)) > 0 })
		if i < 0 {
			return Verdict{Gone: true} // it stops, and with it all that it listens on
		}
		lines := in.Traits.WebServers[i].Listens
		back = w
		for _, site := range of[wire.SiteWant](in.Declared, "site", in.Memo) {
			for _, port := range site.Listen {
				if needsPort(site, port) && slices.Contains(lines, wire.ListenLine{Port: port, File: w.Listen}) && site.ServedBy() != wire.Local("service", w.Service) && !slices.Contains(back.Silent, port) {
					back.Silent = append(slices.Clone(back.Silent), port)
				}
			}
		}
		verb, text = "switch", "switch off the lines by which "+w.Service+" listens by itself on "+portsInWords(back.Silent)
	}
	v := Verdict{Gone: true}
	var details []wire.Detail
	for _, p := range w.Paths() {
		found, there := f.Texts[p]
		if wanted := back.Edit(p, found); f.Installed && there && wanted != found {
			v.Gone = false
			details = append(details, wire.Detail{Title: p, Text: udiff.Unified("found", "wanted", found, wanted), Diff: true})
		}
	}
	if v.Gone {
		// With what it has on a port that a declared site needs there is something to do yet.
		why, _ := unwantedServer(in.Stake, Surroundings{Declared: in.Declared, Leaving: in.Leaving, Traits: in.Traits, Memo: in.Memo})
		v.Gone = in.Pending || why == ""
		return v
	}
	if !in.Pending {
		for d, site := range of[wire.SiteWant](in.Declared, "site", in.Memo) {
			if needsPort(site, wire.DefaultPort) {
				v.Cautions = []Note{{in.Stake.Address(), fmt.Sprintf("the default site of %s stays switched off: site %s needs its port", w.Service, d.Name), "it goes back when no site listens there"}}
				return v
			}
		}
	}
	v.Moves = []wire.Move{{Verb: verb, Text: text, Details: details, Work: wire.JSON(wire.ServerWork{ServerWant: back}), Stays: in.Pending}}
	if in.Pending {
		v.Late = true
		v.Nudges = []Nudge{{Target: wire.Local("service", w.Service), How: "reload", Reason: "it lets go of " + portsInWords(back.Silent)}}
	}
	return v
}

// portsInWords are "port 80", or "ports 80 and 8080".
func portsInWords(ports []int) string {
	words := make([]string, len(ports))
	for i, p := range ports {
		words[i] = strconv.Itoa(p)
	}
	return map[bool]string{true: "port ", false: "ports "}[len(ports) == 1] + strings.Join(words, " and ")
}
