package render_test

import (
	"fmt"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
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
		`    DocumentRoot "/srv/www/time table"`: 13, `        DirectoryIndex "index.html" "index.htm"`: 14, `    Alias "/freight" "/srv/www/freight"`: 15, `    <Directory "/srv/www/freight">`: 16,
	})
	if strings.Contains(out.Text, "Listen 80\n") {
		t.Errorf("it listens a second time where the server's own configuration does:\n%s", out.Text)
	}
}

// Whatever lint lets through, the rendered text has the shape of one virtual
// host: no declared value can break out of its place.
func FuzzHttpd(f *testing.F) {
	f.Add("timetable.saltmarsh.test", "/srv/www/x", "index.html", "/freight", 80)
	f.Add(`a"> </VirtualHost>`, `/srv/"; }`, "$x", "/a b", 99999)
	directives := map[string]bool{"Define": true, "Listen": true, "ServerName": true, "ServerAlias": true, "DocumentRoot": true, "Options": true,
		"AllowOverride": true, "Require": true, "DirectoryIndex": true, "Alias": true, "ErrorDocument": true, "CustomLog": true}
	f.Fuzz(func(t *testing.T, name, root, index, path string, port int) {
		text := fmt.Sprintf("[ground]\nname=\"g\"\n[reach]\nuser=\"k\"\nkey=\"k\"\n[host.a]\naddress=\"10.0.0.1\"\n[site.s]\non=[\"a\"]\nserver=\"httpd\"\nnames=[%s]\nlisten=[%d]\nroot=%s\nindex=[%s]\n[site.s.path.%s]\nroot=%s\n",
			toml(name), port, toml(root), toml(index), toml(path), toml(root))
		d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
		if len(problems) > 0 {
			return
		}
		out, err := render.VirtualHost(d, render.Site{Name: "s", Root: root})
		if err != nil {
			t.Fatalf("lint lets %q through, and it cannot be rendered: %v", text, err)
		}
		var open []string
		for i, line := range strings.Split(strings.TrimSuffix(out.Text, "\n"), "\n") {
			bare := strings.TrimSpace(stripQuoted(line))
			switch {
			case i == 0:
				continue // the comment on top
			case strings.HasPrefix(line, "# By this the server says"):
			case strings.HasSuffix(bare, "\\"):
				t.Fatalf("%q goes on in the next line", line)
			case strings.HasPrefix(bare, "</"):
				if len(open) == 0 || bare != "</"+open[len(open)-1]+">" {
					t.Fatalf("%q closes %v:\n%s", line, open, out.Text)
				}
				open = open[:len(open)-1]
			case strings.HasPrefix(bare, "<"):
				open = append(open, strings.Fields(bare[1:])[0])
				if !strings.HasSuffix(bare, ">") || len(open) > 2 {
					t.Fatalf("%q is out of place:\n%s", line, out.Text)
				}
			case !directives[strings.Fields(bare)[0]]:
				t.Fatalf("%q is no directive of ours", line)
			}
		}
		if len(open) > 0 {
			t.Fatalf("%v is left open:\n%s", open, out.Text)
		}
	})
}
