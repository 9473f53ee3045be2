package declare

import (
	"cmp"
	"slices"
	"time"

	"northstake/core/form"
)

// Certificate is what sites show who asks for them over HTTPS. It comes from one source: SelfSigned, Authority,
// File or Bundle.
type Certificate struct {
	Names          []string `toml:"names" json:"names,omitempty" default:"those of the sites that use it" example:"[\"timetable.saltmarsh.test\", \"*.quay.saltmarsh.test\"]"`
	SelfSigned     bool     `toml:"self_signed" json:"self_signed,omitempty" default:"false" example:"true"`
	Authority      string   `toml:"authority" json:"authority,omitempty" example:"\"office\""`
	File           string   `toml:"file" json:"file,omitempty" example:"\"certificates/timetable.pem\""`
	KeySecret      string   `toml:"key_secret" json:"key_secret,omitempty" example:"\"timetable-key\""`
	Bundle         string   `toml:"bundle" json:"bundle,omitempty" example:"\"certificates/timetable.p12\""`
	PasswordSecret string   `toml:"password_secret" json:"password_secret,omitempty" default:"it is locked with none" example:"\"timetable-bundle\""`
	Key            string   `toml:"key" json:"key,omitempty" enum:"ecdsa-p256,ecdsa-p384,rsa-2048,rsa-3072,rsa-4096" default:"ecdsa-p256" example:"\"rsa-2048\""`
	ValidFor       string   `toml:"valid_for" json:"valid_for,omitempty" default:"90d" example:"\"30d\""`
	ToldBefore     string   `toml:"told_before" json:"told_before,omitempty" default:"30d" example:"\"14d\""`
}

var _ = Explain[Certificate](map[string]string{
	"names":           "Host names that it is made for.",
	"self_signed":     "Whether the service makes it, signed by its own key alone: browsers warn of it.",
	"authority":       "Authority of this ground that signs it; the service makes it, and with the first look after two thirds of its life a new one.",
	"file":            "File beside the declaration with the certificate in PEM, and behind it those that lead to its authority.",
	"key_secret":      "Name of the secret that holds the private key of the file, in PEM.",
	"bundle":          "PKCS#12 bundle beside the declaration, with the certificate, those that lead to its authority, and the private key.",
	"password_secret": "Name of the secret that holds the password of the bundle.",
	"key":             "Kind of the private key that the service makes.",
	"valid_for":       "How long one is valid that the service makes.",
	"told_before":     "How long before it is out of date that is told, by northstake drift and northstake certificates.",
})

// Ways are the keys that say where it comes from, of those that are written.
func (c *Certificate) Ways() []string {
	var out []string
	for _, way := range []struct {
		key string
		is  bool
	}{{"self_signed", c.SelfSigned}, {"authority", c.Authority != ""}, {"file", c.File != ""}, {"bundle", c.Bundle != ""}} {
		if way.is {
			out = append(out, way.key)
		}
	}
	return out
}

// IsMade says whether the service makes it.
func (c *Certificate) IsMade() bool { return c.SelfSigned || c.Authority != "" }

// Life is how long one is valid that the service makes.
func (c *Certificate) Life() time.Duration { return period(c.ValidFor, 90) }

// ToldFor is how long before it is out of date that is told.
func (c *Certificate) ToldFor() time.Duration { return period(c.ToldBefore, 30) }

// Life is how long the authority's own certificate is valid.
func (a *Authority) Life() time.Duration { return period(a.ValidFor, 3650) }

// period is a length of time as it is declared, or else some days.
func period(text string, otherwise int) time.Duration {
	if seconds, ok := form.Seconds(text); ok {
		return time.Duration(seconds) * time.Second
	}
	return time.Duration(otherwise) * 24 * time.Hour
}

// NamesOf are the names that a certificate is for: its own, or those of the sites that use it, sorted.
func (d *Declaration) NamesOf(certificate string) []string {
	c := d.Certificates[certificate]
	if c == nil {
		return nil
	}
	if len(c.Names) > 0 {
		return c.Names
	}
	var out []string
	for _, name := range d.UsersOf(certificate) {
		s := d.Sites[name]
		out = append(append(out, s.Names...), s.RedirectedNames...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// UsersOf are the sites that show a certificate, sorted.
func (d *Declaration) UsersOf(certificate string) []string {
	var out []string
	for _, name := range d.SiteNames() {
		if d.Sites[name].Certificate == certificate {
			out = append(out, name)
		}
	}
	return out
}

// Authority signs certificates of the ground. The service makes it, and keeps its key.
type Authority struct {
	Title    string   `toml:"title" json:"title,omitempty" default:"the ground's name and its own" example:"\"Saltmarsh Ferries, harbour office\""`
	Domains  []string `toml:"domains" json:"domains" required:"true" example:"[\"saltmarsh.test\"]"`
	Key      string   `toml:"key" json:"key,omitempty" enum:"ecdsa-p256,ecdsa-p384,rsa-2048,rsa-3072,rsa-4096" default:"ecdsa-p256" example:"\"ecdsa-p384\""`
	ValidFor string   `toml:"valid_for" json:"valid_for,omitempty" default:"3650d" example:"\"1825d\""`
}

var _ = Explain[Authority](map[string]string{
	"title":     "What it is called where people look at a certificate.",
	"domains":   "Domains for which it signs, with all that is below them: nobody who trusts it takes a certificate of it for another name.",
	"key":       "Kind of its private key.",
	"valid_for": "How long its own certificate is valid.",
})

// HTTPS says how a site is served that has a certificate, where that is to be otherwise than it is by itself.
type HTTPS struct {
	PlainHTTP    string `toml:"plain_http" json:"plain_http,omitempty" enum:"redirected,answered,refused" default:"redirected" example:"\"answered\""`
	LeastVersion string `toml:"least_version" json:"least_version,omitempty" enum:"1.2,1.3" default:"1.2" example:"\"1.3\""`
	Remembered   string `toml:"remembered" json:"remembered,omitempty" default:"it is not" example:"\"365d\""`
	HTTP2        *bool  `toml:"http2" json:"http2,omitempty" default:"true" example:"false"`
}

var _ = Explain[HTTPS](map[string]string{
	"plain_http":    "What visitors get who ask over plain HTTP: they are redirected to HTTPS, answered as well, or refused: no port is open for them.",
	"least_version": "The least version of TLS that visitors have to speak.",
	"remembered":    "How long browsers remember to ask for the site over HTTPS alone (Strict-Transport-Security).",
	"http2":         "Whether HTTP/2 is spoken beside HTTP/1.1.",
})

// What PlainHTTP says.
const (
	PlainRedirected = "redirected"
	PlainAnswered   = "answered"
	PlainRefused    = "refused"
)

// LeastVersion is the least version of TLS that visitors of a site have to speak.
func (s *Site) LeastVersion() string { return cmp.Or(s.HTTPS.LeastVersion, "1.2") }

// SpeaksHTTP2 says whether a site speaks HTTP/2 over HTTPS.
func (s *Site) SpeaksHTTP2() bool { return s.HTTPS.HTTP2 == nil || *s.HTTPS.HTTP2 }

// PlainHTTP is what visitors get who ask a site over plain HTTP: all of it where it has no certificate.
func (s *Site) PlainHTTP() string {
	if s.Certificate == "" {
		return PlainAnswered
	}
	return cmp.Or(s.HTTPS.PlainHTTP, PlainRedirected)
}
