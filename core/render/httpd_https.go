package render

import "strings"

// apart are doors, those at which HTTPS is spoken apart from the others: of this server a virtual host speaks
// one of the two.
func (h *httpd) apart(all []door) [][]door {
	var out [][]door
	for _, secure := range []bool{true, false} {
		var some []door
		for _, l := range all {
			if h.site.Secure(l.Listen) == secure {
				some = append(some, l)
			}
		}
		if len(some) > 0 {
			out = append(out, some)
		}
	}
	return out
}

// addresses are those of a virtual host.
func addresses(on []door) string {
	var out []string
	for _, l := range on {
		out = append(out, l.On())
	}
	return strings.Join(out, " ")
}

// shows has a virtual host speak HTTPS, and show the certificate (mod_ssl), where that is spoken at its doors.
func (h *httpd) shows(on []door) {
	if h.s.Certificate == nil || !h.site.Secure(on[0].Listen) {
		return
	}
	at := h.at("certificate")
	h.line(at, "    SSLEngine On")
	h.line(at, "    SSLCertificateFile %s", h.q(h.s.Certificate.Chain))
	h.line(at, "    SSLCertificateKeyFile %s", h.q(h.s.Certificate.Key))
	h.line(h.at("https", "least_version"), "    SSLProtocol -all +TLSv%s", strings.Join(versions(h.site), " +TLSv"))
	h.line(at, "    SSLCipherSuite %s", ciphers)
	h.line(at, "    SSLHonorCipherOrder Off")
	h.line(at, "    SSLSessionTickets Off")
	if h.site.SpeaksHTTP2() {
		h.line(h.at("https", "http2"), "    Protocols h2 http/1.1")
	} else {
		h.line(h.at("https", "http2"), "    Protocols http/1.1")
	}
}

// sends has a virtual host for who asks over plain HTTP, and is sent to HTTPS.
func (h *httpd) sends() {
	_, plain := doors(h.site)
	if !sends(h.site) || len(plain) == 0 {
		return
	}
	at := h.at("https", "plain_http")
	h.line(at, "<VirtualHost %s>", addresses(plain))
	h.line(h.at("names"), "    ServerName %s", h.serverName(h.site.Names, "sent"))
	for _, n := range h.site.Names {
		h.line(h.at("names"), "    ServerAlias %s", n)
	}
	h.line(at, "    ServerSignature Off")
	h.line(at, "    RewriteEngine On")
	h.line(at, `    RewriteRule "^%s$" "-" [R=200,L]`, strings.Replace(markDir, ".", "[.]", 1)+markHere)
	h.line(at, `    RewriteCond %%{THE_REQUEST} "^\S+ (/[^? ]*)"`)
	h.line(at, `    RewriteRule ".*" "%s%%1" [R=301,NE,L]`, sentTo(h.site, "%{SERVER_NAME}"))
	h.line(at, `    RewriteRule ".*" "%s/" [R=301,NE,L]`, sentTo(h.site, "%{SERVER_NAME}"))
	h.line(at, `    <Location "%s%s">`, markDir, markHere)
	h.line(at, `        ErrorDocument 200 "%s%s"`, marked, markHere)
	h.line(at, "    </Location>")
	h.line(at, "</VirtualHost>")
}

// refuses has handshakes refused that are for a name which no site has: the first virtual host of an address is
// theirs, and of this one no certificate fits what it may be signed with.
func (h *httpd) refuses() {
	if len(h.site.Refuses) == 0 {
		return
	}
	secure, _ := doors(h.site)
	h.line(h.at(), "<VirtualHost %s>", addresses(secure))
	h.line(h.at(), "    ServerName refused.%s", MarkName(h.writer.site))
	h.shows(secure)
	h.line(h.at(), "    SSLOpenSSLConfCmd SignatureAlgorithms ed448")
	h.line(h.at(), "</VirtualHost>")
}
