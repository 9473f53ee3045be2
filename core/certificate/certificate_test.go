package certificate

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"os"
	"slices"
	"strings"
	"testing"
	"time"
)

var now = time.Date(2026, 12, 2, 12, 0, 0, 0, time.UTC)

const name = "timetable.saltmarsh.test"

func key(t testing.TB, kind string) crypto.Signer {
	t.Helper()
	k, err := NewKey(kind)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// one is a certificate that is right, but for what change does to it.
type made struct {
	*x509.Certificate
	key crypto.Signer
}

func (by *made) signs(t testing.TB, k crypto.Signer, change func(c *x509.Certificate)) *made {
	t.Helper()
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), NotBefore: now.AddDate(0, -1, 0), NotAfter: now.AddDate(0, 2, 0), Subject: pkix.Name{CommonName: name},
		DNSNames: []string{name}, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true}
	if change != nil {
		change(c)
	}
	parent, signer := c, k
	if by != nil {
		parent, signer = by.Certificate, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, k.Public(), signer)
	if err != nil {
		t.Fatal(err)
	}
	out, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return &made{out, k}
}

func authority(name string) func(c *x509.Certificate) {
	return func(c *x509.Certificate) {
		c.Subject, c.DNSNames, c.IsCA, c.ExtKeyUsage, c.KeyUsage = pkix.Name{CommonName: name}, nil, true, nil, x509.KeyUsageCertSign
		c.NotAfter = now.AddDate(5, 0, 0)
	}
}

func text(list ...*made) string {
	var c Chain
	for _, m := range list {
		c = append(c, m.Certificate)
	}
	return c.PEM()
}

// Files that hold no chain are told apart, with the line of what is wrong.
func TestBrokenChains(t *testing.T) {
	k := key(t, "")
	root := (*made)(nil).signs(t, k, authority("Harbour Root"))
	middle := root.signs(t, k, authority("Harbour Office"))
	other := (*made)(nil).signs(t, key(t, ""), authority("Other Root"))
	leaf := middle.signs(t, k, nil)
	whole := text(leaf, middle)
	private, err := KeyPEM(k)
	if err != nil {
		t.Fatal(err)
	}
	block := func(label string, b []byte) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: label, Bytes: b}))
	}
	bundle, err := os.ReadFile("testdata/aes.p12")
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(whole, "\n")
	// Where what stands behind a certificate begins: they are not all of one length.
	behind := func(c *made) string {
		return fmt.Sprintf("begins in line %d", strings.Count(text(c), "\n")+1)
	}
	for _, c := range []struct{ name, text, want string }{
		{"empty", " \n", "it is empty"},
		{"words", "nothing\n", "it holds no certificate"},
		{"binary", string(leaf.Raw), "in its binary form (DER)"},
		{"bundle", string(bundle), "it is a PKCS#12 bundle; declare it as bundle"},
		{"other binary", "0\x03\x02\x01\x05", "a binary form that is none of a certificate"},
		{"UTF-16", "\xff\xfe-\x00-\x00", "it is text in UTF-16"},
		{"cut off", whole[:len(whole)-40], behind(leaf) + " (\"CERTIFICATE\") is cut off"},
		{"cut off in its first line", "-----BEGIN CERT", "begins in line 1 ("},
		{"a line is missing", strings.Join(slices.Delete(slices.Clone(lines), 4, 5), ""), "the certificate that begins in line 1 cannot be read"},
		{"the END is missing", strings.Join(slices.Delete(slices.Clone(lines), slices.Index(lines, "-----END CERTIFICATE-----\n"), slices.Index(lines, "-----END CERTIFICATE-----\n")+1), ""), "begins in line 1 (\"CERTIFICATE\") is cut off"},
		{"a changed letter", strings.Replace(whole, "\nMII", "\nM*I", 1), "begins in line 1 (\"CERTIFICATE\") is cut off, or was changed"},
		{"not a certificate inside", "for people\n" + block("CERTIFICATE", []byte("tides")), "begins in line 2 cannot be read"},
		{"key first", private + whole, "line 1 begins a private key"},
		{"key last", whole + private, "begins a private key, and what lies beside a declaration is kept in every revision"},
		{"key of RSA", whole + block("RSA PRIVATE KEY", []byte("x")), "begins a private key"},
		{"encrypted key", whole + block("ENCRYPTED PRIVATE KEY", []byte("x")), "begins a private key"},
		{"request", block("CERTIFICATE REQUEST", []byte("x")), "line 1 begins a request for a certificate"},
		{"revocations", whole + block("X509 CRL", []byte("x")), "begins a list of revoked certificates"},
		{"PKCS#7", block("PKCS7", []byte("x")), "a PKCS#7 message"},
		{"public key", block("PUBLIC KEY", []byte("x")), "a public key"},
		{"openssl's own", block("TRUSTED CERTIFICATE", leaf.Raw), "openssl's own form"},
		{"a kind of its own", block("TIDE TABLE", leaf.Raw), "a block of the kind \"TIDE TABLE\""},
		{"twice", text(leaf, middle, leaf), "are the same"},
		{"wrong order", text(middle, leaf), "put them in this order: that " + behind(middle)[len("begins "):] + " (" + name + "), that in line 1 (Harbour Office)"},
		{"wrong order of three", text(leaf, root, middle), "put them in this order: that in line 1 (" + name + "), that in line"},
		{"a stranger behind it", text(leaf, other), "the chain breaks off: that in line 1 (" + name + ") is signed by Harbour Office, and behind it stands that in line"},
		{"one is missing between", text(leaf, root), "and behind it stands"},
		{"two for servers", text(leaf, middle.signs(t, key(t, ""), nil)), "the chain breaks off"},
	} {
		_, err := ReadChain([]byte(c.text))
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.name, err, c.want)
		}
	}
	for name, text := range map[string]string{"alone": text(leaf), "with what is behind it": whole, "to its root": text(leaf, middle, root),
		"with words around": "Subject: timetable\r\n" + strings.ReplaceAll(whole, "\n", "\r\n") + "end", "an older label": block("X509 CERTIFICATE", leaf.Raw)} {
		c, err := ReadChain([]byte(text))
		if err != nil || !c.Leaf().Equal(leaf.Certificate) {
			t.Errorf("%s: %v", name, err)
		}
		if again, err := ReadChain([]byte(c.PEM())); err != nil || len(again) != len(c) {
			t.Errorf("%s, written anew: %v", name, err)
		}
	}
}

