package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"
)

// HostKey is a host's public key. Fingerprint is the SHA-256 form that OpenSSH
// prints (ssh-keygen(1), -l); Key is in the form of an authorized_keys line.
type HostKey struct {
	Type        string `json:"type"`
	Fingerprint string `json:"fingerprint"`
	Key         string `json:"key"`
}

func hostKey(k ssh.PublicKey) HostKey {
	return HostKey{k.Type(), ssh.FingerprintSHA256(k), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k)))}
}

// KnownKeys says which keys are trusted: those of the host itself, certificates of
// authorities, whose public keys are given as authorized_keys lines, and, to explain
// a change, whose key an offered one is.
type KnownKeys struct {
	Own         []HostKey
	Authorities []string
	Owner       func(fingerprint string) string
}

// certified checks a host's certificate: an authority that is trusted has signed it
// for the host's name or address, and it is in force.
func (k KnownKeys) certified(t Target, cert *ssh.Certificate) error {
	checker := &ssh.CertChecker{IsHostAuthority: func(auth ssh.PublicKey, _ string) bool {
		for _, line := range k.Authorities {
			if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil && bytes.Equal(key.Marshal(), auth.Marshal()) {
				return true
			}
		}
		return false
	}}
	for _, own := range k.Own {
		if own.Fingerprint == ssh.FingerprintSHA256(cert.Key) {
			return nil // the key itself is trusted
		}
	}
	var err error
	for _, name := range []string{t.Host, t.Address} {
		if err = checker.CheckHostKey(net.JoinHostPort(name, strconv.Itoa(t.Port)), nil, cert); err == nil {
			return nil
		}
	}
	return &Trouble{Kind: "unknown-key", What: fmt.Sprintf("host %s shows a certificate that is not accepted: %v", t.Host, err), err: err,
		Fix: fmt.Sprintf("have the authority sign its key for %s or %s, or trust the key itself with northstake trust %s; nothing was sent", t.Host, t.Address, t.Host)}
}

func (k KnownKeys) check(t Target) ssh.HostKeyCallback {
	return func(_ string, _ net.Addr, key ssh.PublicKey) error {
		if cert, ok := key.(*ssh.Certificate); ok {
			return k.certified(t, cert)
		}
		offered := hostKey(key)
		if len(k.Own) == 0 {
			return &Trouble{Kind: "unknown-key", What: fmt.Sprintf("the key of host %s is not known: it offers %s %s", t.Host, offered.Type, offered.Fingerprint),
				Fix: fmt.Sprintf("compare it with what the host's owner says, then run northstake trust %s", t.Host)}
		}
		for _, own := range k.Own {
			if own.Key == offered.Key {
				return nil
			}
		}
		if other := k.Owner(offered.Fingerprint); other != "" && other != t.Host {
			return &Trouble{Kind: "changed-key", What: fmt.Sprintf("the key that %s offers at %s is the one known for host %s: the two addresses look swapped", t.Host, t.Address, other),
				Fix: fmt.Sprintf("nothing was sent; northstake addresses corrects those of %s and %s in the declaration", t.Host, other)}
		}
		return &Trouble{Kind: "changed-key", What: fmt.Sprintf("the key of host %s has changed to %s %s: the host was rebuilt, or another machine answers at %s", t.Host, offered.Type, offered.Fingerprint, t.Address),
			Fix: fmt.Sprintf("if it was rebuilt, run northstake trust %s and compare the fingerprint; nothing was sent", t.Host)}
	}
}

var errSeen = errors.New("key seen")

// keyTypes are asked for one by one to learn all of a host's keys.
var keyTypes = []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA256}

// certTypes are the kinds of host certificates that are accepted.
var certTypes = []string{ssh.CertAlgoED25519v01, ssh.CertAlgoECDSA256v01, ssh.CertAlgoECDSA384v01, ssh.CertAlgoECDSA521v01, ssh.CertAlgoRSASHA512v01, ssh.CertAlgoRSASHA256v01}

// HostKeys asks a host for its public keys. Nothing but the key exchange
// happens.
func HostKeys(ctx context.Context, t Target) ([]HostKey, error) {
	var out []HostKey
	for _, algorithm := range keyTypes {
		var seen *HostKey
		config := &ssh.ClientConfig{User: "nobody", Timeout: dialLimit, HostKeyAlgorithms: []string{algorithm},
			HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
				k := hostKey(key)
				seen = &k
				return errSeen
			}}
		c, err := handshake(ctx, t, config)
		if err == nil {
			c.Close()
		}
		if seen != nil {
			out = append(out, *seen)
			continue
		}
		var trouble *Trouble
		if errors.As(err, &trouble) && (trouble.Kind == "no-route" || trouble.Kind == "refused" || trouble.Kind == "timeout") {
			return nil, err
		}
	}
	if len(out) == 0 {
		return nil, &Trouble{Kind: "other", What: fmt.Sprintf("host %s offers no key of a type that North Stake knows", t.Host), Fix: "give its SSH server an ed25519 key"}
	}
	return out, nil
}

func algorithmsFor(keyType string) []string {
	if keyType == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{keyType}
}
