package lint

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
	"northstake/core/stake/kinds"
)

func (l linter) ground(g declare.Ground) {
	if g.Name == "" {
		if !l.D.Named() {
			l.Problems = append(l.Problems, l.D.ProblemAt(l.D.First(), "no file says which ground this is", "add a [ground] table with name = \"…\""))
		}
	} else if !form.PlainName.MatchString(g.Name) {
		l.Say(keys("ground", "name"), fmt.Sprintf("ground name %q has characters it cannot have", g.Name), "use lower-case letters, digits and hyphens, at most 40")
	}
	l.givens(g.Givens, keys("ground"))
	l.moreHosts(g.More)
	l.otherNames(g.UnknownNames)
}

// otherNames checks what answers to names that no site has.
func (l linter) otherNames(says string) {
	at := keys("ground", "unknown_names")
	status, err := strconv.Atoi(says)
	scheme, host, url := strings.Cut(says, "://")
	switch {
	case says == "":
	case says == kinds.OthersNothing:
		for _, name := range sorted(l.D.Sites) {
			if s := l.D.Sites[name]; s.Server == "httpd" {
				at := l.D.At("site", name, "server")
				l.Say(keys("ground", "unknown_names"), fmt.Sprintf("httpd has no way to close a connection without an answer, and site %s is served by it", name), fmt.Sprintf("see %s:%d; write a status such as \"404\", or a URL", at.File, at.Line))
				return
			}
		}
	case err == nil && status >= 400 && status <= 599:
	case url && (scheme == "http" || scheme == "https") && host != "" && form.Bad(host) == "" && !strings.ContainsAny(host, " #%?"):
	default:
		l.Say(at, fmt.Sprintf("%q is nothing that can be answered", says), "write \"nothing\", the status of an error such as \"404\", or a URL")
	}
}

func (l linter) givens(givens map[string]string, at []string) {
	for _, name := range sorted(givens) {
		if !form.Given.MatchString(name) {
			l.SayKey(append(append([]string{}, at...), "givens", name), fmt.Sprintf("given %q has characters its name cannot have", name), "begin with a lower-case letter, and use lower-case letters, digits and underscores")
		}
	}
}

// moreHosts checks which program lists more hosts. What it printed is one of the
// sources by then.
func (l linter) moreHosts(m *declare.More) {
	if m == nil {
		return
	}
	at := keys("ground", "more_hosts", "program")
	switch {
	case m.Program == "":
		if !l.D.Lacks(at...) {
			l.Say(at, "no program is named", "write its path below the declaration's directory, such as \"bin/hosts\"")
		}
	case !form.Beside(m.Program):
		l.Say(at, fmt.Sprintf("%q does not lie beside the declaration", m.Program), "write a path below the declaration's directory")
	case slices.Contains([]string{".toml", ".json"}, path.Ext(m.Program)):
		l.Say(at, fmt.Sprintf("%q is a file, and a program is run", m.Program), "hosts in a file of their own are a .toml file of the declaration, with [host.NAME] tables; take more_hosts out")
	case !l.D.HasSource(declare.PrintedBy(m.Program)) && l.D.Beside() != nil:
		var names []string
		for _, f := range l.D.Beside().Files {
			names = append(names, f.Path)
		}
		l.Say(at, fmt.Sprintf("there is no program %q beside the declaration", m.Program), near.DidYouMean(m.Program, names))
	}
	if d, err := time.ParseDuration(m.ReuseFor); m.ReuseFor != "" && (err != nil || d < 0) {
		l.Say(keys("ground", "more_hosts", "reuse_for"), fmt.Sprintf("%q is not a length of time", m.ReuseFor), "write one such as \"10m\" or \"24h\"")
	}
}