// What is no private key is told apart, and nothing of a key is said.
func TestBrokenKeys(t *testing.T) {
	k := key(t, "")
	good, err := KeyPEM(k)
	if err != nil {
		t.Fatal(err)
	}
	other, err := KeyPEM(key(t, "ecdsa-p384"))
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.MarshalECPrivateKey(k.(*ecdsa.PrivateKey))
	if err != nil {
		t.Fatal(err)
	}
	block := func(label string, headers map[string]string, b []byte) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: label, Headers: headers, Bytes: b}))
	}
	leaf := (*made)(nil).signs(t, k, nil)
	for _, c := range []struct{ name, text, want string }{
		{"empty", "", "it holds no private key in PEM"},
		{"a certificate", text(leaf), "it is a certificate, and no private key"},
		{"a public key", block("PUBLIC KEY", nil, []byte("x")), "it holds a public key"},
		{"encrypted", block("ENCRYPTED PRIVATE KEY", nil, []byte("x")), "is encrypted with a password; take its password off"},
		{"encrypted in the older way", block("EC PRIVATE KEY", map[string]string{"Proc-Type": "4,ENCRYPTED"}, []byte("x")), "is encrypted with a password"},
		{"of SSH", block("OPENSSH PRIVATE KEY", nil, []byte("x")), "it holds a key for SSH"},
		{"of DSA", block("DSA PRIVATE KEY", nil, []byte("x")), "a DSA key, which no browser takes"},
		{"damaged", block("PRIVATE KEY", nil, []byte("x")), "cannot be read"},
		{"cut off", good[:100], "begins in line 1 (\"PRIVATE KEY\") is cut off"},
		{"two", good + other, "more than one private key"},
		{"parameters alone", block("EC PARAMETERS", nil, []byte("x")), "it holds no private key in PEM"},
	} {
		_, err := ReadKey([]byte(c.text))
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.name, err, c.want)
		}
		for _, line := range strings.Split(good, "\n") {
			if err != nil && len(line) > 20 && !strings.HasPrefix(line, "-") && strings.Contains(err.Error(), line) {
				t.Errorf("%s: the error holds a part of the key", c.name)
			}
		}
	}
	for name, text := range map[string]string{"PKCS#8": good, "SEC 1": block("EC PRIVATE KEY", nil, der), "with its parameters": block("EC PARAMETERS", nil, []byte("x")) + block("EC PRIVATE KEY", nil, der), "with its certificate": text(leaf) + good} {
		got, err := ReadKey([]byte(text))
		if err != nil || !IsPair(leaf.Certificate, got) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if IsPair(leaf.Certificate, key(t, "")) {
		t.Error("another key is taken for a pair")
	}
}

