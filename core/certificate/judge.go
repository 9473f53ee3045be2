package certificate

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Use is what a certificate is to be used for: the names that visitors ask for, at a time, and the authorities
// that visitors trust. At is zero where no clock is at hand, and Roots nil where no authority is known.
type Use struct {
	Names []string
	At    time.Time
	Roots *x509.CertPool
}

// Findings are what is wrong with a certificate: visitors turn away from it (Mistakes), or some may, or it is
// better otherwise (Cautions).
type Findings struct{ Mistakes, Cautions []Note }

func (f *Findings) mistake(fix, what string, args ...any) {
	f.Mistakes = append(f.Mistakes, *notef(fix, what, args...))
}

func (f *Findings) caution(fix, what string, args ...any) {
	f.Cautions = append(f.Cautions, *notef(fix, what, args...))
}

// Judge says what is wrong with a chain for a use. All of it is said at once.
func Judge(c Chain, use Use) Findings {
	var f Findings
	f.names(c.Leaf(), use.Names)
	for i, one := range c {
		f.valid(one, i == 0, use.At)
		if i == 0 || !selfSigned(one) { // nobody checks the signature of a root
			f.strong(one, i == 0)
		}
	}
	f.purpose(c)
	f.whole(c, use)
	return f
}

// names says which names a certificate does not cover, and which it does.
func (f *Findings) names(leaf *x509.Certificate, wanted []string) {
	covered := Names(leaf)
	if len(covered) == 0 {
		what := "it covers no name"
		if leaf.Subject.CommonName != "" {
			what = fmt.Sprintf("it has the name %q in its subject alone, where browsers do not look", leaf.Subject.CommonName)
		}
		f.mistake("have it made anew with the names as subjectAltName", "%s", what)
		return
	}
	var missing []string
	for _, n := range wanted {
		if !Covers(leaf, n) {
			missing = append(missing, n)
		}
	}
	if len(missing) > 0 {
		f.mistake("have it made anew with all of them, or take another certificate", "it does not cover %s: it is for %s", listed(missing), listed(covered))
	}
}

// most is how many names of a list are said.
const most = 6

func listed(names []string) string {
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}

func called(c *x509.Certificate, leaf bool) string {
	if leaf {
		return "it"
	}
	return "the certificate of " + Subject(c) + " behind it"
}

const clock = "2 January 2006, 15:04 UTC"

func (f *Findings) valid(c *x509.Certificate, leaf bool, at time.Time) {
	switch {
	case at.IsZero():
	case at.After(c.NotAfter):
		f.mistake("have it made anew", "%s has been out of date since %s", called(c, leaf), c.NotAfter.UTC().Format(clock))
	case at.Before(c.NotBefore):
		f.mistake("wait for that, or have it made anew; and look whether the clock is right", "%s is not valid before %s, and it is %s now", called(c, leaf), c.NotBefore.UTC().Format(clock), at.UTC().Format(clock))
	}
}

var weakSignatures = []x509.SignatureAlgorithm{x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1}

// strong says of a key and a signature that they are too weak for browsers, or taken by few of them.
func (f *Findings) strong(c *x509.Certificate, leaf bool) {
	const anew = "have it made anew with a key of ECDSA P-256 or RSA 2048"
	switch k := c.PublicKey.(type) {
	case *rsa.PublicKey:
		if bits := k.N.BitLen(); bits < 2048 {
			f.mistake(anew, "the key of %s has %d bits, and browsers take no RSA key with fewer than 2048", called(c, leaf), bits)
		} else if leaf && bits > 4096 {
			f.caution(anew, "its RSA key has %d bits: each handshake takes the server many times as long as with 2048", bits)
		}
	case *ecdsa.PublicKey:
		switch bits := k.Curve.Params().BitSize; {
		case bits < 256:
			f.mistake(anew, "the key of %s is on the curve %s, which browsers do not take", called(c, leaf), k.Curve.Params().Name)
		case bits > 384:
			f.caution(anew, "the key of %s is on the curve %s, which some browsers do not take", called(c, leaf), k.Curve.Params().Name)
		}
	case ed25519.PublicKey:
		f.caution(anew, "the key of %s is Ed25519, which most browsers do not take", called(c, leaf))
	default:
		f.mistake(anew, "the key of %s is of a kind that browsers do not take (%s)", called(c, leaf), c.PublicKeyAlgorithm)
	}
	if slices.Contains(weakSignatures, c.SignatureAlgorithm) {
		f.mistake("have it made anew, signed with SHA-256", "%s is signed with %s, which browsers do not take", called(c, leaf), c.SignatureAlgorithm)
	}
}

