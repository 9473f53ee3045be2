package render

import (
	"strings"

	"northstake/core/declare"
)

// speaks is what is said of where a server listens at which HTTPS is spoken (ngx_http_ssl_module): of this
// server it holds for all that listen there.
func (n *nginx) speaks(l declare.Listen) string {
	switch {
	case !n.site.Secure(l):
		return ""
	case n.site.SpeaksHTTP2():
		return " ssl http2"
	}
	return " ssl"
}

// shows has a server show the certificate.
func (n *nginx) shows() {
	if n.s.Certificate == nil {
		return
	}
	at := n.at("certificate")
	n.line(at, "    ssl_certificate %s;", n.q(n.s.Certificate.Chain))
	n.line(at, "    ssl_certificate_key %s;", n.q(n.s.Certificate.Key))
	n.line(n.at("https", "least_version"), "    ssl_protocols TLSv%s;", strings.Join(versions(n.site), " TLSv"))
	n.line(at, "    ssl_ciphers %s;", ciphers)
	n.line(at, "    ssl_prefer_server_ciphers off;")
	n.line(at, "    ssl_session_tickets off;")
}

// sends has a server for who asks over plain HTTP, and is sent to HTTPS.
func (n *nginx) sends() {
	_, plain := doors(n.site)
	if !sends(n.site) || len(plain) == 0 {
		return
	}
	at := n.at("https", "plain_http")
	n.line(at, "server {")
	more := ""
	if n.site.CatchAll {
		more = " default_server"
	}
	for _, l := range plain {
		n.listen(l.i, l.Listen, more)
	}
	n.line(n.at("names"), "    server_name %s;", n.names(n.site.Names))
	n.line(at, "    server_tokens off;")
	n.visited()
	n.line(at, "    location / {")
	n.line(at, "        return 301 %s$request_uri;", sentTo(n.site, "$host"))
	n.line(at, "    }")
	n.line(at, "}")
}

// refuses has handshakes refused that are for a name which no site has (ssl_reject_handshake). The versions of
// this server count for all that listen there: the handshake begins with them.
func (n *nginx) refuses() {
	if len(n.site.Refuses) == 0 {
		return
	}
	secure, _ := doors(n.site)
	n.line(n.at(), "server {")
	for _, l := range secure {
		n.listen(l.i, l.Listen, " default_server")
	}
	n.line(n.at(), "    server_name _;")
	n.line(n.at(), "    ssl_protocols TLSv%s;", strings.Join(versions(n.site), " TLSv"))
	n.line(n.at(), "    ssl_reject_handshake on;")
	n.line(n.at(), "}")
}
