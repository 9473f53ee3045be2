package judge

import (
	"strings"
	"testing"
	"time"

	"northstake/core/stake"
	"northstake/core/wire"
)

// A certificate from which visitors turn away is no plan's to put in place; one that ends soon is told of; and one
// that is shown otherwise than it lies there is read anew.
func TestCertificatesOfSites(t *testing.T) {
	until := time.Date(2026, 12, 24, 12, 0, 0, 0, time.UTC)
	loaded := true
	for name, c := range map[string]struct {
		wrong  []wire.Fault
		found  wire.SiteFound
		skew   string
		off    bool
		differ string // attributes
		block  string
		soon   string
		once   bool
		nudged string
	}{
		"in its time":   {},
		"ends soon":     {found: wire.SiteFound{Time: wire.CertificateTold}, soon: "its certificate quays is valid until 2026-12-24 12:00 UTC"},
		"out of date":   {found: wire.SiteFound{Time: wire.CertificateOver}, differ: "certificate quays", block: "it has been out of date since 2026-12-24 12:00 UTC"},
		"not yet":       {found: wire.SiteFound{Time: wire.CertificateEarly}, differ: "certificate quays", block: "it is not valid before 2026-09-24 12:00 UTC"},
		"a wrong clock": {found: wire.SiteFound{Time: wire.CertificateEarly}, skew: "-48h0m0s", differ: "certificate quays", block: "by the clock of quay1, which is off by 48h0m0s"},
		"not for it":    {wrong: []wire.Fault{{What: "it does not cover tides.saltmarsh.test"}}, differ: "certificate quays", block: "certificate quays: it does not cover tides.saltmarsh.test"},
		"not served":    {found: wire.SiteFound{Time: wire.CertificateOver}, off: true},
		"another is shown": {found: wire.SiteFound{Others: []wire.Other{{At: "10.0.0.1:443", Shown: strings.Repeat("9", 64)}}},
			differ: "certificate at 10.0.0.1:443", nudged: wire.TellReload},
		"another is kept": {found: wire.SiteFound{Others: []wire.Other{{At: "10.0.0.1:443", Shown: strings.Repeat("9", 64)}}}, once: true,
			differ: "certificate at 10.0.0.1:443", nudged: wire.TellRestart},
		"a chain cut off": {found: wire.SiteFound{Others: []wire.Other{{At: "10.0.0.1:443", Shown: strings.Repeat("1", 64), Behind: 1}}},
			differ: "certificate at 10.0.0.1:443", nudged: wire.TellReload},
	} {
		t.Run(name, func(t *testing.T) {
			w := wire.SiteWant{Service: "nginx", Program: "nginx", File: "/etc/nginx/a.conf", Text: "a", Off: c.off,
				Certificate: &wire.SiteCertificate{Name: "quays", Fingerprint: strings.Repeat("1", 64), Behind: []string{"2", "3"}, Since: until.AddDate(0, -3, 0), Until: until, Wrong: c.wrong, ReadOnce: c.once}}
			f := c.found
			f.File, f.Text, f.Loaded = wire.Entry{Kind: wire.EntryFile, Owners: wire.Administrators, Mode: "0644"}, "a", &loaded
			v := judgeSite(stake.Input{Stake: stake.Stake{Place: "quay1", Type: "site", Name: "a", Site: "a"}, Traits: wire.Traits{ClockSkew: c.skew}}, w, f)
			var blocks []string
			nudged := ""
			for _, n := range v.Nudges {
				nudged += n.How
			}
			for _, b := range v.Blockers {
				blocks = append(blocks, b.What)
			}
			if attributes(v) != c.differ || !strings.Contains(strings.Join(blocks, "; "), c.block) || (c.block == "") != (len(blocks) == 0) || !strings.Contains(v.Soon, c.soon) || (c.soon == "") != (v.Soon == "") || nudged != c.nudged || len(v.Moves) > 0 {
				t.Errorf("judged %+v", v)
			}
		})
	}
}
