package lint

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/trade"
)

// No guess leads nowhere: its tables and its key are there, and its words are not keys of ours
// in the tables in which they are guessed.
func TestGuessesLeadSomewhere(t *testing.T) {
	tables := map[string][]string{"": {}}
	for _, k := range declare.Keys() {
		table := trade.TableOf(declare.WithoutChosen(strings.Trim(k.Table, "[]")))
		tables[table] = append(tables[table], k.Word)
	}
	seen, words := map[string]string{}, 0
	for _, g := range trade.Guesses {
		if g.Key == "" && g.Say == "" {
			t.Errorf("%v says nothing", g.Words)
		}
		if _, ok := declare.KeyCalled(g.Key); g.Key != "" && !ok {
			t.Errorf("%v leads to %s, which is no key", g.Words, g.Key)
		}
		for _, table := range g.In {
			if tables[table] == nil {
				t.Errorf("%v are guessed in %q, which is no table", g.Words, table)
			}
			for _, w := range g.Words {
				if slices.Contains(tables[table], w) {
					t.Errorf("%s is a key of %s", w, table)
				}
				at := table + " " + trade.Plain(w)
				if other, twice := seen[at]; twice {
					t.Errorf("%s in %q means %s, and %s", w, table, other, g.Key)
				}
				seen[at] = g.Key
				words++
			}
		}
	}
	if words < 150 {
		t.Errorf("there are %d guesses", words)
	}
	for _, v := range trade.Values {
		k, ok := declare.KeyCalled(v.Of)
		if !ok || v.Means != "" && !slices.Contains(k.Values, v.Means) || v.Means == "" && v.Say == "" {
			t.Errorf("%v of %s mean %q", v.Words, v.Of, v.Means)
		}
		for _, w := range v.Words {
			if slices.Contains(k.Values, w) {
				t.Errorf("%s can be %s", v.Of, w)
			}
		}
	}
}

