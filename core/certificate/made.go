package certificate

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net/netip"
	"slices"
	"time"
)

// Kinds are the kinds of key that can be made, as a declaration names them; the first unless it names one.
var Kinds = []string{"ecdsa-p256", "ecdsa-p384", "rsa-2048", "rsa-3072", "rsa-4096"}

// NewKey makes a private key of one of Kinds.
func NewKey(kind string) (crypto.Signer, error) {
	switch kind {
	case "ecdsa-p256", "":
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case "ecdsa-p384":
		return ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	case "rsa-2048", "rsa-3072", "rsa-4096":
		var bits int
		fmt.Sscanf(kind, "rsa-%d", &bits)
		return rsa.GenerateKey(rand.Reader, bits)
	}
	return nil, fmt.Errorf("there is no kind of key %q", kind)
}

// early is how long before it is made a certificate is valid: clocks of visitors differ.
const early = time.Hour

// Authority is who signs certificates: its own certificate, and the key of that.
type Authority struct {
	Certificate *x509.Certificate
	Key         crypto.Signer
}

// NewAuthority makes an authority with a key, for names at and below some domains alone; for all names where
// there are none.
func NewAuthority(name string, domains []string, key crypto.Signer, at time.Time, life time.Duration) (Authority, error) {
	t, err := template(at, life)
	if err != nil {
		return Authority{}, err
	}
	t.Subject = pkix.Name{CommonName: name}
	t.IsCA, t.BasicConstraintsValid, t.MaxPathLenZero = true, true, true
	t.KeyUsage = x509.KeyUsageCertSign | x509.KeyUsageCRLSign
	t.PermittedDNSDomainsCritical, t.PermittedDNSDomains = len(domains) > 0, domains
	if t.SubjectKeyId, err = keyID(key.Public()); err != nil {
		return Authority{}, err
	}
	c, err := signed(t, t, key.Public(), key)
	return Authority{c, key}, err
}

// Issue signs a certificate for some names and addresses, with the authority's own behind it left out: visitors
// that trust it have that.
func (a Authority) Issue(names []string, key crypto.Signer, at time.Time, life time.Duration) (Chain, error) {
	t, err := serverTemplate(names, at, life)
	if err != nil {
		return nil, err
	}
	if end := a.Certificate.NotAfter; t.NotAfter.After(end) {
		t.NotAfter = end // nothing outlives who has signed it
	}
	c, err := signed(t, a.Certificate, key.Public(), a.Key)
	return Chain{c}, err
}

// SelfSigned makes a certificate for some names and addresses that nobody but its own key has signed.
func SelfSigned(names []string, key crypto.Signer, at time.Time, life time.Duration) (Chain, error) {
	t, err := serverTemplate(names, at, life)
	if err != nil {
		return nil, err
	}
	c, err := signed(t, t, key.Public(), key)
	return Chain{c}, err
}

func serverTemplate(names []string, at time.Time, life time.Duration) (*x509.Certificate, error) {
	t, err := template(at, life)
	if err != nil {
		return nil, err
	}
	t.KeyUsage, t.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	t.BasicConstraintsValid = true // and no authority
	for _, n := range names {
		if a, err := netip.ParseAddr(n); err == nil {
			t.IPAddresses = append(t.IPAddresses, a.AsSlice())
		} else {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	if len(names) > 0 && len(names[0]) <= 64 { // the most that a common name holds (RFC 5280, appendix A)
		t.Subject = pkix.Name{CommonName: names[0]}
	}
	return t, nil
}

func template(at time.Time, life time.Duration) (*x509.Certificate, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, err
	}
	return &x509.Certificate{SerialNumber: serial.Add(serial, big.NewInt(1)), NotBefore: at.Add(-early).UTC().Truncate(time.Second), NotAfter: at.Add(life).UTC().Truncate(time.Second)}, nil
}

func signed(t, by *x509.Certificate, public crypto.PublicKey, key crypto.Signer) (*x509.Certificate, error) {
	der, err := x509.CreateCertificate(rand.Reader, t, by, public, key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// keyID is by what a key is found (RFC 5280, section 4.2.1.2, method 1, over the whole of its DER).
func keyID(public crypto.PublicKey) ([]byte, error) {
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return nil, err
	}
	sum := sha1.Sum(der)
	return sum[:], nil
}

// IsFor says whether a certificate is for just these names, and signed by an authority, or, where that is nil,
// by itself.
func (m Material) IsFor(names []string, by *x509.Certificate) bool {
	leaf := m.Chain.Leaf()
	has, wants := slices.Sorted(slices.Values(Names(leaf))), slices.Sorted(slices.Values(names))
	if by == nil {
		return slices.Equal(has, wants) && selfSigned(leaf)
	}
	return slices.Equal(has, wants) && signedBy(leaf, by)
}

// RenewedAt is how much of its life is left of a certificate when it is made anew.
const RenewedAt = 1.0 / 3

// RenewedFrom is when that is.
func RenewedFrom(c *x509.Certificate) time.Time {
	return c.NotAfter.Add(-time.Duration(float64(c.NotAfter.Sub(c.NotBefore)) * RenewedAt))
}

// Left is how much of the life of a certificate is left, of one.
func Left(c *x509.Certificate, at time.Time) float64 {
	return float64(c.NotAfter.Sub(at)) / float64(c.NotAfter.Sub(c.NotBefore))
}
