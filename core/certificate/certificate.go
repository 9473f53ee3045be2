// Package certificate reads certificates for servers (RFC 5280), their chains and keys, makes some, and says
// what is wrong with them. It has no clock and knows no authorities of its own: it is told both.
package certificate

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Chain is a certificate with those that lead from it to an authority: each is signed by the next.
type Chain []*x509.Certificate

// Leaf is the certificate itself.
func (c Chain) Leaf() *x509.Certificate { return c[0] }

// Note is something that is wrong, and what to do about it.
type Note struct{ What, Fix string }

func (n *Note) Error() string { return n.What + "; " + n.Fix }

func notef(fix, what string, args ...any) *Note { return &Note{fmt.Sprintf(what, args...), fix} }

// Sum is the SHA-256 of a certificate, in hex.
func Sum(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}

// Fingerprint is the SHA-256 of a certificate, in hex with colons, as people compare it.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return colons(sum[:])
}

// ShortFingerprint is the SHA-1 of a certificate, in hex with colons, which older programs show.
func ShortFingerprint(c *x509.Certificate) string {
	sum := sha1.Sum(c.Raw)
	return colons(sum[:])
}

func colons(b []byte) string {
	out := make([]string, len(b))
	for i, one := range b {
		out[i] = fmt.Sprintf("%02X", one)
	}
	return strings.Join(out, ":")
}

// KeyWords say of what kind a public key is: "ECDSA P-256", "RSA 2048".
func KeyWords(public crypto.PublicKey) string {
	switch k := public.(type) {
	case *ecdsa.PublicKey:
		return "ECDSA " + k.Curve.Params().Name
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d", k.N.BitLen())
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return "of an unknown kind"
}

// Subject is by whose name people know a certificate: the first name that it covers, or what its subject says.
func Subject(c *x509.Certificate) string {
	switch {
	case len(c.DNSNames) > 0 && !c.IsCA:
		return c.DNSNames[0]
	case c.Subject.CommonName != "":
		return c.Subject.CommonName
	case len(c.Subject.Organization) > 0:
		return c.Subject.Organization[0]
	}
	return "serial number " + c.SerialNumber.Text(16)
}

// Issuer is by whose name people know who signed a certificate.
func Issuer(c *x509.Certificate) string {
	if selfSigned(c) {
		return "itself"
	}
	if c.Issuer.CommonName != "" {
		return c.Issuer.CommonName
	}
	return c.Issuer.String()
}

func selfSigned(c *x509.Certificate) bool {
	return bytes.Equal(c.RawIssuer, c.RawSubject) && c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil
}

// signedBy says whether a certificate is signed by another, whatever that may sign.
func signedBy(c, by *x509.Certificate) bool {
	return bytes.Equal(c.RawIssuer, by.RawSubject) && by.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil
}

// Covers says whether a certificate is good for a host name, or for a pattern of them such as
// "*.saltmarsh.test", which only the same pattern covers.
func Covers(c *x509.Certificate, name string) bool {
	name = strings.ToLower(name)
	if strings.HasPrefix(name, "*.") {
		return slices.ContainsFunc(c.DNSNames, func(n string) bool { return strings.EqualFold(n, name) })
	}
	return c.VerifyHostname(name) == nil
}

// Names are all that a certificate covers: host names, patterns of them, and addresses.
func Names(c *x509.Certificate) []string {
	out := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		out = append(out, ip.String())
	}
	return out
}

// Valid is from when until when all certificates of a chain are valid. Of a root at its end, which visitors have
// themselves, nobody looks at that.
func Valid(c Chain) (since, until time.Time) {
	since, until = c.Leaf().NotBefore, c.Leaf().NotAfter
	for _, one := range c[1:] {
		if selfSigned(one) {
			continue
		}
		if one.NotBefore.After(since) {
			since = one.NotBefore
		}
		if one.NotAfter.Before(until) {
			until = one.NotAfter
		}
	}
	return since, until
}
