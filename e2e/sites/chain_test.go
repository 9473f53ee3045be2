package sites

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/lab"
)

// issuer is an authority between a root and the certificates of servers.
type issuer struct {
	root, is *x509.Certificate
	key      *ecdsa.PrivateKey
}

func newIssuer(t *testing.T) issuer {
	rootKey, key := newKey(t), newKey(t)
	ca := func(name string) *x509.Certificate {
		return &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(3, 0, 0),
			IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	}
	root := signed(t, ca("root"), ca("root"), &rootKey.PublicKey, rootKey)
	return issuer{root, signed(t, ca("between"), root, &key.PublicKey, rootKey), key}
}

func newKey(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func signed(t *testing.T, what, by *x509.Certificate, of *ecdsa.PublicKey, key *ecdsa.PrivateKey) *x509.Certificate {
	t.Helper()
	der, err := x509.CreateCertificate(rand.Reader, what, by, of, key)
	if err != nil {
		t.Fatal(err)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// issue makes a certificate for a name in a time, with its issuer's behind it, and its key, both in PEM.
func (i issuer) issue(t *testing.T, name string, since, until time.Time) (chain, key string) {
	t.Helper()
	own := newKey(t)
	leaf := signed(t, &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, NotBefore: since, NotAfter: until,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, i.is, &own.PublicKey, i.key)
	der, err := x509.MarshalPKCS8PrivateKey(own)
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	for _, c := range []*x509.Certificate{leaf, i.is} {
		if err := pem.Encode(&out, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}); err != nil {
			t.Fatal(err)
		}
	}
	return out.String(), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// A chain that is shown cut off is found, though the files are as declared, and put right; a certificate that ends
// soon is told of by drift, and one that is out of date, or not valid yet, is put in place by no plan.
func TestTheChainAndTheTimeOfACertificate(t *testing.T) {
	t.Parallel()
	const day = 24 * time.Hour
	const name = "timetable.saltmarsh.test"
	for _, server := range []string{"nginx", "httpd", "caddy"} {
		t.Run(server, func(t *testing.T) {
			t.Parallel()
			g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "")
			h, by, d := g.Hosts[0], newIssuer(t), t.TempDir()
			g.Trust()
			hand := func(since, until time.Time) {
				t.Helper()
				chain, key := by.issue(t, name, since, until)
				g.Beside("certificates/own.pem", chain)
				stage.Write(t, filepath.Join(d, "key"), key)
				g.Ns(0, "secret", "keep", g.Name+"-key", "--file", filepath.Join(d, "key"))
				g.DeclareText(fmt.Sprintf("[kit.base]\n[certificate.own]\nfile = \"certificates/own.pem\"\nkey_secret = \"%s-key\"\n[site.timetable]\non = [\"h*\"]\nserver = %q\nnames = [%q]\ncertificate = \"own\"\ncontent = { dir = \"content\" }\n", g.Name, server, name))
				g.Ns(0, "declare", g.Dir)
			}
			now := time.Now()
			hand(now.Add(-60*day), now.Add(90*day))
			if out := g.Ns(1, "plan", g.Name); !strings.Contains(out, "certificate own: its chain is not whole") {
				t.Errorf("the plan does not say that systems do not know the authority: %s", out)
			}
			g.Apply(0)
			g.NothingToDo()
			v := visitor{g.Address(h), x509.NewCertPool()}
			v.roots.AddCert(by.root)
			whole := func(is bool) {
				t.Helper()
				if _, _, err := v.get("https://" + name + "/"); (err == nil) != is {
					t.Errorf("a visitor who knows the root alone is answered with %v", err)
				}
			}
			whole(true)

			// Somebody cuts the chain off, has the server read it, and puts the file back.
			service := strings.TrimSpace(g.On(h, "systemctl list-units --type=service --state=running --plain --no-legend | grep -o -e '^nginx' -e '^apache2' -e '^caddy'"))
			chain := strings.TrimSpace(g.On(h, "ls /etc/*/*/northstake-timetable-*.pem /etc/*/northstake-timetable-*.pem 2>/dev/null | head -1"))
			again := "systemctl reload " + service
			if server == "caddy" { // it looks at a file anew where it is called otherwise alone
				again = "systemctl restart " + service
			}
			g.On(h, "cp -p "+chain+" /tmp/whole.pem; sed '/END CERT/q' /tmp/whole.pem > "+chain+" && "+again+"; sleep 1; cp -p /tmp/whole.pem "+chain)
			whole(false)
			if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "with 0 of them") {
				t.Errorf("drift says %s", out)
			}
			g.Ns(0, "restore", g.Name, "--yes")
			whole(true)
			g.Ns(0, "drift", g.Name)

			hand(now.Add(-60*day), now.Add(20*day))
			g.Apply(0)
			if out := g.Ns(0, "drift", g.Name); !strings.Contains(out, "certificate own is valid until") {
				t.Errorf("drift does not tell that it ends: %s", out)
			}
			for said, at := range map[string][2]time.Time{"it has been out of date since": {now.Add(-60 * day), now.Add(-time.Minute)}, "it is not valid before": {now.Add(day), now.Add(90 * day)}} {
				hand(at[0], at[1])
				if out := g.Ns(2, "plan", g.Name); !strings.Contains(out, "certificate own: "+said) {
					t.Errorf("the plan does not say that %s: %s", said, out)
				}
			}
			whole(true)
		})
	}
}
