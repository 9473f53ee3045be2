package declare

import (
	"net/url"
	"strconv"
	"strings"

	"northstake/core/wire"
)

// Upstream is a service that requests are passed on to, as passed_to writes it: an endpoint by the URL of
// HTTP or HTTPS, or a socket by its path.
type Upstream struct {
	Written string
	Unix    string // the socket, "" for none

	wire.Endpoint        // Name is that of the URL, an address without its brackets; Port is 0 for what is no port
	Authority     string // name and port as they are written
	Below         string // behind them, "" for none
}

// UpstreamOf reads one. False says that it is neither a URL of those nor a socket; whether its name and its
// path are such is another matter.
func UpstreamOf(to string) (u Upstream, ok bool) {
	u.Written = to
	if u.Unix, ok = strings.CutPrefix(to, "unix:"); ok {
		return u, true
	}
	u.Unix = ""
	at, err := url.Parse(to)
	if err != nil || at.Scheme != wire.HTTP && at.Scheme != "https" {
		return u, false
	}
	u.Scheme, u.Name, u.Authority = at.Scheme, at.Hostname(), at.Host
	if u.Below, ok = strings.CutPrefix(to, at.Scheme+"://"+at.Host); !ok { // with a user, say
		return u, false
	}
	u.Port = map[string]int{wire.HTTP: 80, "https": 443}[u.Scheme]
	if at.Port() != "" || strings.HasSuffix(at.Host, ":") || strings.HasSuffix(at.Host, "]") { // which is written with one
		n, err := strconv.ParseUint(at.Port(), 10, 16)
		if u.Port = int(n); err != nil {
			u.Port = 0
		}
	}
	return u, true
}

// At is where it takes connections: an address with a port, or the path of a socket.
func (u Upstream) At() string {
	if u.Unix != "" {
		return u.Unix
	}
	u.Address = u.Name
	return u.Socket()
}
