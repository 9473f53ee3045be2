package wire

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"reflect"
	"slices"
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

// What an endpoint is a part of is read with all its other parts, and ports that a release before has kept are read.
func TestEndpointsAreReadInWhatHasThem(t *testing.T) {
	p := Probe{Site: "tides", Host: "quay1", Endpoint: Endpoint{Name: "tides.test", Port: 8080, Address: "192.0.2.1"}, Check: Check{Path: "/a", Status: 204}}
	var again Probe
	if err := json.Unmarshal(JSON(p), &again); err != nil || !reflect.DeepEqual(p, again) {
		t.Errorf("%s is read as %+v, %v", JSON(p), again, err)
	}
	for text, want := range map[string]Listening{
		`[80,8080]`: {{Port: 80}, {Port: 8080}}, `[{"port":80},{"port":81,"address":"::1"}]`: {{Port: 80}, {Port: 81, Address: "::1"}}, `[]`: nil, `null`: nil,
	} {
		var w, twice SiteWork
		if err := json.Unmarshal([]byte(`{"file":"/etc/a","listen":`+text+`,"away":true}`), &w); err != nil || !slices.Equal(w.Listen, want) || w.File != "/etc/a" || !w.Away {
			t.Errorf("%s is read as %+v, %v", text, w, err)
		}
		if err := json.Unmarshal(JSON(w), &twice); err != nil || !reflect.DeepEqual(w, twice) {
			t.Errorf("%s is read as %+v, %v", JSON(w), twice, err)
		}
	}
}
