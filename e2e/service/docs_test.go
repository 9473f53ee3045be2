package service

import (
	"fmt"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// documented is the declaration that the pieces of the page about declarations make
// together.
func documented(t *testing.T) string {
	t.Helper()
	page, err := os.ReadFile(filepath.Join(stage.Root, "docs", "declaration.md"))
	if err != nil {
		t.Fatal(err)
	}
	var text strings.Builder
	for i, part := range strings.Split(string(page), "```") {
		if piece, ok := strings.CutPrefix(part, "toml\n"); ok && i%2 == 1 {
			text.WriteString(piece)
		}
	}
	return text.String()
}

// debSuite makes a source with suites and parts of what stage.DebSource has made in dir.
func debSuite(t *testing.T, dir, gpg, suite, part string) {
	t.Helper()
	stage.Shell(t, dir, fmt.Sprintf("d=dists/%[1]s/%[2]s/binary-amd64; mkdir -p $d; cp Packages $d/; cd dists/%[1]s; "+
		"(printf 'Origin: Saltmarsh\nSuite: %[1]s\nCodename: %[1]s\nComponents: %[2]s\nArchitectures: amd64\nDate: %%s\nSHA256:\n' \"$(date -Ru)\"; "+
		"printf ' %%s %%s %[2]s/binary-amd64/Packages\n' $(sha256sum < %[2]s/binary-amd64/Packages | cut -d' ' -f1) $(wc -c < %[2]s/binary-amd64/Packages)) > R; mv R Release; "+
		"gpg --homedir %[3]s --batch --quiet --passphrase '' --clearsign -o InRelease Release", suite, part, gpg))
}

// What the page about declarations shows can be planned and applied as it stands, on
// hosts of both families: only the addresses are those of the lab.
func TestTheDocumentedDeclarationIsApplied(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian, lab.RedHat}, "")
	quay, pier := g.Hosts[0], g.Hosts[1]
	dir, url := stage.Served(t)
	gpg, public := stage.SigningKey(t, "Ferries <ferries@saltmarsh.test>", "never", "")
	stage.DebSource(t, dir, gpg, "", "1.0-1")
	debSuite(t, dir, gpg, "bookworm", "main")
	g.Beside("files/ferries.asc", public)
	g.Beside("files/motd.tmpl", "{{ .host.name }} of {{ .ground }}: {{ .givens.office }}, {{ .hosts."+quay+".address }}\n")
	g.Beside("content/timetable/index.html", stage.Page("one"))
	g.Beside("content/brochures/index.html", "To the islands")
	g.Beside("files/tides.cron", "# no tides today\n")
	g.Beside("bin/hosts", "#!/bin/sh\n")
	stage.Shell(t, g.Dir, "chmod +x bin/hosts; ssh-keygen -q -t ed25519 -N '' -f authority; mv authority.pub files/host-authority.pub; rm authority")
	stage.Shell(t, dir, "mkdir -p leaflets/print; echo Leaflet > leaflets/print/one.html; tar czf leaflets.tar.gz leaflets; rm -r leaflets; git init -q -b main tables; cd tables; mkdir public; echo Table > public/table.html; "+
		"git add .; git -c user.name=Keeper -c user.email=keeper@saltmarsh.test commit -qm tables; git tag v1.2")
	sum := strings.Fields(stage.Shell(t, dir, "sha256sum leaflets.tar.gz"))[0]
	repositories := httptest.NewServer(&cgi.Handler{Path: filepath.Join(strings.TrimSpace(stage.Shell(t, dir, "git --exec-path")), "git-http-backend"), Env: []string{"GIT_PROJECT_ROOT=" + dir, "GIT_HTTP_EXPORT_ALL=1"}})
	t.Cleanup(repositories.Close)
	g.On(pier, "useradd -m -s /bin/bash warden && echo 'warden:low-tide-7' | chpasswd && echo 'warden ALL=(ALL) ALL' > /etc/sudoers.d/warden")
	stage.Shell(t, g.Dir, "mkdir certificates; for n in logbook soundings; do openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -subj /CN=$n -addext subjectAltName=DNS:$n.saltmarsh.test -keyout $n.key -out certificates/$n.pem -days 60 2>/dev/null; done;"+
		"openssl pkcs12 -export -passout pass:ebb-and-flow -inkey soundings.key -in certificates/soundings.pem -out certificates/soundings.p12; rm certificates/soundings.pem soundings.key")
	for name, secret := range map[string]string{"logbook-key": stage.Shell(t, g.Dir, "cat logbook.key; rm logbook.key"), "soundings-bundle": "ebb-and-flow", "warden-password": "low-tide-7", "code-token": "a-token", "bridge-accounts": "# on duty\npilot:$2a$05$wnIedQZoBK./fT8HLKmSs.LW1uMPoinJt0UyarYIBtdkC0Et.e6YS\n"} {
		file := filepath.Join(t.TempDir(), "secret")
		stage.Write(t, file, secret)
		g.Ns(0, "secret", "keep", name, "--file", file)
	}
	stage.Shell(t, g.Dir, "rm -r content/index.html content/linked.html; mkdir -p freight-1.2/public; echo Freight > freight-1.2/public/freight.html; tar czf files/freight.tar.gz freight-1.2; rm -r freight-1.2")
	text := strings.NewReplacer(`"saltmarsh"`, fmt.Sprintf("%q", g.Name), "quay1", quay, "pier1", pier,
		"10.88.0.11", g.Address(quay), "10.88.0.12", g.Address(pier), "https://packages.saltmarsh.test/debian", url,
		"https://downloads.saltmarsh.test", url, "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08", sum, "https://code.saltmarsh.test/tables.git", repositories.URL+"/tables/.git").Replace(documented(t))
	stage.Write(t, filepath.Join(g.Dir, "ground.toml"), text)
	// A program of somebody's is not run until the user has agreed to it.
	if out := g.Ns(2, "lint", g.Dir); !strings.Contains(out, "--allow-program") {
		t.Errorf("lint says %s", out)
	}
	g.Ns(0, "lint", "--allow-program", g.Dir)
	stage.Shell(t, g.Dir, `mkdir -p .config/northstake; printf '%s  %s\n' "$(sha256sum < bin/hosts | cut -d' ' -f1)" "$PWD/bin/hosts" > .config/northstake/programs`)
	g.Ns(0, "lint", g.Dir)
	g.Trust()
	on := []string{g.Name, "--on", quay + "," + pier}
	var p contract.Plan
	stage.Decode(t, g.Ns(1, append([]string{"plan", "--json"}, on...)...), &p)
	for _, h := range g.ApplyPlan(0, p.Id).Hosts {
		if h.State != "done" {
			t.Errorf("%s ended %s: %+v", h.Place, h.State, h.Fault)
		}
	}
	if out := g.Ns(0, append([]string{"plan"}, on...)...); !strings.Contains(out, "nothing to do") {
		t.Errorf("the second plan:\n%s", out)
	}
	for _, c := range []struct{ name, path, want string }{
		{"timetable.saltmarsh.test", "/", "Next sailing"}, {"timetable.saltmarsh.test", "/freight/", "Freight"}, {"islands.saltmarsh.test", "/", "To the islands"},
	} {
		if status, body, err := stage.Get("http://"+g.Address(quay)+c.path, c.name); err != nil || status != 200 || !strings.Contains(body, c.want) {
			t.Errorf("%s%s answers %d %q, %v", c.name, c.path, status, body, err)
		}
	}
	for host, office := range map[string]string{quay: "the harbour office", pier: "the old pier"} {
		if got, want := strings.TrimSpace(g.On(host, "cat /etc/motd")), fmt.Sprintf("%s of %s: %s, %s", host, g.Name, office, g.Address(quay)); got != want {
			t.Errorf("%s: the text is %q, not %q", host, got, want)
		}
	}
	if got := strings.TrimSpace(g.On(quay, "cat /srv/leaflets/one.html /srv/tables/table.html; stat -c '%U %G %a' /srv/tables /srv/tables/table.html; dpkg-query -W -f '${Version}' tide-tables")); got != "Leaflet\nTable\ntides tides 750\ntides tides 640\n1.0-1" {
		t.Errorf("on %s there is %q", quay, got)
	}
	if got := strings.TrimSpace(g.On(pier, "cat /srv/leaflets/one.html; id -Gn tides")); got != "Leaflet\ntides adm" {
		t.Errorf("on %s there is %q", pier, got)
	}
	if got := strings.TrimSpace(g.On(quay, "readlink /srv/current; stat -c '%U %a' /srv/tides; apt-cache policy tide-tables | grep -c "+url)); got != "/srv/tides\ntides 750\n1" {
		t.Errorf("on %s there is %q", quay, got)
	}
}
