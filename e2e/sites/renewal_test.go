package sites

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"northstake/core/certificate"
	"northstake/core/wire"
	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/auth"
	"northstake/service/store"
)

// replicas are two services that look after certificates all the time, on the same records.
func replicas(t *testing.T) (services []*stage.Service, records *store.Store, seal *auth.Seal) {
	t.Helper()
	ctx := context.Background()
	p, err := lab.OpenPostgres(ctx, stage.Home+"/pg-renewal")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(ctx) })
	first := stage.Home + "/service-renewal"
	for _, state := range []string{first, first + "-too"} {
		if state != first {
			stage.Shell(t, stage.Home, fmt.Sprintf("mkdir -p %s && cp %s/secrets.key %s/admin.token %[1]s/", state, first, first))
		}
		s, err := stage.StartService(state, p.URL(), "--renew-every", "2s")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.End(syscall.SIGTERM) })
		services = append(services, s)
	}
	if records, err = store.Open(ctx, p.URL(), time.Minute, nil); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	if seal, err = auth.OpenSeal(first); err != nil {
		t.Fatal(err)
	}
	return services, records, seal
}

// aged puts one in the place of the certificate that the service has made, by the same authority, of which a
// third of the life is left in so long.
func aged(t *testing.T, records *store.Store, seal *auth.Seal, ground string, in time.Duration, names ...string) *x509.Certificate {
	t.Helper()
	ctx := context.Background()
	opened := func(name string) certificate.Material {
		sealed, err := records.Secret(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		text, err := seal.Open(name, sealed)
		if err != nil {
			t.Fatal(err)
		}
		m, err := certificate.ReadMaterial(text)
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	office := opened("authority/" + ground + "/office")
	key, err := certificate.NewKey("")
	if err != nil {
		t.Fatal(err)
	}
	// From an hour before it is made on: two hours have gone of three when it is due.
	chain, err := certificate.Authority{Certificate: office.Chain.Leaf(), Key: office.Key}.Issue(names, key, time.Now().Add(in-time.Hour), 2*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	text, err := certificate.Material{Chain: chain, Key: key}.PEM()
	if err != nil {
		t.Fatal(err)
	}
	name := wire.CertificateSecret + ground + "/quays"
	sealed, err := seal.Close(name, []byte(text))
	if err == nil {
		err = records.KeepSecret(ctx, name, sealed)
	}
	if err != nil {
		t.Fatal(err)
	}
	return chain.Leaf()
}

// A certificate of which a third of the life is left is made anew, and brought to where it is shown, by one run
// of its own, whichever of two replicas begins it, while visitors ask. A host on which its site was changed by
// hand keeps that, and so the certificate before: that is told, until somebody has put it right.
func TestACertificateIsRenewedByItself(t *testing.T) {
	t.Parallel()
	services, records, seal := replicas(t)
	const declared = "[kit.base]\n[authority.office]\ndomains = [\"saltmarsh.test\"]\n[certificate.quays]\nauthority = \"office\"\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\ncertificate = \"quays\"\ncontent = { dir = \"content\" }\n"
	g := stage.NewGroundOf(t, services[0], []lab.Family{lab.Debian, lab.RedHat}, declared)
	g.Trust()
	g.Apply(0)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(g.Ns(0, "certificates", "office", "--pem", "--ground", g.Name)))
	shown := func(host string) *x509.Certificate {
		t.Helper()
		c, err := visitor{g.Address(host), roots}.shown("timetable.saltmarsh.test", &tls.Config{})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	// What is kept is brought to the hosts, and is renewed there when its time has come.
	before := aged(t, records, seal, g.Name, 2*time.Minute, "timetable.saltmarsh.test")
	quay, pier := g.Hosts[0], g.Hosts[1]
	for _, h := range g.Hosts {
		g.Eventually("the certificate is shown that is to be renewed", func() error {
			if !shown(h).Equal(before) {
				return fmt.Errorf("%s shows another", h)
			}
			return nil
		})
	}
	g.Eventually("the run that has brought it has ended", func() error {
		if out := g.Ns(0, "runs", g.Name); !strings.Contains(out, "done\tthe service") {
			return fmt.Errorf("the runs are\n%s", out)
		}
		return nil
	})
	conf := strings.TrimSpace(g.On(pier, "ls /etc/nginx/conf.d/northstake-timetable.conf"))
	g.On(pier, "sed -i 's/index.html/other.html/' "+conf)
	// And what is declared besides, and not applied, stays so.
	g.DeclareText(declared + "[kit.base.file.\"/srv/notice\"]\ntext = \"x\"\n")
	g.Ns(0, "declare", g.Dir)

	ctx, stop := context.WithCancel(context.Background())
	refused := make(chan error, 1)
	go func() {
		var failed error
		for ctx.Err() == nil {
			if _, _, err := (visitor{g.Address(quay), roots}).get("https://timetable.saltmarsh.test/"); err != nil && failed == nil {
				failed = err
			}
		}
		refused <- failed
	}()
	for began := time.Now(); shown(quay).Equal(before); time.Sleep(200 * time.Millisecond) {
		if time.Since(began) > 4*time.Minute {
			t.Fatalf("%s still shows the one before", quay)
		}
	}
	stop()
	if err := <-refused; err != nil {
		t.Errorf("a visitor was turned away: %v", err)
	}
	g.Eventually("what is left is told", func() error {
		out := g.Ns(0, "certificates", "quays", "--ground", g.Name)
		for _, word := range []string{pier + "/site/timetable was changed by hand, and is left as it is", "after 1 try", "northstake restore", "next try"} {
			if !strings.Contains(out, word) {
				return fmt.Errorf("it does not say %q:\n%s", word, out)
			}
		}
		return nil
	})
	if !shown(pier).Equal(before) || !strings.Contains(g.On(pier, "cat "+conf), "other.html") {
		t.Error("what was changed by hand is not left alone")
	}
	if out := g.Ns(0, "runs", g.Name); strings.Count(out, "the service") != 2 || strings.Count(out, "admin") != 1 {
		t.Errorf("there are other runs than one for each certificate:\n%s", out)
	}
	if out := g.On(quay, "ls /srv/notice 2>/dev/null; ls /etc/nginx/northstake-*.key | wc -l"); strings.TrimSpace(out) != "1" {
		t.Errorf("there is, of what a renewal is not about, or of the certificate before:\n%s", out)
	}
	if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "is valid until") {
		t.Errorf("drift does not tell that the certificate before ends:\n%s", out)
	}

	g.Ns(0, "restore", g.Name, "--yes")
	g.Apply(0)
	if shown(pier).Equal(before) || !shown(pier).Equal(shown(quay)) {
		t.Error("put back and applied, it is another certificate")
	}
	g.NothingToDo()
	g.Eventually("nothing is told any more", func() error {
		if out := g.Ns(0, "certificates", "quays", "--ground", g.Name); strings.Contains(out, "next try") {
			return fmt.Errorf("it says\n%s", out)
		}
		return nil
	})
	if out := g.On(quay, "! grep -rl 'PRIVATE KEY' /var/lib/northstake /var/log /run 2>/dev/null"); out != "" {
		t.Errorf("private keys lie in %s", out)
	}
	if b := stage.Shell(t, filepath.Dir(services[0].Log), "cat service-renewal*.log"); strings.Contains(b, "PRIVATE") {
		t.Error("the service's log has a private key in it")
	}
}
