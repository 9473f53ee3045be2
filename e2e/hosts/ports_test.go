package hosts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
)

// filtering is a host whose ports are shut by a firewall of one sort, with what
// changes its rules by hand.
type filtering struct {
	name   string
	family lab.Family
	kit    string
	begin  string // what is done by hand before North Stake comes
	lead   string // leads visitors of port 9443 to port 22 of another host
	edits  []stage.Edit
}

const leadByHand = "nft add table ip theirs; nft 'add chain ip theirs pre { type nat hook prerouting priority -100; }'; nft 'add chain ip theirs post { type nat hook postrouting priority 100; }'; nft add rule ip theirs pre tcp dport 9443 dnat to %[1]s:22; nft add rule ip theirs post ip daddr %[1]s masquerade"

var filterings = []filtering{
	{"nftables", lab.Debian, "inbound = \"declared\"\n", "true", leadByHand, []stage.Edit{
		{"port/8000-8002-tcp", "open now", "nft delete rule inet northstake input handle $(nft -a list table inet northstake | grep 'dport 8000-8002' | grep -o '[0-9]*$')"},
		{"port/5432-tcp", "open after a restart", "sed -i '/dport 5432/d' /etc/northstake/firewall.nft"},
	}},
	{"ufw", lab.Debian, "inbound = \"declared\"\npackages = [\"ufw\"]\n", "apt-get install -y -q ufw >/dev/null 2>&1; ufw allow ssh >/dev/null; ufw --force enable >/dev/null; ufw default allow routed >/dev/null", leadByHand, []stage.Edit{
		{"port/80-tcp", "open now", "ufw delete allow proto tcp from any to any port 80 >/dev/null"},
		{"port/8000-8002-tcp", "open now", "iptables -D ufw-user-input -p tcp -m multiport --dports 8000:8002 -j ACCEPT"},
		{"port/8000-8002-tcp", "open after a restart", "cp /etc/ufw/user.rules /tmp/u; sed -i '/8000/d' /etc/ufw/user.rules"},
		{"port/5432-tcp", "open now", "ufw --force delete $(ufw status numbered | grep 5432 | sed 's/^\\[ *\\([0-9]*\\)\\].*/\\1/' | head -1) >/dev/null"},
	}},
	{"firewalld", lab.RedHat, "inbound = \"declared\"\n", "true", "firewall-cmd -q --add-forward-port=port=9443:proto=tcp:toaddr=%[1]s:toport=22; firewall-cmd -q --add-masquerade", []stage.Edit{
		{"port/8000-8002-tcp", "open now", "firewall-cmd -q --remove-port=8000-8002/tcp"},
		{"port/8000-8002-tcp", "open after a restart", "firewall-cmd -q --permanent --remove-port=8000-8002/tcp"},
		{"port/5432-tcp", "open now", "firewall-cmd -q --remove-rich-rule=\"$(firewall-cmd --list-rich-rules | grep 5432)\""},
		{"port/5432-tcp", "open after a restart", "firewall-cmd -q --permanent --remove-rich-rule=\"$(firewall-cmd --list-rich-rules | grep 5432)\""},
	}},
}

// reaches says whether one lab host can connect to a port of another.
func reaches(g *stage.Ground, from, to string, port int) bool {
	_, err := stage.Lab().Shell(context.Background(), from, fmt.Sprintf("perl -MIO::Socket -e 'exit(IO::Socket::INET->new(PeerAddr=>\"%s\",PeerPort=>%d,Timeout=>2) ? 0 : 1)'", g.Address(to), port))
	return err == nil
}

