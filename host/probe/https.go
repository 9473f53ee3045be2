package probe

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net/http"
	"time"
)

// Asking is a client for the service's own questions to a server, by a name: it follows no redirect, and takes
// whatever certificate is shown, since who answers is known by what is answered, and what is shown is looked at
// for itself.
func Asking(name string) *http.Client {
	return &http.Client{
		Transport:     &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true, ServerName: name}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// verifying takes the certificate with a fingerprint, in its time and for the name that is asked for, and others only where an
// authority that this system knows has signed them for it.
func verifying(fingerprint string) *tls.Config {
	return &tls.Config{InsecureSkipVerify: true, VerifyConnection: func(state tls.ConnectionState) error {
		leaf := state.PeerCertificates[0]
		if fingerprint != "" && shows(&state, fingerprint, nil) == nil {
			if now := time.Now(); now.Before(leaf.NotBefore) || now.After(leaf.NotAfter) {
				return x509.CertificateInvalidError{Cert: leaf, Reason: x509.Expired, Detail: fmt.Sprintf("it is valid from %s to %s", leaf.NotBefore.UTC().Format(time.RFC3339), leaf.NotAfter.UTC().Format(time.RFC3339))}
			}
			return leaf.VerifyHostname(state.ServerName)
		}
		between := x509.NewCertPool()
		for _, c := range state.PeerCertificates[1:] {
			between.AddCert(c)
		}
		_, err := leaf.Verify(x509.VerifyOptions{DNSName: state.ServerName, Intermediates: between})
		return err
	}}
}

// OtherCertificate says that a site shows another certificate than is wanted of it, by the fingerprint (SHA-256
// in hex); or that one, with so many of those behind it alone, in their order.
type OtherCertificate struct {
	Shown  string
	Behind int
}

func (o *OtherCertificate) Error() string {
	return fmt.Sprintf("another certificate is shown, %s, or not with all that are behind it", o.Shown)
}

// shows says that another certificate is shown than one with the fingerprint, or not with those behind it;
// nothing where none is wanted. What is shown behind those is of no matter.
func shows(state *tls.ConnectionState, fingerprint string, behind []string) error {
	if state == nil || fingerprint == "" || len(state.PeerCertificates) == 0 {
		return nil
	}
	shown := sumOf(state.PeerCertificates[0])
	if shown != fingerprint {
		return &OtherCertificate{Shown: shown}
	}
	for i, wanted := range behind {
		if i+1 >= len(state.PeerCertificates) || sumOf(state.PeerCertificates[i+1]) != wanted {
			return &OtherCertificate{Shown: shown, Behind: i}
		}
	}
	return nil
}

func sumOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}
