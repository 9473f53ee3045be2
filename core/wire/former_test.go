package wire

import (
	"encoding/json"
	"slices"
	"testing"
)

// Steps of releases before did not say at which paths they also are: what a stuck one holds up is told all
// the same, from its work.
func TestWhereStepsOfBeforeAlsoAre(t *testing.T) {
	for record, want := range map[string][]Path{
		`{"number":1,"name":"quay1/service/tides","type":"service","subject":"tides","work":{"drop_ins":{"/etc/systemd/system/tides.service.d/x.conf":"x"}}}`: {"/etc/systemd/system/tides.service.d/x.conf"},
		`{"number":1,"name":"quay1/site/a","type":"site","subject":"a","work":{"file":"/etc/nginx/a","link":"/etc/nginx/b"}}`:                                 {"/etc/nginx/a", "/etc/nginx/b"},
		`{"number":1,"name":"quay1/site/a","type":"site","subject":"a","work":{"works":[{"file":"/etc/nginx/a"},{"file":"/etc/nginx/c"}]}}`:                   {"/etc/nginx/a", "/etc/nginx/c"},
		`{"number":1,"name":"quay1/file/etc/motd","type":"file","subject":"/etc/motd","work":{}}`:                                                             {"/etc/motd"},
		`{"number":1,"name":"quay1/service/tides","type":"service","subject":"tides","also_at":["/now"],"work":{}}`:                                           {"/now"},
	} {
		var s Step
		if err := json.Unmarshal([]byte(record), &s); err != nil || !slices.Equal(s.Paths(), want) {
			t.Errorf("%s is at %v, %v", record, s.Paths(), err)
		}
	}
}
