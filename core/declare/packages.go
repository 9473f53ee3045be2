package declare

import (
	"fmt"
	"net/url"
	"regexp"
	"strconv"
)

var (
	packageVersion = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z.+:~^_-]{0,99}$`)
	suiteName      = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._/-]{0,99}$`)
)

// versions checks what is said of a package's version.
func (l *linter) versions(p *Package, at []string) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	for k, v := range map[string]string{"version": p.Version, "at_least": p.AtLeast} {
		switch {
		case v == "":
		case !packageVersion.MatchString(v):
			l.say(sub(k), fmt.Sprintf("%q is not a version", v), "write it as the package manager has it, such as \"1.22.1\"")
		case p.Is == "gone" || p.Is == "newest":
			l.say(sub(k), fmt.Sprintf("a package that is %s has no version that is wanted", p.Is), "keep one of is and "+k)
		}
	}
	if p.Version != "" && p.AtLeast != "" {
		l.say(sub("at_least"), "a package is wanted in exactly a version, or in at least one", "keep one of version and at_least")
	}
}

func (l *linter) source(name string, s *PackageSource, at []string) {
	sub := func(k ...string) []string { return append(append([]string{}, at...), k...) }
	if !plainName.MatchString(name) {
		l.say(at, fmt.Sprintf("source name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	u, err := url.Parse(s.URL)
	if s.URL != "" && (err != nil || u.User != nil || !contains([]string{"http", "https", "file"}, u.Scheme) || badText(s.URL) != "" || u.Scheme != "file" && u.Host == "") {
		fix := "write an http:, https: or file: URL"
		if err == nil && u.User != nil {
			fix = "leave the account out of it: what is declared can be read by many"
		}
		l.say(sub("url"), fmt.Sprintf("%q is not the URL of a source", s.URL), fix)
	}
	for key, list := range map[string][]string{"suites": s.Suites, "parts": s.Parts} {
		for i, v := range list {
			fix := "write it as the source's owner does"
			if v == "/" || v == "./" {
				fix = "leave suites out: the source is then a flat one, which is what this stands for"
			}
			if !suiteName.MatchString(v) {
				l.say(sub(key, strconv.Itoa(i)), fmt.Sprintf("%q cannot stand among the %s of a source", v, key), fix)
			}
		}
	}
	if len(s.Parts) > 0 && len(s.Suites) == 0 {
		l.say(sub("parts"), "parts belong to suites, and none is declared", "add suites = [\"…\"]")
	}
	if s.Family != "" && !plainName.MatchString(s.Family) {
		l.say(sub("family"), fmt.Sprintf("%q is not the name of a family of systems", s.Family), "northstake show HOST names the family of a host")
	}
	if s.Key != "" {
		l.besides(s.Key, sub("key"))
	}
}
