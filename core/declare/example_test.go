package declare_test

import (
	"fmt"

	"northstake/core/declare"
)

// What a site does not say itself it takes from its kits, and every value knows where
// it was written.
func ExampleRead() {
	d, problems := declare.Read([]declare.Source{{Name: "sites.toml", Text: `[host.quay1]
address = "10.88.0.11"
labels  = ["web"]
[kit.plain.site]
server = "nginx"
names  = ["{{ .site.name }}.saltmarsh.test"]
[site.timetable]
on   = ["label:web"]
kits = ["plain"]
`}}, nil)
	if len(problems) > 0 {
		fmt.Println(problems)
		return
	}
	at := d.At("site", "timetable", "names")
	fmt.Println(d.HostsOf("timetable"), d.Sites["timetable"].Names, "from line", at.Line)
	// Output: [quay1] [timetable.saltmarsh.test] from line 6
}
