package lint

import (
	"os"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/stake"
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
	m := &declare.Manifest{Files: []declare.File{
		{Path: "content/timetable/index.html", Size: 1}, {Path: "content/brochures/index.html", Size: 1}, {Path: "files/ferries.asc", Size: 1, Text: &motd}, {Path: "files/motd.tmpl", Size: int64(len(motd)), Text: &motd},
		{Path: "files/host-authority.pub", Size: 1, Text: &authority}, {Path: "files/tides.cron", Size: 1, Text: &motd},
		{Path: "files/freight.tar.gz", Size: 1}, {Path: "files/freight.tar.gz/freight-1.2/public/freight.html", Size: 1},
	}}
	d, problems := Parse([]declare.Source{{Name: "docs/declaration.md", Text: text.String()}, {Name: declare.PrintedBy("bin/hosts"), Text: ""}}, m)
	for _, p := range problems {
		t.Error(p.Draw())
	}
	if len(problems) == 0 && (len(d.Hosts) != 4 || len(d.Sites) != 7 || len(declare.Nearest[stake.TextFile](d, "quay1", "file")) != 3) {
		t.Errorf("it declares %d hosts, %d sites", len(d.Hosts), len(d.Sites))
	}
}