// What visitors would turn away from is said of a certificate, and no more.
func TestWhatIsWrongWithACertificate(t *testing.T) {
	k := key(t, "")
	root := (*made)(nil).signs(t, k, authority("Harbour Root"))
	middle := root.signs(t, key(t, ""), authority("Harbour Office"))
	roots := x509.NewCertPool()
	roots.AddCert(root.Certificate)
	small, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		t.Fatal(err)
	}
	curve := func(c elliptic.Curve) crypto.Signer {
		k, err := ecdsa.GenerateKey(c, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	_, edwards, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	staple, err := asn1.Marshal([]int{5})
	if err != nil {
		t.Fatal(err)
	}
	leaf := func(k crypto.Signer, change func(c *x509.Certificate)) []*made {
		return []*made{middle.signs(t, k, change), middle}
	}
	with := func(change func(c *x509.Certificate)) []*made { return leaf(k, change) }
	limited := root.signs(t, k, func(c *x509.Certificate) {
		authority("Freight Office")(c)
		c.PermittedDNSDomainsCritical, c.PermittedDNSDomains = true, []string{"freight.test"}
	})
	short := (*made)(nil).signs(t, k, func(c *x509.Certificate) {
		authority("Short Root")(c)
		c.MaxPathLenZero = true
	})
	shorts := short.signs(t, k, authority("Below Short"))
	own := func(change func(c *x509.Certificate)) []*made { return []*made{(*made)(nil).signs(t, k, change)} }
	for _, c := range []struct {
		name     string
		chain    []*made
		names    []string
		mistakes []string
		cautions []string
	}{
		{name: "in order", chain: with(nil)},
		{name: "a pattern", chain: with(func(c *x509.Certificate) { c.DNSNames = []string{"*.saltmarsh.test"} })},
		{name: "a pattern for one below", chain: with(func(c *x509.Certificate) { c.DNSNames = []string{"*.saltmarsh.test"} }), names: []string{"a.b.saltmarsh.test"}, mistakes: []string{"it does not cover a.b.saltmarsh.test: it is for *.saltmarsh.test"}},
		{name: "a pattern is wanted", chain: with(nil), names: []string{"*.saltmarsh.test"}, mistakes: []string{"it does not cover *.saltmarsh.test"}},
		{name: "a pattern itself", chain: with(func(c *x509.Certificate) { c.DNSNames = []string{"*.saltmarsh.test"} }), names: []string{"*.saltmarsh.test", "FREIGHT.saltmarsh.test"}},
		{name: "another name", chain: with(func(c *x509.Certificate) { c.DNSNames = []string{"freight.saltmarsh.test", "isles.saltmarsh.test"} }), mistakes: []string{"it does not cover " + name + ": it is for freight.saltmarsh.test, isles.saltmarsh.test"}},
		{name: "many names", chain: with(func(c *x509.Certificate) {
			c.DNSNames = []string{"a.test", "b.test", "c.test", "d.test", "e.test", "f.test", "g.test", "h.test"}
		}), mistakes: []string{"f.test and 2 more"}},
		{name: "a name in the subject alone", chain: with(func(c *x509.Certificate) { c.DNSNames = nil }), mistakes: []string{"in its subject alone"}},
		{name: "no name", chain: with(func(c *x509.Certificate) { c.DNSNames, c.Subject = nil, pkix.Name{} }), mistakes: []string{"it covers no name"}},
		{name: "out of date", chain: with(func(c *x509.Certificate) { c.NotAfter = now.Add(-time.Second) }), mistakes: []string{"it has been out of date since 2 December 2026, 11:59 UTC"}},
		{name: "to its last moment", chain: with(func(c *x509.Certificate) { c.NotAfter = now })},
		{name: "not yet valid", chain: with(func(c *x509.Certificate) { c.NotBefore = now.Add(time.Hour) }), mistakes: []string{"it is not valid before 2 December 2026, 13:00 UTC"}},
		{name: "from its first moment", chain: with(func(c *x509.Certificate) { c.NotBefore = now })},
		{name: "an authority out of date", chain: func() []*made {
			old := root.signs(t, k, func(c *x509.Certificate) { authority("Old Office")(c); c.NotAfter = now.Add(-time.Hour) })
			return []*made{old.signs(t, k, nil), old}
		}(), mistakes: []string{"the certificate of Old Office behind it has been out of date"}},
		{name: "a small key", chain: leaf(small, nil), mistakes: []string{"the key of it has 1024 bits"}},
		{name: "a small curve", chain: leaf(curve(elliptic.P224()), nil), mistakes: []string{"on the curve P-224"}},
		{name: "a large curve", chain: leaf(curve(elliptic.P521()), nil), cautions: []string{"on the curve P-521"}},
		{name: "Ed25519", chain: leaf(edwards, nil), cautions: []string{"is Ed25519"}},
		{name: "RSA 2048", chain: leaf(key(t, "rsa-2048"), nil)},
		{name: "for clients", chain: with(func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }), mistakes: []string{"it is not for servers"}},
		{name: "for all", chain: with(func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageAny} })},
		{name: "for what nobody says", chain: with(func(c *x509.Certificate) { c.ExtKeyUsage, c.KeyUsage = nil, 0 })},
		{name: "a key that may not sign", chain: with(func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageKeyEncipherment }), mistakes: []string{"may not sign handshakes"}},
		{name: "an authority's", chain: with(func(c *x509.Certificate) {
			c.IsCA, c.KeyUsage = true, x509.KeyUsageDigitalSignature|x509.KeyUsageCertSign
		}), mistakes: []string{"it is the certificate of an authority"}},
		{name: "must-staple", chain: with(func(c *x509.Certificate) { c.ExtraExtensions = []pkix.Extension{{Id: tlsFeature, Value: staple}} }), cautions: []string{"about its revocation with each handshake"}},
		{name: "what has to be understood", chain: with(func(c *x509.Certificate) {
			c.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{1, 2, 3}, Critical: true, Value: []byte{5, 0}}}
		}), mistakes: []string{"(extension 1.2.3)"}},
		{name: "alone", chain: []*made{with(nil)[0]}, mistakes: []string{"its chain is not whole: it is signed by Harbour Office"}},
		{name: "with its root", chain: append(with(nil), root), cautions: []string{"the certificate of Harbour Root at the end of its chain is sent"}},
		{name: "signed by one that may not", chain: func() []*made {
			no := root.signs(t, k, func(c *x509.Certificate) {
				c.Subject.CommonName, c.KeyUsage = "No Office", x509.KeyUsageDigitalSignature
			})
			return []*made{no.signs(t, k, nil), no}
		}(), mistakes: []string{"the certificate of " + name + " behind it may not sign others", "its chain is not whole"}},
		{name: "signed for a name that it may not", chain: []*made{limited.signs(t, k, nil), limited}, mistakes: []string{"an authority of its chain may not sign for its names"}},
		{name: "a chain that is too long", chain: []*made{shorts.signs(t, k, nil), shorts, short}, mistakes: []string{"the certificate of Short Root behind it may sign for 0 between it and a server's, and here there are 1"}, cautions: []string{"at the end of its chain is sent"}},
		{name: "signed by itself", chain: own(nil), cautions: []string{"it is signed by itself"}},
		{name: "an authority's own", chain: own(func(c *x509.Certificate) {
			c.IsCA, c.KeyUsage = true, x509.KeyUsageDigitalSignature|x509.KeyUsageCertSign
		}), cautions: []string{"with which others are signed: some browsers do not take it", "it is signed by itself"}},
		{name: "an own root", chain: func() []*made {
			mine := (*made)(nil).signs(t, k, authority("Quay Root"))
			return []*made{mine.signs(t, k, nil), mine}
		}(), cautions: []string{"at the end of its chain is sent", "its chain leads to Quay Root, which systems do not know by themselves"}},
	} {
		names := c.names
		if names == nil {
			names = []string{name}
		}
		var chain Chain
		for _, m := range c.chain {
			chain = append(chain, m.Certificate)
		}
		f := Judge(chain, Use{Names: names, At: now, Roots: roots})
		for sort, list := range map[string]struct {
			got  []Note
			want []string
		}{"mistake": {f.Mistakes, c.mistakes}, "caution": {f.Cautions, c.cautions}} {
			if len(list.got) != len(list.want) {
				t.Errorf("%s: %d %ss, want %d: %+v", c.name, len(list.got), sort, len(list.want), list.got)
				continue
			}
			for i, want := range list.want {
				if !strings.Contains(list.got[i].What, want) || list.got[i].Fix == "" {
					t.Errorf("%s: %s %q, want %q", c.name, sort, list.got[i].What, want)
				}
			}
		}
	}
}

