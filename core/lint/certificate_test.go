package lint

import (
	"strings"
	"testing"
	"time"

	"northstake/core/certificate"
	"northstake/core/declare"
)

const secureGround = `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
[host.quay1]
address = "192.0.2.11"
[authority.office]
domains = ["saltmarsh.test"]
[certificate.web]
authority = "office"
[site.timetable]
on = ["quay1"]
server = "nginx"
names = ["timetable.saltmarsh.test", "*.isles.saltmarsh.test"]
redirected_names = ["www.saltmarsh.test"]
certificate = "web"
`

// What is wrong with a certificate, an authority or with how a site is served over HTTPS is said with its place
// and with what to do.
func TestMistakesInCertificates(t *testing.T) {
	now := time.Now()
	key, err := certificate.NewKey("")
	if err != nil {
		t.Fatal(err)
	}
	office, err := certificate.NewAuthority("Office", nil, key, now, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	issued := func(names ...string) string {
		c, err := office.Issue(names, key, now, time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		return c.PEM()
	}
	files := map[string]string{"good.pem": issued("timetable.saltmarsh.test", "*.isles.saltmarsh.test", "www.saltmarsh.test"), "other.pem": issued("freight.saltmarsh.test"), "none.pem": "nothing\n", "bundle.p12": "0"}
	manifest := &declare.Manifest{}
	for name, text := range files {
		manifest.Files = append(manifest.Files, declare.File{Path: name, Size: int64(len(text)), Text: &text})
	}
	handed := func(lines string) func(string) string {
		return func(s string) string { return strings.Replace(s, "authority = \"office\"\n", lines, 1) }
	}
	with := func(from, to string) func(string) string {
		return func(s string) string { return strings.Replace(s, from, to, 1) }
	}
	more := func(lines string) func(string) string { return func(s string) string { return s + lines } }
	for name, c := range map[string]struct {
		change func(string) string
		want   []string // "LINE what; fix"
	}{
		"in order":                    {more(""), nil},
		"a file":                      {handed("file = \"good.pem\"\nkey_secret = \"web-key\"\n"), nil},
		"signed by itself":            {handed("self_signed = true\nkey = \"rsa-2048\"\nvalid_for = \"398d\"\n"), nil},
		"no source":                   {handed(""), []string{"it is not said where the certificate comes from"}},
		"two sources":                 {handed("self_signed = true\nauthority = \"office\"\n"), []string{"a certificate comes from one place, and this has self_signed as well"}},
		"another authority":           {handed("authority = \"ofice\"\n"), []string{`there is no authority "ofice"`}},
		"no such file":                {handed("file = \"god.pem\"\nkey_secret = \"web-key\"\n"), []string{`there is no file "god.pem" beside the declaration`}},
		"a file without a key":        {handed("file = \"good.pem\"\n"), []string{"its private key is missing"}},
		"a file for others":           {handed("file = \"other.pem\"\nkey_secret = \"web-key\"\n"), []string{"does not cover timetable.saltmarsh.test: it is for freight.saltmarsh.test", "does not cover *.isles.saltmarsh.test", "does not cover www.saltmarsh.test"}},
		"a file of nothing":           {handed("file = \"none.pem\"\nkey_secret = \"web-key\"\n"), []string{"none.pem: it holds no certificate"}},
		"a key for what is made":      {handed("authority = \"office\"\nkey_secret = \"web-key\"\n"), []string{"key_secret is for a certificate with file, and this one has authority"}},
		"a life for what is handed":   {handed("file = \"good.pem\"\nkey_secret = \"web-key\"\nvalid_for = \"30d\"\n"), []string{"valid_for is for a certificate with self_signed or authority"}},
		"a password for a file":       {handed("file = \"good.pem\"\nkey_secret = \"web-key\"\npassword_secret = \"x\"\n"), []string{"password_secret is for a certificate with bundle"}},
		"too long":                    {handed("authority = \"office\"\nvalid_for = \"399d\"\n"), []string{"is not a length of time from 1 to 398 days"}},
		"no whole day":                {handed("authority = \"office\"\nvalid_for = \"36h\"\n"), []string{"is not a length of time from 1 to 398 days"}},
		"told too early":              {handed("authority = \"office\"\ntold_before = \"367d\"\n"), []string{"from 1 to 366 days"}},
		"outside of the domains":      {with("names = [\"timetable.saltmarsh.test\"", "names = [\"timetable.other.test\""), []string{"authority office does not sign for timetable.other.test: its domains are saltmarsh.test"}},
		"a domain that ends alike":    {with("www.saltmarsh.test", "www.notsaltmarsh.test"), []string{"authority office does not sign for www.notsaltmarsh.test"}},
		"no domains":                  {with("domains = [\"saltmarsh.test\"]", "domains = []"), []string{"would sign for everybody's names", "does not sign for", "does not sign for", "does not sign for"}},
		"a pattern of domains":        {with("domains = [\"saltmarsh.test\"]", "domains = [\"saltmarsh.test\", \"*.ferries.test\"]"), []string{`"*.ferries.test" is a pattern`}},
		"nobody uses it":              {with("certificate = \"web\"\n", ""), []string{"it is for no name: no site uses it, and it names none"}},
		"no such certificate":         {with("certificate = \"web\"\n", "certificate = \"wed\"\n"), []string{"it is for no name", `there is no certificate "wed"`}},
		"443 without a certificate":   {more("listen = [443]\n[site.fares]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"fares.saltmarsh.test\"]\nlisten = [443]\n"), []string{"at 443 browsers speak HTTPS, and the site speaks plain HTTP there"}},
		"HTTPS without a certificate": {with("certificate = \"web\"\n", "listen = [{ port = 8443, https = true }]\n"), []string{"it is for no name", "HTTPS needs a certificate, and the site has none"}},
		"HTTPS nowhere":               {more("listen = [80]\n"), []string{"the site has a certificate, and speaks HTTPS nowhere"}},
		"refused and listened for":    {more("listen = [443, 80]\nhttps = { plain_http = \"refused\" }\n"), []string{"plain HTTP is to be refused, and here it is listened for"}},
		"answered and remembered":     {more("https = { plain_http = \"answered\", remembered = \"365d\" }\n"), []string{"browsers would remember that the site is there over HTTPS alone"}},
		"remembered for ever":         {more("https = { remembered = \"732d\" }\n"), []string{"is not a length of time up to two years"}},
		"about HTTPS without it":      {with("certificate = \"web\"\n", "https = { http2 = false }\n"), []string{"it is for no name", "this is about HTTPS, and the site has no certificate"}},
		"nginx knows one version":     {more("[site.fares]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"fares.saltmarsh.test\"]\ncertificate = \"web\"\nhttps = { least_version = \"1.3\", http2 = false }\n"), []string{"http2 is otherwise for site fares", "least_version is otherwise for site fares, which listens at port 443 of host quay1 as well"}},
		"httpd knows more": {func(s string) string {
			return strings.Replace(s, "nginx", "httpd", 1) + "[site.fares]\non = [\"quay1\"]\nserver = \"httpd\"\nnames = [\"fares.saltmarsh.test\"]\ncertificate = \"web\"\nhttps = { least_version = \"1.3\" }\n"
		}, nil},
		"in a container":   {more("image = \"images.test/web:1\"\n"), []string{"its server runs in a container"}},
		"a former version": {more("https = { least_version = \"1.1\" }\n"), []string{`least_version cannot be "1.1"`}},
	} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: c.change(secureGround)}}, manifest)
		var got []string
		for _, p := range problems {
			got = append(got, p.What)
			if p.Line == 0 || p.Fix == "" {
				t.Errorf("%s: %q has no place, or no advice", name, p.What)
			}
		}
		if len(got) != len(c.want) {
			t.Errorf("%s: %q, want %q", name, got, c.want)
			continue
		}
		for i, want := range c.want {
			if !strings.Contains(strings.Join(got, "\n"), want) {
				t.Errorf("%s: %q lacks %q", name, got, c.want[i])
			}
		}
	}
}