// What people guess is answered with our word, where it stands.
func TestGuesses(t *testing.T) {
	const base = "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n"
	in := map[string]string{
		"top": "[%s.x]\n", "ground": "[ground]\nname = \"g\"\n%s = \"x\"\n", "reach": "[reach]\n%s = \"x\"\n", "host": "[host.a]\naddress = \"10.0.0.1\"\n%s = \"x\"\n", "kit": "[kit.a]\n%s = \"x\"\n",
		"container": "[host.a]\naddress = \"10.0.0.1\"\n[host.a.container.c]\nimage = \"r.test/c:1\"\n%s = \"x\"\n", "kit container": "[kit.a.container.c]\nimage = \"r.test/c:1\"\n%s = \"x\"\n",
		"site": "[site.s]\non = [\"a\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\n%s = \"x\"\n", "kit site": "[kit.a.site]\n%s = \"x\"\n",
		"path": "[site.s.path.\"/a\"]\n%s = \"x\"\n", "probe": "[[site.s.probe]]\npath = \"/\"\n%s = \"x\"\n", "content": "[site.s.content]\ndir = \"content\"\n%s = \"x\"\n", "file": "[kit.a.file.\"/etc/x\"]\ntext = \"\"\n%s = \"x\"\n",
		"package": "[kit.a.package.p]\n%s = \"x\"\n", "service": "[kit.a.service.s]\n%s = \"x\"\n", "mounts": "[kit.a.container.c.mounts.\"/srv\"]\n%s = \"x\"\n", "reached": "[[kit.a.container.c.reached_at]]\n%s = \"x\"\n",
	}
	for guess, want := range map[string]string{
		"top hosts": "write [host.NAME]", "top vhost": "write [site.NAME]", "top roles": "write [kit.NAME]", "top variables": "it is called givens, in [ground]", "top secrets": "northstake secret keep", "top project": "write [ground]",
		"ground description": "it is called about here", "ground prune": "it is called no_longer_declared here",
		"reach username": "it is called user here", "reach private_key": "it is called key_secret here", "reach sudo_pass": "it is called sudo_secret here", "reach ca": "it is called host_key_authorities here", "reach known_hosts": "northstake trust",
		"host hostname": "it is called address here", "host ip": "it is called address here", "host user": "it is called user, in [reach]", "host tags": "it is called labels here", "host firewall": "it is called inbound here", "host containers": "it is called container here", "host commands": "northstake act", "host crontab": "it is called file here",
		"kit environment": "it is called givens here", "kit repos": "it is called source here", "kit pkgs": "it is called packages here",
		"container volumes": "it is called mounts here", "container environment": "it is called variables here", "container ports": "it is called reached_at here", "container networks": "it is called network here", "container restart": "it is called restarts here", "container limits": "it is called at_most here", "container labels": "it is called engine_labels here", "container healthcheck": "it is called well_when here", "container user": "it is called runs_as here", "container entrypoint": "entry point stays", "container depends_on": "order is worked out", "container container_name": "table's own name", "kit container cpus": "it is called at_most here",
		"site aliases": "it is called names here", "site document_root": "it is called root here", "site documentRoot": "it is called root here", "site gzip": "it is called compress here", "site basic_auth": "it is called passwords here", "site proxy": "it is called passed_to, in [site.NAME.path.URL]", "site redirect": "it is called moved_to, in [site.NAME.path.URL]", "site ports": "it is called listen here", "site hosts": "it is called on here", "site server_name": "it is called names here", "site client_max_body_size": "it is called largest_body here", "site ssl": "it is called certificate here", "site autoindex": "it is called directory_listing here", "site rate-limit": "it is called raw here", "kit site healthcheck": "it is called probe here",
		"path alias": "it is called root here", "path proxy_pass": "it is called passed_to here", "path strip_prefix": "it is called passed_path here", "path load_balancing": "it is called passing here", "path deny": "it is called not_from here",
		"probe timeout": "it is called within here", "probe expected_status": "it is called status here", "probe interval": "after every run", "content exclude": "it is called left_alone here", "content branch": "it is called at here", "content delete": "it is called undeclared_files here", "file content": "it is called text here", "file notify": "it is called reload here", "file src": "it is called from here",
		"package state": "it is called is here", "service enabled": "it is called at_boot here", "service started": "it is called running here", "mounts source": "it is called from here", "reached host_port": "it is called outside here",
		// near spellings, where no trade word fits, and keys of other tables
		"site nmes": `did you mean "names"?`, "host listen": "listen is a key of [site.NAME]", "container imge": `did you mean "image"?`,
	} {
		i := strings.LastIndex(guess, " ")
		table, word := guess[:i], guess[i+1:]
		text := fmt.Sprintf(in[table], word)
		if !strings.HasPrefix(text, "[ground]") && table != "reach" {
			text = base + text
		}
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
		var said []string
		for _, p := range problems {
			if strings.Contains(p.What, fmt.Sprintf("no key %q", word)) {
				said = append(said, p.Fix)
			}
		}
		if len(said) != 1 || !strings.Contains(said[0], want) {
			t.Errorf("%s is answered with %q, not with %q: %v", guess, said, want, problems)
		}
	}
	for guess, want := range map[string]string{
		"[site.s]\nserver = \"apache\"\n": `write "httpd"`, "[kit.a.package.p]\nis = \"absent\"\n": `write "gone"`, "[kit.a.package.p]\nis = \"latest\"\n": `write "newest"`,
		"[kit.a]\ninbound = \"deny\"\n": `write "declared"`, "[kit.a.container.c]\nrestarts = \"unless-stopped\"\n": `write "always"`, "[host.a]\nvia = \"docker\"\n": `write "container"`,
		"[kit.a.site]\nserver = \"apache2\"\n": `write "httpd"`, "[kit.a.container.c]\nis = \"absent\"\n": "plan --clear", "[site.s]\nserver = \"ngnix\"\n": `did you mean "nginx"?`,
		"[host.a]\nport = 2222\n": "reach = { port = … }", "[kit.a]\nport = 2222\n": "reach = { port = … }",
	} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: base + guess}}, &declare.Manifest{})
		if !slices.ContainsFunc(problems, func(p declare.Problem) bool {
			return (strings.Contains(p.What, "cannot be") || strings.Contains(p.What, "should be")) && strings.Contains(p.Fix, want)
		}) {
			t.Errorf("%s is answered with %v, not with %s", guess, problems, want)
		}
	}
}
