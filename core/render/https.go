package render

import (
	"strings"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/wire"
)

// CertificateFiles are where a certificate lies on a host: with those behind it, and its private key.
type CertificateFiles struct{ Chain, Key string }

// ciphers are those of TLS 1.2 that keep what was said secret even from who has the key later, and whose
// records cannot be changed (RFC 9325, section 4.2); TLS 1.3 has no others.
var ciphers = strings.Join([]string{"ECDHE-ECDSA-AES128-GCM-SHA256", "ECDHE-RSA-AES128-GCM-SHA256", "ECDHE-ECDSA-AES256-GCM-SHA384", "ECDHE-RSA-AES256-GCM-SHA384", "ECDHE-ECDSA-CHACHA20-POLY1305", "ECDHE-RSA-CHACHA20-POLY1305"}, ":")

// door is where a site listens, with its number in the declaration.
type door struct {
	declare.Listen
	i int
}

// doors are where a site listens: those at which HTTPS is spoken, and those for plain HTTP.
func doors(s *declare.Site) (secure, plain []door) {
	for i, l := range s.ListenOn() {
		if s.Secure(l) {
			secure = append(secure, door{l, i})
		} else {
			plain = append(plain, door{l, i})
		}
	}
	return secure, plain
}

// sends says whether who asks over plain HTTP is sent to where HTTPS is spoken.
func sends(s *declare.Site) bool {
	secure, _ := doors(s)
	return len(secure) > 0 && s.PlainHTTP() == declare.PlainRedirected
}

// answering are the doors behind which the whole site stands.
func answering(s *declare.Site) []door {
	secure, plain := doors(s)
	switch {
	case len(s.Refuses) > 0:
		return plain
	case sends(s):
		return secure
	}
	return append(secure, plain...)
}

// firstAt is where a site is by its first name for who comes to one of the doors: where HTTPS is spoken, if
// visitors are sent there.
func firstAt(s *declare.Site, l declare.Listen) wire.Endpoint {
	if secure, _ := doors(s); sends(s) && !s.Secure(l) {
		l = secure[0].Listen
	}
	e := wire.Endpoint{Name: s.Names[0], Port: l.Port}
	if s.Secure(l) {
		e.Scheme = wire.HTTPS
	}
	return e
}

// sentTo is the beginning of the URLs to which who asks over plain HTTP is sent, by the name that was asked
// for, which the server has a variable for.
func sentTo(s *declare.Site, name string) string {
	secure, _ := doors(s)
	return wire.Endpoint{Scheme: wire.HTTPS, Name: name, Port: secure[0].Port}.Origin()
}

// versions are the versions of TLS that a site speaks.
func versions(s *declare.Site) []string {
	if s.LeastVersion() == "1.3" {
		return []string{"1.3"}
	}
	return []string{"1.2", "1.3"}
}

// remembered is what browsers are told to remember (RFC 6797), "" where that is nothing.
func remembered(s *declare.Site) string {
	seconds, ok := form.Seconds(s.HTTPS.Remembered)
	if !ok || s.Certificate == "" {
		return ""
	}
	return "max-age=" + itoa(seconds)
}
