package judge

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("server", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgeServer),
	Follows:      true,
	Unwanted:     unwantedServer,
	Away:         stake.Judging(awayServer),
})

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
	var more []string
	if w.Import.File != "" {
		more = append(more, "include sites by the line "+w.Import.Line+" in "+string(w.Import.File))
	}
	if len(w.Options) > 0 {
		var names []string
		for _, o := range w.Options {
			names = append(names, o.Name)
		}
		more = append(more, fmt.Sprintf("have %s do of HTTPS what is declared, and no more (%s in %s)", w.Service, strings.Join(names, ", "), w.Whole))
	}
	switch w.Default {
	case wire.DefaultKept:
		verb = "include"
		if w.Import.File == "" {
			verb = "have"
		}
	case wire.DefaultRemoved:
		verb, more = "remove", append([]string{"remove " + what}, more...)
	default:
		verb, more = "switch", append([]string{"switch off " + what}, more...)
	}
	return verb, strings.Join(more, ", and ")
}

// ownWords say what is wanted of a server's own configuration.
func ownWords(w wire.ServerWant) string {
	if len(w.Options) > 0 {
		return "default site " + w.Default + ", HTTPS as declared"
	}
	return "default site " + w.Default
}

func judgeServer(in stake.Input, w wire.ServerWant, f wire.ServerFound) stake.Verdict {
	var d differences
	var details []wire.Detail
	v := stake.Verdict{Gone: !f.Installed, Touched: f.Touched}
	if !f.Installed {
		d.add("its own configuration", ownWords(w), "not there yet")
	}
	for _, p := range w.Paths() {
		text, there := f.Texts[p]
		if wanted := w.Edit(p, text); there && wanted != text {
			d.differ(string(p), ownWords(w), "as the package, or somebody, has it")
			details = append(details, wire.Detail{Title: string(p), Text: udiff.Unified("found", "wanted", text, wanted), Diff: true})
		}
	}
	if w.Default != wire.DefaultKept {
		for _, l := range f.Links {
			d.differ(string(l), "default site "+w.Default, "switched on")
		}
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	if w.Default != wire.DefaultKept {
		for _, e := range f.Edited {
			v.Cautions = append(v.Cautions, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is not as the package of %s brought it, and is %s", e, w.Service, map[bool]string{false: "switched off", true: "removed"}[w.Default == wire.DefaultRemoved]),
				Fix: fmt.Sprintf("if it is in use, add server.%s = { default_site = \"kept\" } to [host.%s], or declare what it serves as a site", w.Server, in.Stake.Place)})
		}
	}
	v.Cautions = append(v.Cautions, othersWithout(in, w)...)
	verb, text := serverWords(w)
	if again := wantedAgain(w, f.Texts[w.Listen]); len(again) > 0 && len(details) == 1 && details[0].Title == string(w.Listen) && len(f.Links) == 0 {
		verb, text = "put", fmt.Sprintf("have %s listen by itself on %s again", w.Service, portsInWords(again))
	}
	v.Moves = []wire.Move{{Verb: verb, Text: text, Details: details, Work: wire.JSON(wire.ServerWork{ServerWant: w})}}
	v.Nudges = []stake.Nudge{{Target: wire.Local("service", w.Service), How: wire.TellReload, Reason: "its own configuration changed"}}
	return v
}

// othersWithout are the virtual hosts of others at HTTPS that lose what a server does by itself.
func othersWithout(in stake.Input, w wire.ServerWant) []stake.Note {
	if len(w.Options) == 0 {
		return nil
	}
	i := slices.IndexFunc(in.Traits.WebServers, func(s wire.WebServer) bool { return s.Name == w.Server })
	if i < 0 {
		return nil
	}
	var out []stake.Note
	for _, s := range servedFor(in, in.Traits.WebServers[i].Program) {
		if slices.Contains(s.Ports, wire.OwnPort(wire.HTTPS)) {
			out = append(out, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("what %s serves by itself for %s as well ends: HTTP/3, and sending visitors of plain HTTP on", w.Service, s.File), Fix: "say there what it is to do, or declare it as a site"})
		}
	}
	return out
}

// unwantedServer says whether a server that no declared site is served by any more goes on for others,
// and listens by lines of its own on a port that a declared site needs.
func unwantedServer(gone stake.Stake, around stake.Surroundings) (why, forStake string) {
	w, ok := stake.Decoded[wire.ServerWant](gone.Want)
	if !ok || w.Listen == "" {
		return "", ""
	}
	in := stake.Input{Declared: around.Declared, Leaving: around.Leaving, Traits: around.Traits, Memo: around.Memo}
	for _, s := range in.Traits.WebServers {
		if s.Name != w.Server || len(servedFor(in, s.Program)) == 0 {
			continue
		}
		for d, site := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
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
func needsPort(w wire.SiteWant, port int) bool { return !w.Off && w.Listen.Has(port) }

// awayServer puts back what was switched off, where no declared site needs its port. A server that goes
// on for others lets go of the ports that one needs.
func awayServer(in stake.Input, w wire.ServerWant, f wire.ServerFound) stake.Verdict {
	back := w
	back.Default, back.Silent, back.Import, back.Options = wire.DefaultKept, nil, wire.Import{}, nil
	verb, text := "put", "put the default site of "+w.Service+" back"
	if in.Pending {
		i := slices.IndexFunc(in.Traits.WebServers, func(s wire.WebServer) bool { return s.Name == w.Server && len(servedFor(in, s.Program)) > 0 })
		if i < 0 {
			return stake.Verdict{Gone: true} // it stops, and with it all that it listens on
		}
		lines := in.Traits.WebServers[i].Listens
		back = w
		for _, site := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
			for _, port := range site.Listen.Ports() {
				if needsPort(site, port) && slices.Contains(lines, wire.ListenLine{Port: port, File: w.Listen}) && site.ServedBy() != wire.Local("service", w.Service) && !slices.Contains(back.Silent, port) {
					back.Silent = append(slices.Clone(back.Silent), port)
				}
			}
		}
		verb, text = "switch", "switch off the lines by which "+w.Service+" listens by itself on "+portsInWords(back.Silent)
	}
	v := stake.Verdict{Gone: true}
	var details []wire.Detail
	for _, p := range w.Paths() {
		found, there := f.Texts[p]
		if wanted := back.Edit(p, found); f.Installed && there && wanted != found {
			v.Gone = false
			details = append(details, wire.Detail{Title: string(p), Text: udiff.Unified("found", "wanted", found, wanted), Diff: true})
		}
	}
	if v.Gone {
		// With what it has on a port that a declared site needs there is something to do yet.
		why, _ := unwantedServer(in.Stake, stake.Surroundings{Declared: in.Declared, Leaving: in.Leaving, Traits: in.Traits, Memo: in.Memo})
		v.Gone = in.Pending || why == ""
		return v
	}
	if !in.Pending {
		for d, site := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
			if needsPort(site, wire.DefaultPort) {
				v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("the default site of %s stays switched off: site %s needs its port", w.Service, d.Name), Fix: "it goes back when no site listens there"}}
				return v
			}
		}
	}
	v.Moves = []wire.Move{{Verb: verb, Text: text, Details: details, Work: wire.JSON(wire.ServerWork{ServerWant: back}), Stays: in.Pending}}
	if in.Pending {
		v.Late = true
		v.Nudges = []stake.Nudge{{Target: wire.Local("service", w.Service), How: wire.TellReload, Reason: "it lets go of " + portsInWords(back.Silent)}}
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
