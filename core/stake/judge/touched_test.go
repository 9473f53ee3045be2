package judge

import (
	"testing"
	"time"

	"northstake/core/stake"
	"northstake/core/wire"
)

// Who last wrote a file is said of what differs in it, and not of rules that somebody took away, or of a site
// that others stand in the way of: those did not come from the file.
func TestWhoWroteAFileIsSaidOfThatFileAlone(t *testing.T) {
	entry := wire.Entry{Kind: wire.EntryFile, Owners: wire.Administrators, Mode: "0644", Touched: wire.Touch{At: time.Now(), Owner: "root"}}
	w := wire.FirewallWant{}
	table := TableOf(w)
	found := wire.FirewallFound{Live: table, Kept: table, File: entry, Boot: "enabled", Loader: &wire.FirewallLoader{Same: true, Wanted: "0644", Mode: "0644"}}
	flushed, edited := found, found
	flushed.Live, edited.Kept = "", "table inet northstake {}\n"
	for name, c := range map[string]struct {
		found wire.FirewallFound
		said  bool
	}{"rules that are taken away": {flushed, false}, "rules that are kept otherwise": {edited, true}} {
		v := judgeTable(w, stake.Input{}, c.found, stake.Verdict{})
		if said := !v.Touched.At.IsZero(); len(v.Differences) == 0 || said != c.said {
			t.Errorf("%s: %+v, and it is said %t who wrote the file", name, v.Differences, said)
		}
	}
	site := wire.SiteWant{Server: "nginx", Service: "nginx", File: "/etc/nginx/a.conf", Text: "a\n"}
	yes := true
	as := wire.SiteFound{File: entry, Text: "a\n", Loaded: &yes}
	other, behind := as, as
	other.Text, behind.Others = "b\n", []wire.Other{{Names: []string{"a.test"}, At: "10.0.0.1:80", By: "apache2"}}
	for name, c := range map[string]struct {
		found wire.SiteFound
		said  bool
	}{"another text": {other, true}, "somebody else who answers": {behind, false}} {
		v := judgeSite(stake.Input{Stake: stake.Stake{Type: "site", Name: "a", Site: "a"}}, site, c.found)
		if said := !v.Touched.At.IsZero(); len(v.Differences) == 0 || said != c.said {
			t.Errorf("%s: %+v, and it is said %t who wrote the file", name, v.Differences, said)
		}
	}
}
