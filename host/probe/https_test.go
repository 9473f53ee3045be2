package probe

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"northstake/core/certificate"
	"northstake/core/wire"
)

// A probe over HTTPS takes the certificate that is declared, in its time and for the name, and no other that
// nobody knows.
func TestProbesOverHTTPS(t *testing.T) {
	key, err := certificate.NewKey("")
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		made  time.Time
		as    string // the name that is asked for
		other bool   // another certificate is declared
		wrong string // "" where all is well
	}{
		"as declared":              {time.Now(), "quays.saltmarsh.test", false, ""},
		"out of date":              {time.Now().Add(-48 * time.Hour), "quays.saltmarsh.test", false, "expired"},
		"not valid yet":            {time.Now().Add(48 * time.Hour), "quays.saltmarsh.test", false, "not yet valid"},
		"for another name":         {time.Now(), "isles.saltmarsh.test", false, "isles.saltmarsh.test"},
		"another than is declared": {time.Now(), "quays.saltmarsh.test", true, "unknown authority"},
	} {
		chain, err := certificate.SelfSigned([]string{"quays.saltmarsh.test"}, key, c.made, 24*time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("Next sailing")) }))
		s.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{chain.Leaf().Raw}, PrivateKey: key}}}
		s.StartTLS()
		port, err := strconv.Atoi(s.URL[strings.LastIndex(s.URL, ":")+1:])
		if err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(chain.Leaf().Raw)
		if c.other {
			sum = sha256.Sum256(nil)
		}
		p := wire.Probe{Endpoint: wire.Endpoint{Scheme: wire.HTTPS, Name: c.as, Port: port}, Check: wire.Check{Path: "/", Status: 200}, Fingerprint: hex.EncodeToString(sum[:])}
		r := Fetch(context.Background(), Asked{p, "127.0.0.1", "inside"})
		if r.OK != (c.wrong == "") || !strings.Contains(r.Words(), c.wrong) {
			t.Errorf("%s: %v, %s", name, r.OK, r.Words())
		}
		s.Close()
	}
}

// What a site shows behind its certificate is as wanted where all of that is there, in its order.
func TestWhatIsShownBehindACertificate(t *testing.T) {
	made := func(name string) certificate.Chain {
		key, err := certificate.NewKey("")
		if err != nil {
			t.Fatal(err)
		}
		c, err := certificate.SelfSigned([]string{name}, key, time.Now(), time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	leaf, first, second, other := made("a.test").Leaf(), made("b.test").Leaf(), made("c.test").Leaf(), made("d.test").Leaf()
	type chain = []*x509.Certificate
	for _, c := range []struct {
		shown  chain
		other  bool
		behind int
	}{
		{shown: chain{leaf, first, second}},
		{shown: chain{leaf, first, second, other}},
		{shown: chain{leaf}, other: true},
		{shown: chain{leaf, first}, other: true, behind: 1},
		{shown: chain{leaf, first, other}, other: true, behind: 1},
		{shown: chain{leaf, second, first}, other: true},
		{shown: chain{other, first, second}, other: true},
	} {
		err := shows(&tls.ConnectionState{PeerCertificates: c.shown}, sumOf(leaf), []string{sumOf(first), sumOf(second)})
		var is *OtherCertificate
		if errors.As(err, &is) != c.other || c.other && (is.Behind != c.behind || is.Shown != sumOf(c.shown[0])) {
			t.Errorf("%d are shown: %+v", len(c.shown), err)
		}
	}
}
