package declare

import (
	"net/url"
	"strconv"
	"testing"
)

// A service is read as Go reads its URL; what is none of those is told.
func TestServicesArePlaces(t *testing.T) {
	for to, at := range map[string]string{
		"http://127.0.0.1:9000": "127.0.0.1:9000", "http://tides.test": "tides.test:80", "https://tides.test": "tides.test:443",
		"http://[2001:db8::1]:81": "[2001:db8::1]:81", "http://tides.test:8080/api": "tides.test:8080", "unix:/run/tides.sock": "/run/tides.sock",
	} {
		s, ok := UpstreamOf(to)
		if !ok || s.At() != at || s.Written != to {
			t.Errorf("%s is at %q, %t", to, s.At(), ok)
		}
		u, err := url.Parse(to)
		if err != nil {
			t.Fatal(err)
		}
		if s.Unix == "" && (s.Scheme != u.Scheme || s.Name != u.Hostname() || s.Authority != u.Host || s.Below != u.Path || u.Port() != "" && u.Port() != strconv.Itoa(s.Port)) {
			t.Errorf("%s is read as %+v, and is %+v", to, s, u)
		}
	}
	for _, to := range []string{"", "tides.test:80", "ftp://tides.test", "/run/tides.sock", "://x", "http://tides.test:x", "http://harbour@tides.test", "HTTP://tides.test"} {
		if s, ok := UpstreamOf(to); ok {
			t.Errorf("%q is read as %+v", to, s)
		}
	}
	for _, to := range []string{"http://tides.test:0", "http://tides.test:65536", "http://tides.test:", "http://[2001:db8::1]"} {
		if s, ok := UpstreamOf(to); !ok || s.Port != 0 {
			t.Errorf("%q has port %d", to, s.Port)
		}
	}
}
