package service

import (
	"compress/gzip"
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
)

// Of each release in testdata/kept there are the database, the directory of the service's state
// and what lay on two hosts: one on which runs ended, and one on which a run was cut off in the
// middle of a step, by TestKeep. Addresses and keys of hosts are filled in.
var (
	keptGrounds = []string{"kept", "cut"}
	keptHosts   = []string{"quay1", "pier1"}
	keptContent = map[string]string{
		"files/tides.tmpl":             "office = {{ .givens.office }}, {{ .givens.berth }}, {{ .host.name }}\n",
		"files/tides.cron":             "# one\n",
		"content/timetable/index.html": stage.Page("one"),
		"content/timetable/more.html":  stage.Page("one"),
		"content/freight/freight.html": "Freight desk\n",
		"content/leaflets/isles.txt":   "isles\n",
		"content/leaflets/a/tides.txt": "tides\n",
	}
)

// keptHost makes a host of those that releases left something on.
func keptHost(g *stage.Ground, host string) {
	g.T.Helper()
	ctx := context.Background()
	n, err := stage.NextNumber()
	if err != nil {
		g.T.Fatal(err)
	}
	g.Number[host] = n
	if err := stage.Lab().Ensure(ctx, lab.Debian, host, n); err != nil {
		g.T.Fatal(err)
	}
	g.T.Cleanup(func() { stage.Lab().Remove(ctx, host) })
	g.On(host, stage.Started)
}

// hostKeys are a host's public keys and their fingerprints, by their types as the SSH server
// names its files.
func hostKeys(g *stage.Ground, host string) map[string][2]string {
	out := map[string][2]string{}
	for line := range strings.Lines(g.On(host, "cd /etc/ssh; for k in ssh_host_*_key.pub; do echo \"$k $(cut -d' ' -f2 $k) $(ssh-keygen -lf $k | cut -d' ' -f2)\"; done")) {
		f := strings.Fields(line)
		out[strings.TrimSuffix(strings.TrimPrefix(f[0], "ssh_host_"), "_key.pub")] = [2]string{f[1], f[2]}
	}
	return out
}

// restored puts on a host what a release left there.
func restored(g *stage.Ground, dir, host string) {
	g.T.Helper()
	b, err := os.ReadFile(filepath.Join(dir, host+".tar.gz"))
	if err != nil {
		g.T.Fatal(err)
	}
	if err := stage.Lab().Put(context.Background(), host, "/left.tar.gz", b); err != nil {
		g.T.Fatal(err)
	}
	g.On(host, "export DEBIAN_FRONTEND=noninteractive; apt-get install -y -q -o Dpkg::Options::=--force-confold curl cron nginx nftables tree >/dev/null && "+
		"tar -xpzf /left.tar.gz -C / --acls && rm /left.tar.gz && systemctl daemon-reload && systemctl restart northstake-firewall cron nginx")
}

