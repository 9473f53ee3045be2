package resolve

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"northstake/core/certificate"
	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/stake"
	"northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/host/family"
)

// shown is a certificate for some names, as the service keeps it.
func shown(t *testing.T, names ...string) []byte {
	t.Helper()
	key, err := certificate.NewKey("")
	if err != nil {
		t.Fatal(err)
	}
	chain, err := certificate.SelfSigned(names, key, time.Now(), 90*24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	text, err := certificate.Material{Chain: chain, Key: key}.PEM()
	if err != nil {
		t.Fatal(err)
	}
	return []byte(text)
}

// A certificate that is made anew is told from all else that may be wanted otherwise, on each server.
func TestWhatIsOnlyRenewed(t *testing.T) {
	const (
		sites = `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
[certificate.quays]
self_signed = true
[host.quay1]
address = "10.88.0.11"
[site.timetable]
on = ["quay1"]
server = "SERVER"
names = ["timetable.saltmarsh.test"]
certificate = "quays"
[site.tides]
on = ["quay1"]
server = "SERVER"
names = ["tides.saltmarsh.test"]
certificate = "quays"
[site.plain]
on = ["quay1"]
server = "SERVER"
names = ["plain.saltmarsh.test"]
`
		timetable, tides = "site/timetable", "site/tides"
	)
	names := []string{"tides.saltmarsh.test", "timetable.saltmarsh.test"}
	first, second, wider := shown(t, names...), shown(t, names...), shown(t, append([]string{"boats.saltmarsh.test"}, names...)...)
	for _, server := range []string{"nginx", "httpd", "caddy"} {
		others := "site/other-names-" + server
		stakes := func(text string, material []byte) []stake.Stake {
			t.Helper()
			d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: strings.ReplaceAll(text, "SERVER", server)}}, &declare.Manifest{})
			if len(problems) > 0 {
				t.Fatal(problems)
			}
			h, err := OnePlace(d, "quay1", traits, family.Layouts("debian"), &stake.Secrets{Key: []byte("marks"), Value: func(string) ([]byte, error) { return material, nil }})
			if err != nil {
				t.Fatal(err)
			}
			return h.Stakes
		}
		was := map[string]json.RawMessage{}
		for _, s := range stakes(sites, first) {
			was[s.Local()] = s.Want
		}
		if _, refuses := was[others]; refuses != (server != "caddy") {
			t.Fatalf("%s: what refuses other names is there: %t", server, refuses)
		}
		// What refuses other names shows the certificate of tides: where it is to be otherwise itself, that stays.
		all, shownByMore := []string{tides, timetable}, []string{tides, timetable}
		if server != "caddy" {
			all, shownByMore = []string{others, tides, timetable}, []string{timetable}
		}
		for name, c := range map[string]struct {
			text     string
			material []byte
			renewed  []string
		}{
			"the same":              {sites, first, nil},
			"another":               {sites, second, all},
			"a line above it":       {"# Ferries\n\n" + sites, second, all},
			"for other names":       {sites, wider, nil},
			"and a site otherwise":  {strings.Replace(sites, "[site.tides]\n", "[site.tides]\nindex = [\"tide.html\"]\n", 1), second, []string{timetable}},
			"and plain otherwise":   {strings.Replace(sites, "[site.plain]\n", "[site.plain]\nindex = [\"tide.html\"]\n", 1), second, all},
			"and another source":    {strings.ReplaceAll(sites, "quays", "office"), second, nil},
			"and none for one":      {strings.Replace(sites, "certificate = \"quays\"\n[site.plain]", "[site.plain]", 1), second, []string{timetable}},
			"and shown by one more": {strings.Replace(sites, "names = [\"plain.saltmarsh.test\"]\n", "names = [\"plain.saltmarsh.test\"]\ncertificate = \"quays\"\n", 1), second, shownByMore},
			"and refused by a site": {strings.Replace(sites, "names = [\"plain.saltmarsh.test\"]\n", "names = [\"plain.saltmarsh.test\"]\ncertificate = \"quays\"\ncatch_all = true\n", 1), second, shownByMore},
		} {
			now := stakes(c.text, c.material)
			of := kinds.Renewed(now, was, []string{"office", "quays"})
			got := slices.Sorted(maps.Keys(of))
			for local, site := range of { // which comes first
				at := func(name string) int {
					return slices.IndexFunc(now, func(s stake.Stake) bool { return s.Local() == name })
				}
				if shows := map[bool]string{true: tides, false: local}[local == others]; site != shows || at(site) > at(local) {
					t.Errorf("%s, %s: %s shows the certificate of %s", server, name, local, site)
				}
			}
			if !slices.Equal(got, c.renewed) {
				t.Errorf("%s, %s: renewed are %v, not %v", server, name, got, c.renewed)
			}
		}
	}
}

// Of a host of releases before, which have no certificates, nothing is renewed.
func TestNothingIsRenewedOfWhatIsNotKnown(t *testing.T) {
	now := []stake.Stake{{Place: "quay1", Type: "site", Name: "tides", Want: wire.JSON(wire.SiteWant{Certificate: &wire.SiteCertificate{Name: "quays", Fingerprint: strings.Repeat("a", 64)}})}}
	for _, was := range []string{"", "{}", `{"text": "`, `{"certificate": {"name": "quays", "fingerprint": ""}}`, `{"certificate": {"name": "quays"}, "text": "x"}`} {
		if got := kinds.Renewed(now, map[string]json.RawMessage{"site/tides": json.RawMessage(was)}, []string{"quays"}); len(got) > 0 {
			t.Errorf("of %s %s", was, fmt.Sprint(got))
		}
	}
}
