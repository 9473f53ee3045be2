package jobs

import (
	"errors"
	"testing"

	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/store"
)

// Of what can be asked for each thing is called by its name, and what does not go together is refused, with
// what to do.
func TestWhatIsAskedForHasAPurpose(t *testing.T) {
	restart := wire.ActWant{Do: "restart", Service: "nginx"}
	file := contract.OneOff{Text: "[host.quay1.file.\"/etc/tide\"]\ntext = \"ebb\"\n"}
	for _, c := range []struct {
		ask            contract.Ask
		title          string
		plan, surveyed bool // whether it can be planned, and surveyed
	}{
		{contract.Ask{}, "", true, true},
		{contract.Ask{Hosts: []string{"quay1"}}, "", true, true},
		{contract.Ask{Clear: true}, "", true, false},
		{contract.Ask{Only: "shifted"}, "shifted", true, false},
		{contract.Ask{Only: "due"}, "due", false, false},
		{contract.Ask{Only: "shifted", Clear: true}, "shifted", false, false},
		{contract.Ask{Act: restart}, "restart nginx", true, false},
		{contract.Ask{Act: wire.ActWant{Do: "restart"}}, "restart", false, false},
		{contract.Ask{Act: wire.ActWant{Do: "restart", Service: "../nginx"}}, "restart ../nginx", false, false},
		{contract.Ask{Act: wire.ActWant{Do: "upgrade"}}, "upgrade", true, false},
		{contract.Ask{Act: wire.ActWant{Do: "upgrade", Service: "nginx"}}, "upgrade nginx", false, false},
		{contract.Ask{Act: wire.ActWant{Do: "upgrade", Leave: []string{"nginx"}}}, "upgrade", false, false},
		{contract.Ask{Act: wire.ActWant{Do: wire.MakeImage, Image: "quay/berth:1"}}, "keep as quay/berth:1", true, false},
		{contract.Ask{Act: wire.ActWant{Do: wire.MakeImage, Image: "quay/berth@sha256:1"}}, "keep as quay/berth@sha256:1", false, false},
		{contract.Ask{Act: wire.ActWant{Do: wire.MakeImage, Image: "quay/berth:1", Container: "berth"}}, "keep as quay/berth:1", false, false},
		{contract.Ask{Act: wire.ActWant{Do: "sink"}}, "sink", false, false},
		{contract.Ask{Act: restart, OneOff: file}, "restart nginx", false, false},
		{contract.Ask{Act: restart, Clear: true}, "restart nginx", false, false},
		{contract.Ask{OneOff: file}, "one-off", true, false},
		{contract.Ask{OneOff: file, Only: "shifted"}, "one-off", false, false},
		{contract.Ask{Retire: contract.All}, "retire all", true, false},
		{contract.Ask{Renew: []string{"quays"}}, "renewal", true, false},
		{contract.Ask{Renew: []string{"quays"}, Clear: true}, "renewal", false, false},
		{contract.Ask{Renew: []string{"quays"}, Act: restart}, "renewal", false, false},
		{contract.Ask{Renew: []string{"quays"}, Retire: "tides"}, "renewal", false, false},
		{contract.Ask{Renew: []string{"quays"}, OneOff: file}, "renewal", false, false},
		{contract.Ask{Retire: "site:tides"}, "retire site:tides", true, false},
		{contract.Ask{Retire: "tides", Clear: true}, "retire tides", false, false},
		{contract.Ask{Retire: "tides", Act: restart}, "retire tides", false, false},
	} {
		p := purposeOf(c.ask)
		if p.title() != c.title {
			t.Errorf("%+v is called %q", c.ask, p.title())
		}
		for table, want := range map[store.Table]bool{store.Plans: c.plan, store.Surveys: c.surveyed} {
			err := p.check(table)
			var refused NotReady
			if (err == nil) != want || err != nil && (!errors.As(err, &refused) || refused.What == "" || refused.Fix == "") {
				t.Errorf("%+v as one of %s: %v", c.ask, table, err)
			}
		}
	}
}