// Signatures that browsers do not take are told of; such certificates are no longer made here, so they are
// told by their word alone.
func TestWeakSignatures(t *testing.T) {
	for _, s := range weakSignatures {
		c := *(*made)(nil).signs(t, key(t, ""), nil).Certificate
		c.SignatureAlgorithm = s
		var f Findings
		if f.strong(&c, true); len(f.Mistakes) != 1 || !strings.Contains(f.Mistakes[0].What, s.String()) {
			t.Errorf("of %s it is said %+v", s, f)
		}
	}
}

// Bundles of old and of new encryptions are read; a wrong password is told from a broken file.
func TestBundles(t *testing.T) {
	for file, want := range map[string]struct{ name, key string }{"aes": {"timetable", "ECDSA P-256"}, "rc2": {"freight", "RSA 2048"}, "3des": {"freight", "RSA 2048"}, "open": {"timetable", "ECDSA P-256"}} {
		b, err := os.ReadFile("testdata/" + file + ".p12")
		if err != nil {
			t.Fatal(err)
		}
		password := "harbour"
		if file == "open" {
			password = ""
		}
		chain, k, err := ReadBundle(b, password)
		if err != nil {
			t.Fatalf("%s: %v", file, err)
		}
		if Subject(chain.Leaf()) != want.name+".saltmarsh.test" || KeyWords(k.Public()) != want.key || !IsPair(chain.Leaf(), k) {
			t.Errorf("%s holds %s with a key of %s", file, Subject(chain.Leaf()), KeyWords(k.Public()))
		}
		if file != "open" && (len(chain) != 2 || Subject(chain[1]) != "Harbour Office Authority") {
			t.Errorf("%s has a chain of %d", file, len(chain))
		}
		if file == "open" {
			continue
		}
		broken := slices.Clone(b)
		broken[len(broken)/3] ^= 1
		for _, c := range []struct {
			name, password, want string
			b                    []byte
		}{
			{"another password", "herbour", "its password is another", b},
			{"no password", "", "it is locked with a password", b},
			{"cut off", password, "one that was cut off or changed", b[:len(b)-1]},
			{"empty", password, "it is no PKCS#12 bundle", nil},
			{"PEM", password, "it is PEM, and no PKCS#12 bundle", []byte(chain.PEM())},
		} {
			if _, _, err := ReadBundle(c.b, c.password); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s, %s: %v, want %q", file, c.name, err, c.want)
			}
		}
		if _, _, err := ReadBundle(broken, password); err == nil {
			t.Errorf("%s is read although a bit of it is another", file)
		}
	}
	for file, want := range map[string]string{"no-key": "it holds no private key", "no-certificate": "it holds no certificate", "slow": "worked over more than 5000000 times"} {
		b, err := os.ReadFile("testdata/" + file + ".p12")
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := ReadBundle(b, "harbour"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", file, err, want)
		}
	}
}

