package render_test

import (
	"strings"
	"testing"

	"northstake/core/render"
)

func TestAVirtualHostOfHttpd(t *testing.T) {
	d := parse(t, strings.Replace(ground, `"nginx"`, `"httpd"`, 1))
	out, err := render.VirtualHost(d, render.Site{Name: "timetable", Root: "/srv/www/time table", IPv6: true, Listens: []int{80}})
	if err != nil {
		t.Fatal(err)
	}
	rendered(t, out, map[string]int{
		"<VirtualHost *:80 *:8080>": 12, "    Listen 8080": 12, "    ServerName timetable.saltmarsh.test": 11, "    ServerAlias *.ferries.test": 11,
		`    DocumentRoot "/srv/www/time table"`: 13, `        DirectoryIndex "index.html" "index.htm"`: 14, `    Alias "/freight" "/srv/www/freight"`: 16, `    <Location "/freight">`: 15, `    <Directory "/srv/www/freight">`: 16,
	})
	if strings.Contains(out.Text, "Listen 80\n") {
		t.Errorf("it listens a second time where the server's own configuration does:\n%s", out.Text)
	}
}
