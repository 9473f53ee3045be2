package declare

import (
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
	var rest string
	if u.Scheme, rest, ok = strings.Cut(to, "://"); !ok || u.Scheme != wire.HTTP && u.Scheme != "https" {
		return u, false
	}
	u.Authority = rest
	if i := strings.IndexByte(rest, '/'); i >= 0 {
		u.Authority, u.Below = rest[:i], rest[i:]
	}
	name, port, ported := strings.Cut(u.Authority, ":")
	if strings.HasPrefix(u.Authority, "[") { // an address of version 6 of IP
		name, port, ported = strings.Cut(strings.TrimPrefix(u.Authority, "["), "]:")
	}
	u.Name, u.Port = name, map[string]int{wire.HTTP: 80, "https": 443}[u.Scheme]
	if ported {
		u.Port = 0
		if n, err := strconv.ParseUint(port, 10, 16); err == nil {
			u.Port = int(n)
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
