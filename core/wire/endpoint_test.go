package wire

import (
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"testing"
)

// What is said of an endpoint is what Go's own reading of URLs and of sockets makes of it.
func TestEndpointsAreURLs(t *testing.T) {
	for _, e := range []Endpoint{
		{Name: "tides.test", Port: 80, Address: "192.0.2.1"},
		{Name: "tides.test", Port: 8080, Address: "2001:db8::1"},
		{Name: "192.0.2.7", Port: 81, Address: "192.0.2.7"},
		{Scheme: "https", Name: "tides.test", Port: 80, Address: "::1"},
	} {
		for _, text := range []string{e.URL("/a?b"), e.InFull("/a?b"), e.AtAddress("/a?b")} {
			u, err := url.Parse(text)
			if err != nil || u.Path != "/a" || u.RawQuery != "b" || u.Scheme != e.scheme() {
				t.Fatalf("%s: %+v, %v", text, u, err)
			}
			if port := u.Port(); port != strconv.Itoa(e.Port) && (port != "" || e.Port != 80 || e.Scheme != "") {
				t.Errorf("%s has port %q", text, port)
			}
		}
		if host, port, err := net.SplitHostPort(e.Socket()); err != nil || host != e.Address || port != fmt.Sprint(e.Port) {
			t.Errorf("%s: %s %s, %v", e.Socket(), host, port, err)
		}
		if r, err := http.NewRequest(http.MethodGet, e.URL("/"), nil); err != nil || r.Host != e.Host() {
			t.Errorf("asked for %q, and it is %q, %v", r.Host, e.Host(), err)
		}
	}
	if got := (Endpoint{Name: "tides.test", Port: 80}).InFull("/"); got != "http://tides.test:80/" {
		t.Error(got)
	}
}
