package wire

import (
	"strings"
	"testing"
)

var owns = []ServerWant{
	{Default: DefaultOff, Own: Own{Block: Block{File: "/f", Opens: ":80"}, Import: Import{File: "/f", Line: "import conf.d/*.conf"}}},
	{Default: DefaultOff, Own: Own{Block: Block{File: "/f", Opens: "server"}}},
	{Default: DefaultOff, Own: Own{Files: []Path{"/f"}}},
	{Default: DefaultOff, Own: Own{Listen: "/f"}, Silent: []int{80}},
	{Default: DefaultKept, Own: Own{Whole: "/f"}, Options: []Option{{"auto_https", []string{"auto_https disable_redirects"}}, {"servers", []string{"servers {", "\tprotocols h1 h2", "}"}}}},
}

const (
	caddyfile = "# a site\n\n:80 {\n\t# its root\n\troot * /usr/share/caddy\n\trespond \"}\" # {\n\n\tfile_server\n}\n\n:8080 {\n}\n"
	nginxConf = "events {\n}\nhttp {\n    include conf.d/*.conf;\n\n    server {\n        listen 80;\n        location / {\n        }\n    }\n    server_tokens off;\n}\n"
	portsConf = "# ports\nListen 80\nListen 8080\n<IfModule ssl_module>\n\tListen 443\n\tListen [::1]:80\n</IfModule>\n"
)

// What is switched off is exactly what the server brings of its own, and comes back as it was.
func TestWhatIsDismiss(t *testing.T) {
	for i, c := range []struct{ text, want string }{
		{caddyfile, "# a site\n\n#northstake# :80 {\n\t# its root\n#northstake# \troot * /usr/share/caddy\n#northstake# \trespond \"}\" # {\n\n#northstake# \tfile_server\n#northstake# }\n\n:8080 {\n}\nimport conf.d/*.conf\n"},
		{nginxConf, "events {\n}\nhttp {\n    include conf.d/*.conf;\n\n#northstake#     server {\n#northstake#         listen 80;\n#northstake#         location / {\n#northstake#         }\n#northstake#     }\n    server_tokens off;\n}\n"},
		{"<LocationMatch \"^/+$\">\n# x\n</LocationMatch>\n", "#northstake# <LocationMatch \"^/+$\">\n# x\n#northstake# </LocationMatch>\n"},
		{portsConf, "# ports\n#northstake# Listen 80\nListen 8080\n<IfModule ssl_module>\n\tListen 443\n#northstake# \tListen [::1]:80\n</IfModule>\n"},
	} {
		if got := owns[i].Edit("/f", c.text); got != c.want {
			t.Errorf("%d:\n%s\nwanted\n%s", i, got, c.want)
		}
		if got := owns[i].Edit("/other", c.text); got != c.text {
			t.Errorf("%d: another file becomes\n%s", i, got)
		}
		removed := owns[i]
		removed.Default = DefaultRemoved
		if got := removed.Edit("/f", c.want); strings.Contains(got, "#northstake#") || removed.Edit("/f", got) != got {
			t.Errorf("%d, removed:\n%s", i, got)
		}
	}
}

// What holds for all of a server stands in the block that its file begins with, beside what somebody has said
// there, which counts.
func TestOptionsStandInTheFirstBlock(t *testing.T) {
	w := owns[len(owns)-1]
	const servers = "\tservers { # northstake\n\t\tprotocols h1 h2 # northstake\n\t} # northstake\n"
	for text, want := range map[string]string{
		"":                                       "{ # northstake\n\tauto_https disable_redirects # northstake\n" + servers + "} # northstake\n",
		caddyfile:                                "{ # northstake\n\tauto_https disable_redirects # northstake\n" + servers + "} # northstake\n" + caddyfile,
		"# all\n{\n\tadmin off\n}\n:80 {\n}\n":   "# all\n{\n\tauto_https disable_redirects # northstake\n" + servers + "\tadmin off\n}\n:80 {\n}\n",
		"{\n\tauto_https off\n}\n":               "{\n" + servers + "\tauto_https off\n}\n",
		"{\n\tservers {\n\t\tauto_https\n\t}\n}": "{\n\tauto_https disable_redirects # northstake\n\tservers {\n\t\tauto_https\n\t}\n}",
		"(own) {\n}\n{\n}\n":                     "{ # northstake\n\tauto_https disable_redirects # northstake\n" + servers + "} # northstake\n(own) {\n}\n{\n}\n",
	} {
		if got := w.Edit("/f", text); got != want {
			t.Errorf("%q becomes\n%s\nwanted\n%s", text, got, want)
		}
		if back := w.Original("/f", w.Edit("/f", text)); back != text {
			t.Errorf("%q comes back as %q", text, back)
		}
		none := ServerWant{Default: DefaultKept, Own: Own{Block: Block{File: "/f", Opens: ":443"}}} // as it is wanted when no site needs them
		if back := none.Edit("/f", w.Edit("/f", text)); back != text {
			t.Errorf("%q, without options again, is %q", text, back)
		}
	}
}

// Whatever somebody has written into a server's configuration, setting aside is done once,
// marks nothing but whole lines, and can be taken back to the byte.
func FuzzDismiss(f *testing.F) {
	for i, text := range []string{caddyfile, nginxConf, portsConf, "", ":80 {", "server {\n}\r\n", "import conf.d/*.conf", "Listen 80", "#northstake# x\n", ":80 {\n`{`\n}"} {
		f.Add(i, text)
	}
	f.Fuzz(func(t *testing.T, which int, text string) {
		w := owns[(which%len(owns)+len(owns))%len(owns)]
		if strings.Contains(text, OffMark) || strings.Contains(text, ownMark) {
			return // of an edit that was made before
		}
		edited := w.Edit("/f", text)
		if again := w.Edit("/f", edited); again != edited {
			t.Fatalf("edited twice:\n%q\n%q", edited, again)
		}
		back := w.Original("/f", edited)
		if ends := strings.HasSuffix(text, "\n") || w.Import.File == ""; ends && back != text && !strings.Contains(text, w.Import.Line) {
			t.Fatalf("%q comes back as %q", text, back)
		}
	})
}
