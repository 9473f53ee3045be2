package lint_test

import (
	"fmt"

	"northstake/core/declare"
	"northstake/core/lint"
)

// A declaration is parsed from the texts of its files and a list of what lies beside
// them. Every mistake knows its place, and draws it.
func ExampleParse() {
	_, problems := lint.Parse([]declare.Source{{Name: "ground.toml", Text: `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
kye_secret = "keeper"
[host.quay1]
address = "10.88.0.11"
`}}, &declare.Manifest{})
	for _, p := range problems {
		fmt.Print(p.Draw())
	}
	// Output:
	// ground.toml:5:1: there is no key "kye_secret" in [reach]
	//     5  kye_secret = "keeper"
	//        ~~~~~~~~~~
	//        did you mean "key_secret"?
}