// Ports, ranges and ports for some networks are open in whichever firewall is
// active, as others find them: a host that a network has in it, and one that it
// has not. What somebody leads to another host is not led there any more (M1).
func TestPortsInEveryFirewall(t *testing.T) {
	t.Parallel()
	for _, f := range filterings {
		t.Run(f.name, func(t *testing.T) {
			t.Parallel()
			g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{f.family, lab.Debian, lab.Debian}, "")
			host, friend, stranger := g.Hosts[0], g.Hosts[1], g.Hosts[2]
			kit := fmt.Sprintf("[kit.base]\n%sports = [\"8000-8002/tcp\"]\n[kit.base.port.\"5432/tcp\"]\nfrom = [\"%s/32\"]\n"+
				"[site.timetable]\non = [%q]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\ncontent = { dir = \"content\" }\n", f.kit, g.Address(friend), host)
			g.Hosts = g.Hosts[:1]
			g.DeclareText(kit)
			g.Trust()
			g.On(host, f.begin)
			if err := stage.Lab().PassOn(context.Background(), host); err != nil {
				t.Fatal(err)
			}
			g.On(host, "apt-get install -y -q nftables >/dev/null 2>&1; "+fmt.Sprintf(f.lead, g.Address(friend)))
			if !reaches(g, stranger, host, 9443) {
				t.Fatal("what is led to the other host does not get there")
			}
			g.Listen(host, 8000, 8002, 8003, 5432)
			if f.name == "nftables" { // what is shut out of what listens is named (V7)
				if c := fmt.Sprint(g.Plan(1).Hosts[0].Cautions); !strings.Contains(c, "this shuts out what answers on this host: ") || !strings.Contains(c, "port 8003/tcp (") || strings.Contains(c, "port 8000/tcp (") {
					t.Errorf("the cautions are %s", c)
				}
			}
			if c := fmt.Sprint(g.Plan(1).Hosts[0].Cautions); !strings.Contains(c, "port 9443/tcp (led elsewhere by table ") {
				t.Errorf("of what is led elsewhere the cautions are %s", c)
			}
			g.Apply(0)
			reach := func(when string) {
				t.Helper()
				for _, c := range []struct {
					from string
					port int
					open bool
				}{{friend, 80, true}, {stranger, 80, true}, {friend, 8000, true}, {stranger, 8002, true}, {stranger, 8003, false}, {friend, 5432, true}, {stranger, 5432, false}, {stranger, 22, true}, {stranger, 9443, false}, {friend, 9443, false}} {
					if got := reaches(g, c.from, host, c.port); got != c.open {
						t.Errorf("%s: port %d can be reached from %s: %t", when, c.port, map[bool]string{true: "the network", false: "elsewhere"}[c.from == friend], got)
					}
				}
			}
			reach("after the run")
			g.NothingToDo()
			g.HandEdits(host, f.edits)
			reach("after hand edits")
			g.Restart(host)
			g.Listen(host, 8000, 8002, 8003, 5432)
			if err := stage.Lab().PassOn(context.Background(), host); err != nil {
				t.Fatal(err)
			}
			g.On(host, fmt.Sprintf(f.lead, g.Address(friend)))
			reach("after a restart")
			g.NothingToDo()
			g.Hosts = append(g.Hosts, friend, stranger) // to be taken away
		})
	}
}

// A firewall program that the same plan installs lets in what is declared at once.
func TestAFirewallThatThePlanBrings(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.RedHat}, "[kit.base]\nservice = { firewalld = { running = true } }\nports = [\"8000/tcp\"]\n"+
		"[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\ncontent = { dir = \"content\" }\n")
	g.Trust()
	host := g.Hosts[0]
	g.On(host, "systemctl disable --now firewalld 2>/dev/null; systemctl unmask firewalld 2>/dev/null || true")
	g.Listen(host, 8000, 8003)
	g.Eventually("a port without a firewall", func() error {
		if !stage.Dialable(g.Address(host) + ":8003") {
			return errors.New("it is shut")
		}
		return nil
	})
	p := g.Plan(1)
	var texts []string
	for _, s := range p.Hosts[0].Steps {
		texts = append(texts, s.Text)
	}
	if !slices.ContainsFunc(texts, func(s string) bool {
		return strings.HasPrefix(s, "open port 8000/tcp in the firewall that is active by then")
	}) {
		t.Errorf("the plan is to %s", strings.Join(texts, "; "))
	}
	g.ApplyPlan(0, p.Id)
	for port, open := range map[string]bool{":80": true, ":8000": true, ":8003": false, ":22": true} {
		if stage.Dialable(g.Address(host)+port) != open {
			t.Errorf("port %s can be reached: %t", port, !open)
		}
	}
	g.NothingToDo()
}

// A firewall program that shuts the way in is not confirmed, although its service is active before its
// rules are up, and goes again by itself (H1).
func TestAFirewallThatShutsTheWayIn(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.RedHat}, "# instead of [site.timetable]\n[kit.base]\nservice = { firewalld = { running = true, at_boot = true } }\n")
	g.Trust()
	host := g.Hosts[0]
	g.On(host, "firewall-cmd -q --permanent --zone=public --remove-service=ssh; systemctl disable -q --now firewalld")
	r := g.ApplyPlan(2, g.Plan(1).Id)
	if h := r.Hosts[0]; h.State == "done" || !strings.Contains(h.Fault.What, "no new connection can be made") {
		t.Errorf("the run is %s: %+v", h.State, h.Fault)
	}
	g.Eventually("the way in is open again", func() error {
		if !stage.Dialable(g.Address(host) + ":22") {
			return errors.New("it is shut")
		}
		return nil
	})
	if out := g.On(host, "systemctl is-active firewalld; systemctl is-enabled firewalld; true"); strings.TrimSpace(out) != "inactive\ndisabled" {
		t.Errorf("firewalld is %s", out)
	}
	if got := stage.Texts(g.Plan(1)); len(got) != 1 {
		t.Errorf("the next plan is to %s", strings.Join(got, "; "))
	}
}
