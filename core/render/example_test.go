package render_test

import (
	"fmt"
	"strings"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/render"
)

// A site is rendered for the server that it declares; each line of the text knows the
// place in the declaration that it comes from.
func ExampleVirtualHost() {
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: `[ground]
name = "saltmarsh"
[host.quay1]
via = "service-machine"
[site.timetable]
on     = ["quay1"]
server = "nginx"
names  = ["timetable.saltmarsh.test"]
`}}, &declare.Manifest{})
	if len(problems) > 0 {
		fmt.Println(problems)
		return
	}
	text, err := render.VirtualHost(d, render.Site{Name: "timetable", Root: "/srv/www/timetable"})
	if err != nil {
		fmt.Println(err)
		return
	}
	for i, line := range strings.Split(strings.TrimSpace(text.Text), "\n")[:5] {
		fmt.Printf("%d %s\n", text.Lines[i].Line, line)
	}
	// Output:
	// 5 # Site timetable of ground saltmarsh. North Stake writes this file.
	// 5 server {
	// 5     listen 80;
	// 8     server_name "timetable.saltmarsh.test";
	// 5     server_tokens off;
}
