package certificate

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"strings"

	"software.sslmate.com/src/go-pkcs12"
)

// isBundle says whether a file is a PKCS#12 bundle (RFC 7292, section 4: a sequence that begins with version 3).
func isBundle(b []byte) bool {
	var pfx struct {
		Version int
		Safe    asn1.RawValue
		Mac     asn1.RawValue `asn1:"optional"`
	}
	_, err := asn1.Unmarshal(b, &pfx)
	return err == nil && pfx.Version == 3
}

// mostRounds is how often a password may be to be worked over: more takes longer than anybody waits for
// (OpenSSL does 2,048, others up to some 600,000).
const mostRounds = 5_000_000

// ReadBundle reads a PKCS#12 bundle: a certificate with those behind it, in whatever order they lie there, and
// its private key.
func ReadBundle(b []byte, password string) (Chain, crypto.Signer, error) {
	if !isBundle(b) {
		if blocks, _ := pieces(b); len(blocks) > 0 {
			return nil, nil, notef("declare it as file = \"FILE\", with the key as key_secret", "it is PEM, and no PKCS#12 bundle")
		}
		return nil, nil, notef("copy it again, in its binary form", "it is no PKCS#12 bundle, or one that was cut off or changed on its way")
	}
	if rounds(b, 0) > mostRounds {
		return nil, nil, notef("have it made anew with 600,000 rounds at most", "its password is worked over more than %d times, which would take too long", mostRounds)
	}
	private, first, others, err := pkcs12.DecodeChain(b, password)
	var unknown pkcs12.NotImplementedError
	switch {
	case errors.Is(err, pkcs12.ErrIncorrectPassword) && password == "":
		return nil, nil, notef("keep its password as a secret, and name that as password_secret", "it is locked with a password")
	case errors.Is(err, pkcs12.ErrIncorrectPassword):
		return nil, nil, notef("keep the right one: northstake secret keep NAME", "its password is another")
	case errors.As(err, &unknown):
		return nil, nil, notef("have it made anew: openssl pkcs12 -export", "it is made in a way that is not known here: %s", strings.TrimPrefix(err.Error(), "pkcs12: "))
	case err != nil && strings.Contains(err.Error(), "one key bag"):
		return nil, nil, notef("have a bundle made with one of them", "it holds more than one private key")
	case err != nil && strings.Contains(err.Error(), "private key missing"):
		return nil, nil, notef("have it made anew, with the private key", "it holds no private key")
	case err != nil && strings.Contains(err.Error(), "certificate missing"):
		return nil, nil, notef("have it made anew, with the certificate", "it holds no certificate")
	case err != nil:
		return nil, nil, notef("copy it again, in its binary form", "its password is right, or none is asked for, but it is damaged: %s", strings.TrimPrefix(err.Error(), "pkcs12: "))
	}
	key, ok := private.(crypto.Signer)
	if !ok {
		return nil, nil, notef("have it made anew, with a key of ECDSA or RSA", "its private key is of a kind that does not sign")
	}
	chain, note := around(key, append([]*x509.Certificate{first}, others...))
	if note != nil {
		return nil, nil, note
	}
	return chain, key, nil
}

// around is the chain of the certificate that a key belongs to, made of some certificates; those that do not
// belong to it are left out.
func around(key crypto.Signer, all []*x509.Certificate) (Chain, *Note) {
	var chain Chain
	for _, c := range all {
		if IsPair(c, key) && (len(chain) == 0 || c.NotAfter.After(chain[0].NotAfter)) {
			chain = Chain{c}
		}
	}
	if len(chain) == 0 {
		return nil, notef("have it made anew, with the certificate of its key", "none of its certificates belongs to its private key")
	}
	for len(chain) <= len(all) && !selfSigned(chain[len(chain)-1]) {
		last := chain[len(chain)-1]
		var next *x509.Certificate
		for _, c := range all {
			if signedBy(last, c) {
				next = c
			}
		}
		if next == nil {
			break
		}
		chain = append(chain, next)
	}
	return chain, nil
}

// rounds is the largest number that stands behind an octet string in a structure: in PKCS#12 that is how often
// a password is worked over (RFC 7292, appendix B; RFC 8018, appendix A). What is encrypted is not looked into.
func rounds(b []byte, depth int) int64 {
	var most int64
	for octets := false; len(b) > 0 && depth < 24; {
		var v asn1.RawValue
		rest, err := asn1.Unmarshal(b, &v)
		if err != nil {
			return most
		}
		var n int64
		switch {
		case v.Class == asn1.ClassUniversal && v.Tag == asn1.TagInteger && octets:
			if _, err := asn1.Unmarshal(v.FullBytes, &n); err != nil {
				n = mostRounds + 1 // larger than any
			}
		case v.IsCompound || v.Class == asn1.ClassUniversal && v.Tag == asn1.TagOctetString && bytes.HasPrefix(v.Bytes, []byte{0x30}): // a structure in it
			n = rounds(v.Bytes, depth+1)
		}
		most = max(most, n)
		octets = v.Class == asn1.ClassUniversal && v.Tag == asn1.TagOctetString
		b = rest
	}
	return most
}
