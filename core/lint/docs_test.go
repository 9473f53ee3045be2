package lint

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"northstake/core/certificate"
	"northstake/core/declare"
	"northstake/core/stake/kinds"
)

// The pieces of the page about declarations make a declaration that is sound.
func TestTheDocumentedDeclarationIsSound(t *testing.T) {
	page, err := os.ReadFile("../../docs/declaration.md")
	if err != nil {
		t.Fatal(err)
	}
	var text strings.Builder
	inside := false
	for _, line := range strings.Split(string(page), "\n") {
		switch {
		case line == "```toml":
			inside = true
		case line == "```":
			inside = false
		case inside:
			text.WriteString(line)
		}
		text.WriteByte('\n') // so that lines count as on the page
	}
	motd := "{{ .host.name }} of {{ .ground }}: {{ .givens.office }}, {{ .hosts.quay1.address }}\n"
	authority := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f host authority\n"
	key, err := certificate.NewKey("")
	if err != nil {
		t.Fatal(err)
	}
	chain, err := certificate.SelfSigned([]string{"logbook.saltmarsh.test"}, key, time.Now(), time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	shown, bundle := chain.PEM(), "a bundle"
	m := &declare.Manifest{Files: []declare.File{
		{Path: "certificates/logbook.pem", Size: 1, Text: &shown}, {Path: "certificates/soundings.p12", Size: 1, Text: &bundle},
		{Path: "content/timetable/index.html", Size: 1}, {Path: "content/brochures/index.html", Size: 1}, {Path: "files/ferries.asc", Size: 1, Text: &motd}, {Path: "files/motd.tmpl", Size: int64(len(motd)), Text: &motd},
		{Path: "files/host-authority.pub", Size: 1, Text: &authority}, {Path: "files/tides.cron", Size: 1, Text: &motd},
		{Path: "files/freight.tar.gz", Size: 1}, {Path: "files/freight.tar.gz/freight-1.2/public/freight.html", Size: 1},
	}}
	d, problems := lint(t, []declare.Source{{Name: "docs/declaration.md", Text: text.String()}, {Name: declare.PrintedBy("bin/hosts"), Text: ""}}, m)
	for _, p := range problems {
		t.Error(p.Draw())
	}
	if len(problems) == 0 && (len(d.Hosts) != 4 || len(d.Sites) != 7 || len(declare.Nearest[kinds.TextFile](d, "quay1", "file")) != 4) {
		t.Errorf("it declares %d hosts, %d sites", len(d.Hosts), len(d.Sites))
	}
}

// Every piece of a declaration on the other pages is sound beside a small ground.
func TestThePiecesOnPagesAreSound(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	ground := map[string]string{"ground": "[ground]\nname = \"saltmarsh\"\n", "reach": "[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\n", "kit.base": "[kit.base]\n"}
	hosts := map[string]string{"quay1": "10.88.0.11", "quay2": "10.88.0.12", "pier1": "10.88.0.13", "web1": "10.88.0.14"}
	pieces := 0
	for _, file := range append(files, "../../README.md") {
		page, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if filepath.Base(file) == "declaration.md" {
			continue // whose pieces make one declaration: above
		}
		for i, part := range strings.Split(string(page), "\n```") {
			piece, is := strings.CutPrefix(part, "toml\n")
			if i%2 == 0 || !is {
				continue
			}
			pieces++
			var around strings.Builder
			for table, text := range ground {
				if !strings.Contains(piece, "["+table+"]") {
					around.WriteString(text)
				}
			}
			for host, address := range hosts {
				if !strings.Contains(piece, "[host."+host+"]") && !strings.Contains(piece, address) {
					around.WriteString("[host." + host + "]\naddress = \"" + address + "\"\nlabels = [\"web\", \"quay\"]\n")
				}
			}
			m := &declare.Manifest{}
			for _, dir := range regexp.MustCompile(`dir = "([^"]+)"`).FindAllStringSubmatch(piece, -1) {
				for _, name := range []string{"index.html", "lost.html", "freight.html", "start.html"} {
					m.Files = append(m.Files, declare.File{Path: dir[1] + "/" + name, Size: 1})
				}
			}
			_, problems := lint(t, []declare.Source{{Name: "around.toml", Text: around.String()}, {Name: filepath.Base(file), Text: piece}}, m)
			for _, p := range problems {
				t.Errorf("%s, piece %d: %s", filepath.Base(file), i, p.Draw())
			}
		}
	}
	if pieces < 4 {
		t.Errorf("the pages have %d pieces", pieces)
	}
}
