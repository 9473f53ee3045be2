package lint

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
	"northstake/core/render"
)

func (l linter) site(name string, s *declare.Site) {
	if !form.PlainName.MatchString(name) {
		l.Say(keys("site", name), fmt.Sprintf("site name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	l.givens(s.Givens, keys("site", name))
	if s.Server == "" && l.D.Lacks("site", name, "server") {
		l.Say(keys("site", name), fmt.Sprintf("[site.%s] has no server", name), "add server = \""+strings.Join(render.Servers(), "\" or \"")+"\", or a kit that says it")
	}
	if len(s.Names) == 0 && l.D.Lacks("site", name, "names") {
		l.Say(keys("site", name), fmt.Sprintf("[site.%s] has no names", name), "add names = […] (the host names that browsers will ask for), or a kit that says them")
	}
	for i, on := range s.On {
		if hosts, err := l.D.Match(on); err != nil || len(hosts) == 0 {
			l.Say(keys("site", name, "on", strconv.Itoa(i)), fmt.Sprintf("no host is called %q", on), near.DidYouMean(on, l.hostWords(on)))
		}
	}
	if l.Written(keys("site", name, "on")...) && len(s.On) == 0 {
		l.Say(keys("site", name, "on"), "a site on no host is served nowhere", "name at least one host")
	}
	if l.Written(keys("site", name, "names")...) && len(s.Names) == 0 {
		l.Say(keys("site", name, "names"), "a site needs at least one name", "add the host name that browsers will ask for")
	}
	for i, n := range s.Names {
		at := keys("site", name, "names", strconv.Itoa(i))
		switch {
		case strings.Contains(n, "://"):
			l.Say(at, fmt.Sprintf("%q is a URL, not a host name", n), fmt.Sprintf("write %q", strings.Split(strings.SplitN(n, "://", 2)[1]+"/", "/")[0]))
		case strings.ToLower(n) != n && form.DNSName.MatchString(strings.ToLower(n)):
			l.Say(at, fmt.Sprintf("%q has capital letters", n), fmt.Sprintf("write %q", strings.ToLower(n)))
		case !form.DNSName.MatchString(n) || len(n) > 253:
			l.Say(at, fmt.Sprintf("%q is not a host name", n), "use letters, digits, hyphens and dots; *. in front for all below")
		}
	}
	seen := map[int]bool{}
	for i, p := range s.Listen {
		at := keys("site", name, "listen", strconv.Itoa(i))
		if p < 1 || p > 65535 {
			l.Say(at, fmt.Sprintf("port %d does not exist", p), "use a number from 1 to 65535")
		} else if seen[p] {
			l.Say(at, fmt.Sprintf("port %d is listed twice", p), "keep one of the two")
		}
		seen[p] = true
	}
	if s.Root != "" {
		l.Root(s.Root, keys("site", name, "root"))
	}
	l.index(s.Index, keys("site", name, "index"))
	render.Check(l.Checker, name, s)
	if s.Content != nil {
		l.Content(s.Content, keys("site", name, "content"), s.Index, keys("site", name, "index"))
	}
	for i, p := range s.Probes {
		l.probe(p, keys("site", name, "probe", strconv.Itoa(i)))
	}
	for _, u := range sorted(s.Paths) {
		at := keys("site", name, "path", u)
		if fix := form.URLPath(u); fix != "" || u == "/" {
			if u == "/" {
				fix = "the site's own root serves /"
			}
			l.Say(at, fmt.Sprintf("%q cannot be a path of a site", u), fix)
		} else if q := strings.IndexByte(u, '?'); q >= 0 {
			l.Say(at, fmt.Sprintf("%q has a query, by which no path is told", u), fmt.Sprintf("write %q; it serves whatever is asked for there", u[:q]))
		} else if strings.HasSuffix(u, "/") {
			l.Say(at, fmt.Sprintf("path %q ends in a slash", u), fmt.Sprintf("write %q; it serves what is below it as well", strings.TrimRight(u, "/")))
		}
		p := s.Paths[u]
		if p.Root != "" {
			l.Root(p.Root, append(at, "root"))
		}
		l.index(p.Index, append(append([]string{}, at...), "index"))
		if p.Content != nil {
			l.ContentAt(u+"/", p.Content, append(append([]string{}, at...), "content"), p.Index, append(append([]string{}, at...), "index"))
		}
	}
}

// hostWords are what a word of a site's "on" could have meant: labels where it is
// one, names elsewhere.
func (l linter) hostWords(word string) []string {
	if !strings.HasPrefix(word, "label:") {
		return sorted(l.D.Hosts)
	}
	labels := map[string]bool{}
	for _, h := range l.D.Hosts {
		for _, label := range h.Labels {
			labels["label:"+label] = true
		}
	}
	return sorted(labels)
}

func (l linter) probe(p declare.Probe, at []string) {
	if p.Path != "" {
		if fix := form.URLPath(p.Path); fix != "" {
			l.Say(append(append([]string{}, at...), "path"), fmt.Sprintf("%q is not a URL path", p.Path), fix)
		}
	}
	if p.Status != 0 && (p.Status < 100 || p.Status > 599) {
		l.Say(append(append([]string{}, at...), "status"), fmt.Sprintf("%d is not an HTTP status", p.Status), "use a number from 100 to 599, such as 200")
	}
}

func (l linter) index(index []string, at []string) {
	for i, f := range index {
		if slices.Contains(index[:i], f) {
			l.Say(append(append([]string{}, at...), strconv.Itoa(i)), fmt.Sprintf("%q is named twice", f), "keep one of the two")
		}
		if f == "" || strings.Contains(f, "/") || form.Bad(f) != "" || f == "." || f == ".." || len(f) > 200 || strings.ContainsAny(f, " #") {
			l.Say(append(append([]string{}, at...), strconv.Itoa(i)), fmt.Sprintf("%q is not a plain file name", f), "write a name such as \"index.html\"")
		}
	}
}