// statusRequired is a feature that a certificate may ask of its server (RFC 7633): to bring a word of its
// authority along with each handshake.
var (
	tlsFeature     = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}
	statusRequired = 5
)

// purpose says what a chain is not for.
func (f *Findings) purpose(c Chain) {
	leaf := c.Leaf()
	if uses := leaf.ExtKeyUsage; len(uses)+len(leaf.UnknownExtKeyUsage) > 0 && !slices.Contains(uses, x509.ExtKeyUsageServerAuth) && !slices.Contains(uses, x509.ExtKeyUsageAny) {
		f.mistake("have one made for servers (extended key usage serverAuth)", "it is not for servers")
	}
	if leaf.KeyUsage != 0 && leaf.KeyUsage&x509.KeyUsageDigitalSignature == 0 {
		f.mistake("have it made anew with the key usage digitalSignature", "its key may not sign handshakes")
	}
	if leaf.IsCA && leaf.BasicConstraintsValid {
		what := "it is the certificate of an authority, with which others are signed"
		if !selfSigned(leaf) {
			f.mistake("put the server's own certificate before it", "%s", what)
		} else {
			f.caution("have it made without CA:TRUE", "%s: some browsers do not take it from a server", what)
		}
	}
	f.signers(c)
	for _, one := range c {
		if len(one.UnhandledCriticalExtensions) > 0 {
			f.mistake("have it made anew without that", "%s says something that visitors have to understand and do not (extension %s)", called(one, one == leaf), one.UnhandledCriticalExtensions[0])
		}
	}
	for _, e := range leaf.Extensions {
		var features []int
		if _, err := asn1.Unmarshal(e.Value, &features); e.Id.Equal(tlsFeature) && err == nil && slices.Contains(features, statusRequired) {
			f.caution("have it made without that (must-staple)", "it asks for an answer about its revocation with each handshake, and visitors turn away where there is none")
		}
	}
}

// signers says which certificates behind the first one may not sign those before them.
func (f *Findings) signers(c Chain) {
	for i, one := range c[1:] {
		if !one.IsCA || !one.BasicConstraintsValid || one.KeyUsage != 0 && one.KeyUsage&x509.KeyUsageCertSign == 0 {
			f.mistake("take the certificates that the authority hands out with it", "%s may not sign others", called(one, false))
		} else if one.MaxPathLen >= 0 && (one.MaxPathLen > 0 || one.MaxPathLenZero) && i > one.MaxPathLen {
			f.mistake("take the certificates that the authority hands out with it", "%s may sign for %d between it and a server's, and here there are %d", called(one, false), one.MaxPathLen, i)
		}
	}
}

// whole says that a chain does not lead to an authority that visitors know.
func (f *Findings) whole(c Chain, use Use) {
	last := c[len(c)-1]
	if len(c) > 1 && selfSigned(last) {
		f.caution("take it out of the file", "the certificate of %s at the end of its chain is sent with each handshake, and nobody looks at it", Subject(last))
	}
	if use.Roots == nil {
		return
	}
	between := x509.NewCertPool()
	for _, one := range c[1:] {
		between.AddCert(one)
	}
	_, err := c.Leaf().Verify(x509.VerifyOptions{Roots: use.Roots, Intermediates: between, CurrentTime: inTime(c), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	var invalid x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	switch {
	case err == nil:
	case errors.As(err, &invalid) && invalid.Reason == x509.CANotAuthorizedForThisName:
		f.mistake("have it made for names that the authority may sign", "an authority of its chain may not sign for its names: %s", invalid.Detail)
	case errors.As(err, &unknown) && len(c) == 1 && selfSigned(last):
		f.caution("trust it on the machines of its visitors, or take one of an authority", "it is signed by itself, and visitors' browsers warn of it")
	case errors.As(err, &unknown) && selfSigned(last):
		f.caution("trust that on the machines of its visitors (trusted_authorities), or take one of an authority that they know", "its chain leads to %s, which systems do not know by themselves", Subject(last))
	case errors.As(err, &unknown):
		f.mistake("put the certificates behind it that the authority hands out with it (the chain, or intermediates)", "its chain is not whole: %s is signed by %s, which is no authority that systems know", called(last, last == c.Leaf()), Issuer(last))
	}
}

// inTime is a moment at which all of a chain is valid, or as good as any where there is none: what is out of
// date is said apart.
func inTime(c Chain) time.Time {
	at := c.Leaf().NotBefore
	for _, one := range c {
		if one.NotBefore.After(at) {
			at = one.NotBefore
		}
	}
	return at.Add(time.Second)
}
