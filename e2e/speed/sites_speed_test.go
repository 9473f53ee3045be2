//go:build bench

package speed

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/resolve"
	"northstake/core/wire"
	"northstake/e2e/stage"
	"northstake/host/family"
	"northstake/lab"
	"northstake/service/contract"
)

const (
	manySites  = 500
	manyPaths  = 30
	pathRounds = 15
)

// TestSpeedOfSites times 500 new sites on one host, and a change of all of them, planned and
// applied, beside a shell script on another host that writes the same files, tests them and
// reloads; for each server.
func TestSpeedOfSites(t *testing.T) {
	var text strings.Builder
	fmt.Fprintf(&text, "%d sites on one lab host, new and then all of them changed: northstake plan and apply, beside a shell script that makes the same directories, writes the same files, has the server test them, and reloads it, over ssh to another host. Once each, side by side.\n\nMade on %s, on 2 processors.\n\n| what | script | plan | apply | ratio | wanted |\n|---|---:|---:|---:|---:|---:|\n", manySites, time.Now().Format(time.DateOnly))
	for _, server := range []string{"nginx", "httpd", "caddy"} {
		g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian, lab.Debian}, "")
		host, other := g.Hosts[0], g.Hosts[1]
		layout := family.Layouts("debian")[server]
		declared := func(tide string, sites int) string {
			var b strings.Builder
			fmt.Fprintf(&b, "[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\nsudo = true\n[host.%s]\naddress = %q\n[host.%s]\naddress = %q\n", g.Name, host, g.Address(host), other, g.Address(other))
			for i := range sites {
				fmt.Fprintf(&b, "[site.s%d]\non = [%q]\nserver = %q\nnames = [\"s%d.test\"]\nlisten = [8000]\nheaders = { X-Tide = %q }\n", i, host, server, i, tide)
			}
			return b.String()
		}
		install := "DEBIAN_FRONTEND=noninteractive apt-get install -y -q " + layout.Package + " >/dev/null 2>&1; mkdir -p " + string(layout.SitesDir)
		g.On(host, install)
		g.On(other, install+"; [ -e /etc/caddy/Caddyfile ] && echo 'import conf.d/*.conf' >> /etc/caddy/Caddyfile; true")
		g.Beside("ground.toml", declared("ebb", 1))
		g.Trust()
		g.Apply(0)
		for _, round := range []string{"flood", "slack"} {
			script := siteScript(t, declared(round, manySites), host, layout)
			g.Beside("script.sh", script)
			byHand := timed(t, g.Dir, stage.SshTo(g.Address(other))+" sudo sh -s < script.sh")
			g.Beside("ground.toml", declared(round, manySites))
			g.Ns(0, "declare", g.Dir)
			start := time.Now()
			p := g.Plan(1)
			planned := time.Since(start)
			start = time.Now()
			if r := g.ApplyPlan(0, p.Id); r.State != contract.RunStateDone {
				t.Fatalf("%s: the run is %s", server, r.State)
			}
			applied := time.Since(start)
			what := map[string]string{"flood": "new", "slack": "changed"}[round]
			fmt.Fprintf(&text, "| %d sites of %s, %s | %.1f s | %.1f s | %.1f s | %.1f | 5 |\n", manySites, server, what, byHand.Seconds(), planned.Seconds(), applied.Seconds(), (planned+applied).Seconds()/byHand.Seconds())
			t.Log(text.String()[strings.LastIndex(strings.TrimSpace(text.String()), "\n"):])
		}
	}
	text.WriteString("\n" + speedOfPaths(t))
	section(t, "Many sites", text.String())
}

// siteScript is a shell script that brings about the sites of a declaration.
func siteScript(t *testing.T, text, host string, layout wire.Layout) string {
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	h, err := resolve.OnePlace(d, host, wire.Traits{Family: "debian", IPv6: true}, family.Layouts("debian"), nil)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	b.WriteString("set -e\n")
	for _, s := range h.Stakes {
		switch s.Type {
		case "directory":
			fmt.Fprintf(&b, "mkdir -p %s\n", s.Name)
		case "site":
			w, err := wire.Decode[wire.SiteWant](nil, s.Name, s.Want)
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(&b, "cat > %s <<'END-OF-SITE'\n%sEND-OF-SITE\n", w.File, w.Text)
			if w.Link != "" {
				fmt.Fprintf(&b, "ln -sf %s %s\n", w.File, w.Link)
			}
		}
	}
	b.WriteString(strings.ReplaceAll(strings.Join(layout.Test, " "), "{dir}", string(layout.Dir)) + " >/dev/null 2>&1\nsync\nsystemctl reload " + layout.Service + "\n")
	return b.String()
}

// speedOfPaths is what a site of 30 paths costs beside one of none.
func speedOfPaths(t *testing.T) string {
	g := stage.NewGround(t, stage.Shared(), 1, "")
	times := map[string][]time.Duration{}
	paths := func(n int) string {
		var b strings.Builder
		b.WriteString("[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n[site.timetable.path]\n")
		for i := range n {
			fmt.Fprintf(&b, "\"/p%d\" = { moved_to = \"/q%d\", headers = { X-Path = \"%d\" } }\n", i, i, i)
		}
		return b.String()
	}
	g.DeclareText(paths(0))
	g.Trust()
	g.Apply(0)
	for _, n := range []int{0, manyPaths} {
		g.DeclareText(paths(n))
		g.Ns(0, "declare", g.Dir)
		applyAny(g)
		for range pathRounds {
			for what, args := range map[string][]string{"lint": {"lint", g.Dir}, "survey": {"survey", g.Name}, "plan": {"plan", g.Name}} {
				start := time.Now()
				g.Ns(0, args...)
				times[fmt.Sprintf("%s %d", what, n)] = append(times[fmt.Sprintf("%s %d", what, n)], time.Since(start))
			}
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "A site of %d paths beside one of none; medians of %d, with the start of the command.\n\n| what | no path | %d paths | ratio |\n|---|---:|---:|---:|\n", manyPaths, pathRounds, manyPaths)
	for _, what := range []string{"lint", "survey", "plan"} {
		none, many := middle(times[what+" 0"]), middle(times[fmt.Sprintf("%s %d", what, manyPaths)])
		fmt.Fprintf(&b, "| northstake %s | %.0f ms | %.0f ms | %.2f |\n", what, float64(none.Microseconds())/1000, float64(many.Microseconds())/1000, float64(many)/float64(none))
	}
	return b.String()
}

// applyAny applies what there is to apply, if there is anything.
func applyAny(g *stage.Ground) {
	g.T.Helper()
	var p contract.Plan
	out, _, _ := g.Run("plan", g.Name, "--json")
	stage.Decode(g.T, out, &p)
	if p.Steps > 0 {
		g.ApplyPlan(0, p.Id)
	}
}
