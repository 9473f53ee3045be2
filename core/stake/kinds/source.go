package kinds

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// PackageSource is an extra source of packages with the key that it is signed with.
type PackageSource struct {
	URL    string   `toml:"url" json:"url" required:"true" example:"\"https://packages.saltmarsh.test/debian\""`
	Key    string   `toml:"key" json:"key" required:"true" example:"\"files/ferries.asc\""`
	Suites []string `toml:"suites" json:"suites,omitempty" default:"none: a flat source" example:"[\"bookworm\"]"`
	Parts  []string `toml:"parts" json:"parts,omitempty" example:"[\"main\"]"`
	Family string   `toml:"family" json:"family,omitempty" default:"all get it" example:"\"debian\""`

	SignedLists bool `toml:"signed_lists" json:"signed_lists,omitempty" default:"false" example:"true"`
}

var _ = declare.Explain[PackageSource](map[string]string{
	"url":          "Where the source is: of the Debian family what stands before the suites, of the Red Hat family where its repodata is.",
	"key":          "File beside the declaration with the public key that the source is signed with.",
	"suites":       "Suites of a source of the Debian family.",
	"parts":        "Components of those suites.",
	"family":       "The only family of systems whose hosts get it.",
	"signed_lists": "Whether, on the Red Hat family, the lists are signed too, and not the packages alone.",
})

// TextFiles is the file with the key.
func (s *PackageSource) TextFiles() []string { return []string{s.Key} }

var _ = stake.Register(stake.Kind{
	Type:      "source",
	Rehearsal: `source.ferries = { url = "{url}", key = "files/ferries.asc" }`,
	Settings:  []declare.Setting{declare.Table[PackageSource]("source", "NAME", "Extra sources of packages, by a name of your own.", `{ ferries = { url = "https://packages.saltmarsh.test/debian", key = "files/ferries.asc" } }`)},
	Check:     checkSources,
	Wanted: func(w *stake.Wanting) error {
		all := map[string]declare.For[*PackageSource]{} // that are for the host's family, the nearest of each name
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			for name, source := range declare.Get[map[string]*PackageSource](s, "source") {
				if source.Family == "" || source.Family == w.Traits.Family {
					all[name] = declare.For[*PackageSource]{Name: name, Value: source, From: at("source", name)}
				}
			}
		})
		for _, name := range stake.SortedKeys(all) {
			s := all[name]
			key, err := w.D.TextBeside(s.Value.Key)
			if err != nil {
				return fmt.Errorf("%s:%d: source %s: %w", s.From.File, s.From.Line, name, err)
			}
			w.Want(stake.Stake{Type: "source", Name: name, From: s.From,
				Want: wire.JSON(wire.SourceWant{Name: name, URL: s.Value.URL, Suites: s.Value.Suites, Parts: s.Value.Parts, Key: []byte(key), SignedLists: s.Value.SignedLists})})
		}
		return nil
	},
	Claims: stake.Claiming(func(w wire.SourceWant) []claim.Claim {
		return []claim.Claim{{Need: claim.Owns, Sort: claim.Source, What: strings.TrimSuffix(w.URL, "/") + strings.Join(append([]string{""}, w.Suites...), " ")}}
	}),
})

func checkSources(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*PackageSource](s, "source")
	for _, name := range stake.SortedKeys(list) {
		checkSource(c, name, list[name], check.At(at, "source", name))
	}
}

func checkSource(c *check.Checker, name string, s *PackageSource, at []string) {
	if !form.PlainName.MatchString(name) {
		c.Say(at, fmt.Sprintf("source name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	u, err := url.Parse(s.URL)
	if s.URL != "" && (err != nil || u.User != nil || !slices.Contains([]string{"http", "https", "file"}, u.Scheme) || form.Bad(s.URL) != "" || u.Scheme != "file" && u.Host == "") {
		fix := "write an http:, https: or file: URL"
		if err == nil && u.User != nil {
			fix = "leave the account out of it: what is declared can be read by many"
		}
		c.Say(check.At(at, "url"), fmt.Sprintf("%q is not the URL of a source", s.URL), fix)
	}
	for key, list := range map[string][]string{"suites": s.Suites, "parts": s.Parts} {
		for i, v := range list {
			fix := "write it as the source's owner does"
			if v == "/" || v == "./" {
				fix = "leave suites out: the source is then a flat one, which is what this stands for"
			}
			if !form.Suite.MatchString(v) {
				c.Say(check.At(at, key, strconv.Itoa(i)), fmt.Sprintf("%q cannot stand among the %s of a source", v, key), fix)
			}
		}
	}
	if len(s.Parts) > 0 && len(s.Suites) == 0 {
		c.Say(check.At(at, "parts"), "parts belong to suites, and none is declared", "add suites = [\"…\"]")
	}
	if s.Family != "" && !form.PlainName.MatchString(s.Family) {
		c.Say(check.At(at, "family"), fmt.Sprintf("%q is not the name of a family of systems", s.Family), "northstake show HOST names the family of a host")
	}
	if s.Key != "" {
		c.Beside(s.Key, check.At(at, "key"))
	}
}
