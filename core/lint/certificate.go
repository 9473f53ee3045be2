package lint

import (
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"northstake/core/certificate"
	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
)

// certificate checks what a ground says of a certificate, and what lies beside the declaration of it.
func (l linter) certificate(name string, c *declare.Certificate) {
	here := keys("certificate", name)
	if !form.PlainName.MatchString(name) {
		l.SayKey(here, fmt.Sprintf("certificate name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	for i, n := range c.Names {
		l.name(n, check.At(here, "names", strconv.Itoa(i)))
		if slices.Contains(c.Names[:i], n) {
			l.Say(check.At(here, "names", strconv.Itoa(i)), fmt.Sprintf("%q is named twice", n), "keep one of the two")
		}
	}
	l.period(c.ToldBefore, check.At(here, "told_before"), 1, 366)
	if !l.oneWay(c, here) {
		return
	}
	if names := l.D.NamesOf(name); c.IsMade() && len(names) == 0 {
		l.Say(here, "it is for no name: no site uses it, and it names none", "add certificate = \""+name+"\" to a site, or names = […] here")
	}
	switch {
	case c.Authority != "":
		l.signedBy(name, c, here)
	case c.File != "":
		l.Secret(c.KeySecret, "key_secret", check.At(here, "key_secret"))
		if c.KeySecret == "" && l.D.Lacks(check.At(here, "key_secret")...) {
			l.Say(check.At(here, "file"), "its private key is missing: what lies beside a declaration is kept in every revision, and so a key does not lie there", "add key_secret = \"NAME\", and give the key to northstake secret keep NAME")
		}
		l.Beside(c.File, check.At(here, "file"))
		l.chain(name, c, here)
	case c.Bundle != "":
		l.Secret(c.PasswordSecret, "password_secret", check.At(here, "password_secret"))
		l.BesideAsItIs(c.Bundle, check.At(here, "bundle"))
	}
}

// oneWay says whether a certificate has one source, and what does not go with it.
func (l linter) oneWay(c *declare.Certificate, here []string) bool {
	ways := c.Ways()
	switch len(ways) {
	case 0:
		l.Say(here, "it is not said where the certificate comes from", "say one of self_signed, authority, file with key_secret, and bundle")
		return false
	case 1:
	default:
		l.Say(check.At(here, ways[1]), fmt.Sprintf("a certificate comes from one place, and this has %s as well", ways[0]), "keep one of the two")
		return false
	}
	whose := map[string][]string{"key_secret": {"file"}, "password_secret": {"bundle"}, "key": {"self_signed", "authority"}, "valid_for": {"self_signed", "authority"}}
	for _, key := range []string{"key_secret", "password_secret", "key", "valid_for"} {
		if at := check.At(here, key); l.Written(at...) && !slices.Contains(whose[key], ways[0]) {
			l.Say(at, fmt.Sprintf("%s is for a certificate with %s, and this one has %s", key, strings.Join(whose[key], " or "), ways[0]), "take it out")
		}
	}
	if c.IsMade() {
		l.period(c.ValidFor, check.At(here, "valid_for"), 1, 398)
	}
	return true
}

// signedBy checks a certificate that an authority of the ground signs.
func (l linter) signedBy(name string, c *declare.Certificate, here []string) {
	a := l.D.Authorities[c.Authority]
	if a == nil {
		l.Say(check.At(here, "authority"), fmt.Sprintf("there is no authority %q", c.Authority), near.DidYouMean(c.Authority, sorted(l.D.Authorities)))
		return
	}
	for _, n := range l.D.NamesOf(name) {
		if !slices.ContainsFunc(a.Domains, func(domain string) bool { return within(n, domain) }) {
			l.Say(l.nameOf(name, n), fmt.Sprintf("authority %s does not sign for %s: its domains are %s", c.Authority, n, strings.Join(a.Domains, ", ")), "have the domain among those of the authority, or use another certificate")
		}
	}
}

// within says whether a name, or a pattern of names, is a domain or lies below it.
func within(name, domain string) bool {
	name = strings.TrimPrefix(name, "*.")
	return name == domain || strings.HasSuffix(name, "."+domain)
}

// nameOf is where a name is written that a certificate is for: in its own table, or in that of a site.
func (l linter) nameOf(certificate, name string) []string {
	c := l.D.Certificates[certificate]
	if i := slices.Index(c.Names, name); i >= 0 {
		return keys("certificate", certificate, "names", strconv.Itoa(i))
	}
	for _, site := range l.D.UsersOf(certificate) {
		for key, list := range map[string][]string{"names": l.D.Sites[site].Names, "redirected_names": l.D.Sites[site].RedirectedNames} {
			if i := slices.Index(list, name); i >= 0 {
				return keys("site", site, key, strconv.Itoa(i))
			}
		}
	}
	return keys("certificate", certificate)
}

// chain says what is wrong with a certificate that lies beside the declaration. Whether it is out of date is
// for those to say who have a clock.
func (l linter) chain(name string, c *declare.Certificate, here []string) {
	text, err := l.D.TextBeside(c.File)
	if err != nil {
		return
	}
	at := check.At(here, "file")
	chain, err := certificate.ReadChain([]byte(text))
	var note *certificate.Note
	if errors.As(err, &note) {
		l.Say(at, fmt.Sprintf("%s: %s", c.File, note.What), note.Fix)
		return
	}
	for _, n := range l.D.NamesOf(name) {
		if !certificate.Covers(chain.Leaf(), n) {
			l.Say(l.nameOf(name, n), fmt.Sprintf("the certificate in %s does not cover %s: it is for %s", c.File, n, namesOf(chain.Leaf())), "have it made anew with that name, or take another certificate")
		}
	}
	for _, n := range certificate.Judge(chain, certificate.Use{}).Mistakes {
		l.Say(at, fmt.Sprintf("%s: %s", c.File, n.What), n.Fix)
	}
}

func namesOf(c *x509.Certificate) string {
	names := certificate.Names(c)
	if len(names) == 0 {
		return "no name"
	}
	return strings.Join(names[:min(len(names), 6)], ", ")
}

// authority checks what a ground says of an authority of its own.
func (l linter) authority(name string, a *declare.Authority) {
	here := keys("authority", name)
	if !form.PlainName.MatchString(name) {
		l.SayKey(here, fmt.Sprintf("authority name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	if l.Written(check.At(here, "domains")...) && len(a.Domains) == 0 {
		l.Say(check.At(here, "domains"), "an authority without domains would sign for everybody's names", "name the ground's own, such as \"saltmarsh.test\"")
	}
	for i, domain := range a.Domains {
		at := check.At(here, "domains", strconv.Itoa(i))
		if strings.HasPrefix(domain, "*.") || strings.HasPrefix(domain, ".") {
			l.Say(at, fmt.Sprintf("%q is a pattern, and a domain counts with all that is below it", domain), fmt.Sprintf("write %q", strings.TrimLeft(domain, "*.")))
			continue
		}
		l.name(domain, at)
	}
	if len(a.Title) > 64 || form.Bad(a.Title) != "" {
		l.Say(check.At(here, "title"), "this cannot be the title of an authority", "use at most 64 plain characters")
	}
	l.period(a.ValidFor, check.At(here, "valid_for"), 1, 9131)
}

// period checks a length of time in whole days.
func (l linter) period(text string, at []string, least, most int64) {
	if text == "" {
		return
	}
	seconds, ok := form.Seconds(text)
	if days := seconds / 86400; !ok || seconds%86400 != 0 || days < least || days > most {
		l.Say(at, fmt.Sprintf("%q is not a length of time from %d to %d days", text, least, most), "write one such as \"30d\"")
	}
}

// alikeOverHTTPS says where sites of nginx listen at the same place, and are to speak HTTPS differently there: of
// that server what the first of them speaks holds for all (ngx_http_ssl_module, ssl_protocols; the listen directive).
func (l linter) alikeOverHTTPS() {
	told := map[string]bool{}
	for _, host := range sorted(l.D.Hosts) {
		first := map[string]string{}
		for _, name := range l.D.SitesOn(host) {
			s := l.D.Sites[name]
			if s.Server != "nginx" || s.Certificate == "" || !s.IsServed() {
				continue
			}
			for _, on := range s.ListenOn() {
				at := on.On() + map[bool]string{true: " within"}[s.Image != ""]
				other := first[at]
				if !s.Secure(on) {
					continue
				}
				if other == "" {
					first[at] = name
					continue
				}
				o := l.D.Sites[other]
				for key, differs := range map[string]bool{"least_version": s.LeastVersion() != o.LeastVersion(), "http2": s.SpeaksHTTP2() != o.SpeaksHTTP2()} {
					if differs && !told[name+key] {
						told[name+key] = true
						l.Say(keys("site", name, "https"), fmt.Sprintf("%s is otherwise for site %s, which listens at port %d of host %s as well, and nginx knows one for both", key, other, on.Port, host), "let the two say the same, or listen on another port or address")
					}
				}
			}
		}
	}
}

// https checks how a site is served over HTTPS.
func (l linter) https(name string, s *declare.Site) {
	here := keys("site", name)
	if s.Certificate == "" {
		for _, key := range []string{"plain_http", "least_version", "remembered", "http2"} {
			if at := check.At(here, "https", key); l.Written(at...) {
				l.Say(at, "this is about HTTPS, and the site has no certificate", "give the site a certificate, or take it out")
			}
		}
	} else if l.D.Certificates[s.Certificate] == nil {
		l.Say(check.At(here, "certificate"), fmt.Sprintf("there is no certificate %q", s.Certificate), near.DidYouMean(s.Certificate, sorted(l.D.Certificates)))
	}
	if s.Certificate != "" && s.Image != "" {
		l.Say(check.At(here, "certificate"), "its server runs in a container, and shows no certificate there so far", "have a server of the host itself serve it")
	}
	l.secureAt(s, here)
	if s.Certificate != "" {
		l.remembered(s, check.At(here, "https", "remembered"))
	}
}

// secureAt checks where a site speaks HTTPS, and where it does not.
func (l linter) secureAt(s *declare.Site, here []string) {
	secure, plain := 0, -1
	for i, on := range s.ListenOn() {
		at := check.At(here, "listen", strconv.Itoa(i))
		switch {
		case s.Secure(on) && s.Certificate == "":
			l.Say(check.At(at, "https"), "HTTPS needs a certificate, and the site has none", "give the site a certificate")
		case s.Secure(on):
			secure++
		case on.Port == 443:
			l.Say(at, "at 443 browsers speak HTTPS, and the site speaks plain HTTP there", "give the site a certificate, or listen on another port")
		default:
			plain = i
		}
	}
	if s.Certificate == "" {
		return
	}
	if secure == 0 {
		l.Say(check.At(here, "listen"), "the site has a certificate, and speaks HTTPS nowhere", "add 443, or say of another port that HTTPS is spoken there")
	}
	if s.PlainHTTP() == declare.PlainRefused && plain >= 0 && len(s.Listen) > 0 {
		l.Say(check.At(here, "listen", strconv.Itoa(plain)), "plain HTTP is to be refused, and here it is listened for", "take the port out, or plain_http = \"refused\"")
	}
}

// remembered checks for how long browsers remember that a site is asked for over HTTPS.
func (l linter) remembered(s *declare.Site, at []string) {
	switch seconds, ok := form.Seconds(s.HTTPS.Remembered); {
	case s.HTTPS.Remembered == "":
	case !ok || time.Duration(seconds)*time.Second > 731*24*time.Hour:
		l.Say(at, fmt.Sprintf("%q is not a length of time up to two years", s.HTTPS.Remembered), "write one such as \"365d\"")
	case s.PlainHTTP() == declare.PlainAnswered && seconds > 0:
		l.Say(at, "browsers would remember that the site is there over HTTPS alone, and plain HTTP is answered too", "take out plain_http = \"answered\", or this")
	}
}