// What is made here is what a visitor takes who trusts its authority, and for the names of its domains alone.
func TestWhatIsMadeHereIsGood(t *testing.T) {
	for _, kind := range append([]string{""}, Kinds...) {
		a, err := NewAuthority("Harbour Office", []string{"saltmarsh.test"}, key(t, "ecdsa-p384"), now, 10*365*24*time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		roots := x509.NewCertPool()
		roots.AddCert(a.Certificate)
		k := key(t, kind)
		chain, err := a.Issue([]string{name, "*.saltmarsh.test"}, k, now, 90*24*time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		if f := Judge(chain, Use{Names: []string{name, "*.saltmarsh.test"}, At: now, Roots: roots}); len(f.Mistakes)+len(f.Cautions) > 0 {
			t.Errorf("%s: %+v", kind, f)
		}
		if !IsPair(chain.Leaf(), k) || !strings.HasPrefix(strings.ToLower(strings.ReplaceAll(KeyWords(k.Public()), " ", "-")), strings.ReplaceAll(kind, "p256", "p-256")[:min(len(kind), 5)]) {
			t.Errorf("%s: the key is %s", kind, KeyWords(k.Public()))
		}
		if _, err := chain.Leaf().Verify(x509.VerifyOptions{Roots: roots, CurrentTime: now, DNSName: name}); err != nil {
			t.Error(err)
		}
		outside, err := a.Issue([]string{"other.test"}, k, now, time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		if f := Judge(outside, Use{Names: []string{"other.test"}, At: now, Roots: roots}); len(f.Mistakes) != 1 || !strings.Contains(f.Mistakes[0].What, "may not sign for its names") {
			t.Errorf("for a name of others: %+v", f)
		}
		if long, err := a.Issue([]string{name}, k, now, 100*365*24*time.Hour); err != nil || long.Leaf().NotAfter.After(a.Certificate.NotAfter) {
			t.Errorf("a certificate outlives its authority: %v", err)
		}
		own, err := SelfSigned([]string{name, "10.88.0.11", "2001:db8::1"}, k, now, time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		if f := Judge(own, Use{Names: []string{name, "10.88.0.11", "2001:db8::1"}, At: now, Roots: roots}); len(f.Mistakes) > 0 || len(f.Cautions) != 1 {
			t.Errorf("one signed by itself: %+v", f)
		}
	}
	if _, err := NewKey("dsa"); err == nil {
		t.Error("a key of an unknown kind is made")
	}
}

// No bytes make the readers fail otherwise than with a note.
func FuzzRead(f *testing.F) {
	for _, file := range []string{"aes", "rc2", "open", "no-key"} {
		b, err := os.ReadFile("testdata/" + file + ".p12")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	k := key(f, "")
	leaf := (*made)(nil).signs(f, k, nil)
	private, err := KeyPEM(k)
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(text(leaf) + private))
	f.Fuzz(func(t *testing.T, b []byte) {
		var note *Note
		c, err := ReadChain(b)
		if err != nil && !errors.As(err, &note) || err == nil && len(c) == 0 {
			t.Fatal(err)
		}
		if err == nil {
			Judge(c, Use{Names: []string{name}, At: now, Roots: x509.NewCertPool()})
		}
		if _, err := ReadKey(b); err != nil && !errors.As(err, &note) {
			t.Fatal(err)
		}
		if rounds(b, 0) < 10_000 { // others take their time
			if _, _, err := ReadBundle(b, "harbour"); err != nil && !errors.As(err, &note) {
				t.Fatal(err)
			}
		}
	})
}