// keptService is a service on the records of a release, and the grounds in them, whose hosts are as
// that release left them.
func keptService(t *testing.T, dir string) []*stage.Ground {
	t.Helper()
	ctx := context.Background()
	version := filepath.Base(dir)
	p, err := lab.OpenPostgres(ctx, filepath.Join(stage.Home, "pg-kept-"+version))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(ctx) })
	s := &stage.Service{State: filepath.Join(stage.Home, "service-kept-"+version), Database: p.URL()}
	s.Log = s.State + ".log"
	if err := os.CopyFS(s.State, os.DirFS(filepath.Join(dir, "state"))); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"", "seal.key", "admin.token"} {
		if err := os.Chmod(filepath.Join(s.State, f), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	var grounds []*stage.Ground
	var filled []string
	for i, host := range keptHosts {
		g := &stage.Ground{T: t, Service: s, Name: keptGrounds[i], Dir: t.TempDir(), Hosts: []string{host}, Number: map[string]int{}}
		grounds = append(grounds, g)
		keptHost(g, host)
		restored(g, dir, host)
		filled = append(filled, "ADDRESS-"+host, g.Address(host))
		for typ, key := range hostKeys(g, host) {
			filled = append(filled, "KEY-"+typ+"-"+host, key[0], "FINGERPRINT-"+typ+"-"+host, key[1])
		}
	}
	f, err := os.Open(filepath.Join(dir, "records.sql.gz"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	records, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	psql := exec.Command("psql", "-q", "-v", "ON_ERROR_STOP=1", p.URL())
	psql.Stdin = strings.NewReader(strings.NewReplacer(filled...).Replace(string(records)))
	if out, err := psql.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if err := s.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.End(syscall.SIGTERM) })
	return grounds
}

// What an earlier release kept in its database and on its hosts is read: drift, plan, restore,
// apply and retire of it work, and a run that it was cut off in is told and let go of (V5).
func TestWhatEarlierReleasesKeptIsRead(t *testing.T) {
	t.Parallel()
	dirs, err := filepath.Glob("testdata/kept/*/records.sql.gz")
	if err != nil || len(dirs) == 0 {
		t.Fatal("no records of an earlier release", err)
	}
	for _, f := range dirs {
		t.Run(filepath.Base(filepath.Dir(f)), func(t *testing.T) { // one after the other: hosts have the same names
			grounds := keptService(t, filepath.Dir(f))
			kept, cut := grounds[0], grounds[1]
			quay, pier := kept.Hosts[0], cut.Hosts[0]

			// The records, as they were before anybody has looked.
			says := func(g *stage.Ground, status int, command string, words ...string) string {
				t.Helper()
				out := g.Ns(status, strings.Fields(command)...)
				for _, w := range words {
					if !strings.Contains(out, w) {
						t.Errorf("%s does not say %q:\n%s", command, w, out)
					}
				}
				return out
			}
			says(kept, 0, "grounds", "What an earlier release kept")
			says(kept, 0, "show "+quay, "set\tquay1/firewall/inbound", "shifted\tquay1/file/etc/tides.conf", "berth\tthe north quay")
			says(kept, 0, "runs kept", "1\t1\tdone", "3\t3\tdone", "5\t5\tdone")
			says(kept, 0, "watch 1", "install 4 packages", "make system account tides", "run 1: 1 host done")
			says(kept, 0, "watch 4", "install package tree")
			says(kept, 0, "secret list", "keeper")
			if r := cut.Ended(6); r.State != "failed" { // taken over, with a key that lets nobody in
				t.Errorf("run 6 is %s", r.State)
			}
			kept.Ns(0, "secret", "keep", "keeper", "--file", stage.Lab().KeyFile())

			// How it stands now: what somebody has changed is drift, and nothing else is.
			out := says(kept, 1, "drift kept", "shifted\tquay1/file/etc/tides.conf", "stray\tquay1/content/srv/www/timetable:/srv/www/timetable/upload.txt", "stray\tquay1/package/tree", "1 stake has shifted")
			if strings.Contains(out, "unread") {
				t.Errorf("drift says:\n%s", out)
			}
			says(kept, 0, "drift cut", "nothing has shifted")
			says(kept, 0, "restore kept --yes", "write /etc/tides.conf")
			if out := kept.On(quay, "cat /etc/tides.conf"); strings.Contains(out, "by hand") {
				t.Errorf("after restore: %s", out)
			}
			says(kept, 2, "apply 6 --ground kept --yes", "the host has changed since the plan was made", "plan again")

			// What was declared and never applied, in that release's words.
			kept.Apply(0)
			if status, body := kept.Fetch(quay, "/"); status != 200 || body != stage.Page("two") {
				t.Errorf("%d %s", status, body)
			}
			if out := kept.On(quay, "cat /srv/www/timetable/upload.txt /etc/hosts.tides"); !strings.HasPrefix(out, "tide\n") || strings.Count(out, "North Stake keeps") != 2 {
				t.Errorf("what others own, and a portion: %s", out)
			}
			kept.NothingToDo()

			// The run that was cut off: nothing is done that it did not show.
			says(cut, 2, "resume 6", "plan again", "northstake journal HOST --dismiss 6/2")
			cut.Apply(0)
			if status, body := cut.Fetch(pier, "/"); status != 200 || body != stage.Page("two") {
				t.Errorf("%d %s", status, body)
			}
			cut.NothingToDo()
			cut.Ns(0, "journal", pier, "--dismiss", "6/2", "--reason", "it was there")
			says(cut, 0, "journal "+pier+" --all", "dismissed")

			// And all of it goes.
			for _, g := range grounds {
				h := g.Hosts[0]
				says(g, 0, "retire --all --ground "+g.Name+" --yes --removing "+strings.ReplaceAll("HOST/content/srv/www/timetable,HOST/content/srv/www/freight,HOST/content/srv/leaflets,HOST/account/tides", "HOST", h))
				left := g.On(h, "cat /etc/hosts.tides; ls -d /etc/tides.conf /etc/cron.d/tides /srv/current /srv/leaflets /srv/tides /srv/www/freight /etc/nginx/sites-enabled/northstake* /usr/sbin/nginx 2>/dev/null; nft list ruleset 2>/dev/null; getent passwd tides; true")
				if left != "" {
					t.Errorf("left on %s:\n%s", h, left)
				}
			}
		})
	}
}
