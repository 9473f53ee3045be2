package stage

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"northstake/core/plan"
	"northstake/service/contract"
)

// Difference shows how something was and is.
func Difference(a, b string) string { return "before:\n" + a + "\nafter:\n" + b }

// StandsAsDeclared looks at a host where a user would look.
func (g *Ground) StandsAsDeclared(host string) {
	g.T.Helper()
	g.Eventually("the site on "+host, func() error {
		status, body, err := Get("http://"+g.Address(host)+"/", "timetable.saltmarsh.test")
		if err == nil && (status != 200 || !strings.Contains(body, "Next sailing")) {
			err = fmt.Errorf("it answers %d: %s", status, body)
		}
		return err
	})
	for script, want := range map[string]string{
		"systemctl is-enabled nginx cron northstake-firewall":         "enabled\nenabled\nenabled",
		"systemctl is-active nginx cron":                              "active\nactive",
		"ss -Hltn sport = :80 | wc -l":                                "2",
		"nft list table inet northstake | grep -c 'tcp dport'":        "2",
		"readlink /etc/nginx/sites-enabled/northstake-timetable.conf": "/etc/nginx/sites-available/northstake-timetable.conf",
		"stat -c '%U:%G %a' /srv/www/timetable/index.html":            "root:root 644",
		"dpkg --audit": "",
	} {
		if got := strings.TrimSpace(g.On(host, script)); got != want {
			g.T.Errorf("on %s, %s says %q, want %q", host, script, got, want)
		}
	}
	// A port that is not declared is dropped: from outside nothing answers.
	g.On(host, "systemd-run --quiet --collect --unit=other perl -MIO::Socket::INET -e 'my $s=IO::Socket::INET->new(LocalPort=>8099,Listen=>5,ReuseAddr=>1); while(my $c=$s->accept){print $c qq(HTTP/1.0 200 OK\\r\\n\\r\\n);close $c}'; until ss -ltn | grep -q ':8099 '; do sleep 0.02; done; curl -s -o /dev/null -m 2 http://127.0.0.1:8099/ || true")
	if out, err := Lab().Shell(context.Background(), host, "systemctl is-active other"); err == nil && strings.TrimSpace(out) == "active" {
		if Dialable(g.Address(host) + ":8099") {
			g.T.Errorf("port 8099 of %s, which nobody declared, can be reached", host)
		}
	}
	g.On(host, "systemctl stop other")
}

// Edit is a change by hand: the stake that is found shifted then, how the attribute begins in which
// it differs, and the script that makes the change.
type Edit [3]string

// HandEdits makes each change on the host; each has to be found as shifted, named
// by the drift check, and put back, and the next plan has to be empty.
func (g *Ground) HandEdits(host string, edits []Edit) {
	outer := g.T
	defer func() { g.T = outer }()
	for _, e := range edits {
		stake, attribute, script := e[0], e[1], e[2]
		outer.(*testing.T).Run(stake+" "+attribute, func(t *testing.T) {
			g.T = t
			g.On(host, script)
			row, ok := g.Survey(host)[stake]
			if !ok || row.Standing != plan.Shifted {
				t.Fatalf("after %q the stake is %q: %+v", script, row.Standing, row)
			}
			found := false
			for _, d := range row.Differences {
				found = found || strings.HasPrefix(d.Attribute, attribute)
			}
			if !found {
				t.Errorf("after %q no difference is in %q: %+v", script, attribute, row.Differences)
			}
			if row.ShiftedAt.IsZero() {
				t.Error("it is not said since when")
			}
			out := g.Ns(1, "drift", g.Name)
			if !strings.Contains(out, host+"/"+stake) {
				t.Errorf("drift does not name it:\n%s", out)
			}
			var r contract.Run
			out, errs, code := g.Run("restore", g.Name, "--yes", "--json")
			if code != 0 {
				t.Fatalf("restore exited with %d: %s%s", code, out, errs)
			}
			Decode(t, out, &r)
			if row := g.Survey(host)[stake]; row.Standing != plan.Set {
				t.Errorf("after the restore it is %s: %+v", row.Standing, row.Differences)
			}
			g.NothingToDo()
		})
	}
}
