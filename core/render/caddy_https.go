package render

import (
	"strconv"

	"northstake/core/declare"
	"northstake/core/wire"
)

// endpoint is where a site listens, with the scheme that is spoken there.
func (c *caddy) endpoint(l declare.Listen) wire.Endpoint {
	e := wire.Endpoint{Port: l.Port}
	if c.site.Secure(l) {
		e.Scheme = wire.HTTPS
	}
	return e
}

// shows has a site show the certificate where HTTPS is spoken. What of HTTPS is the server's own affair, such
// as HTTP/2, its own configuration says.
func (c *caddy) shows(l declare.Listen) {
	if c.s.Certificate == nil || !c.site.Secure(l) {
		return
	}
	at := c.at("certificate")
	c.line(at, "\ttls %s %s {", c.q(c.s.Certificate.Chain), c.q(c.s.Certificate.Key))
	list := versions(c.site)
	c.line(c.at("https", "least_version"), "\t\tprotocols tls%s tls%s", list[0], list[len(list)-1])
	c.line(at, "\t}")
}

// sends has a site for who asks over plain HTTP, and is sent to HTTPS.
func (c *caddy) sends() {
	_, plain := doors(c.site)
	if !sends(c.site) {
		return
	}
	at := c.at("https", "plain_http")
	for _, l := range plain {
		c.line(at, "%s {", c.addresses(c.site.Names, l.Listen, c.site.CatchAll))
		c.bind(c.at("listen", strconv.Itoa(l.i)), l.Listen)
		c.line(at, "\t@mark path \"%s%s\"", markDir, markHere)
		c.line(at, "\tskip_log @mark")
		c.line(at, "\troute {")
		c.line(at, "\t\trespond @mark \"%s%s\"", marked, markHere)
		c.line(at, "\t\tredir %s{uri} 301", sentTo(c.site, "{host}"))
		c.line(at, "\t}")
		c.line(at, "}")
	}
}
