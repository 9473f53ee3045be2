package lint

import (
	"fmt"
	"strings"
	"testing"

	"northstake/core/declare"
)

// A ground with 2,000 hosts and 500 sites.
func BenchmarkLint(b *testing.B) {
	var text strings.Builder
	text.WriteString("[ground]\nname = \"coast\"\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\n[kit.base]\npackages = [\"curl\"]\n")
	for i := range 2000 {
		fmt.Fprintf(&text, "[host.h%d]\naddress = \"10.%d.%d.%d\"\nkits = [\"base\"]\nlabels = [\"l%d\"]\n", i, i/62500, i/250%250, i%250+1, i%500)
	}
	for i := range 500 {
		fmt.Fprintf(&text, "[site.s%d]\non = [\"label:l%d\"]\nserver = \"nginx\"\nnames = [\"s%d.coast.test\"]\ncontent = { dir = \"content\" }\n", i, i, i)
	}
	m := &declare.Manifest{Files: []declare.File{{Path: "content/index.html", Size: 1}}}
	for b.Loop() {
		if _, problems := Parse([]declare.Source{{Name: "g.toml", Text: text.String()}}, m); len(problems) > 0 {
			b.Fatal(problems)
		}
	}
}
