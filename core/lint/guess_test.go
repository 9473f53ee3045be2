package lint

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/near"
)

// No guess leads nowhere: its tables and its key are there, and its words are not keys of ours
// in the tables in which they are guessed.
func TestGuessesLeadSomewhere(t *testing.T) {
	tables := map[string][]string{"": {}}
	for _, k := range declare.Keys() {
		table := near.TableOf(declare.WithoutChosen(strings.Trim(k.Table, "[]")))
		tables[table] = append(tables[table], k.Word)
	}
	seen, words := map[string]string{}, 0
	for _, g := range near.Guesses {
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
				at := table + " " + near.Plain(w)
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
	for _, v := range near.Values {
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
		"top hosts": "write [host.NAME]", "top vhost": "write [site.NAME]", "top roles": "write [kit.NAME]", "top variables": "in [ground]: givens", "top secrets": "northstake secret keep", "top project": "write [ground]",
		"ground description": "write about =", "ground prune": "write no_longer_declared =",
		"reach username": "write user =", "reach private_key": "write key_secret =", "reach sudo_pass": "write sudo_secret =", "reach ca": "write host_key_authorities =", "reach known_hosts": "northstake trust",
		"host hostname": "write address =", "host ip": "write address =", "host user": "in [reach]: user =", "host tags": "write labels =", "host firewall": "write inbound =", "host containers": "write container =", "host commands": "northstake act", "host crontab": "write file =",
		"kit environment": "write givens =", "kit repos": "write source =", "kit pkgs": "write packages =",
		"container volumes": "write mounts =", "container environment": "write variables =", "container ports": "write reached_at =", "container networks": "write network =", "container restart": "write restarts =", "container limits": "write at_most =", "container labels": "write engine_labels =", "container healthcheck": "write well_when =", "container user": "write runs_as =", "container entrypoint": "entry point stays", "container depends_on": "order is worked out", "container container_name": "table's own name", "kit container cpus": "write at_most =",
		"site aliases": "write names =", "site document_root": "write root =", "site documentRoot": "write root =", "site gzip": "write compress =", "site basic_auth": "write passwords =", "site proxy": "in [site.NAME.path.URL]: passed_to =", "site redirect": "in [site.NAME.path.URL]: moved_to =", "site ports": "write listen =", "site hosts": "write on =", "site server_name": "write names =", "site client_max_body_size": "write largest_body =", "site ssl": "plain HTTP so far", "site autoindex": "write directory_listing =", "site rate-limit": "write raw =", "kit site healthcheck": "write probe =",
		"path alias": "write root =", "path proxy_pass": "write passed_to =", "path strip_prefix": "write passed_path =", "path load_balancing": "write passing =", "path deny": "write not_from =",
		"probe timeout": "write within =", "probe expected_status": "write status =", "probe interval": "after every run", "content exclude": "write left_alone =", "content branch": "write at =", "content delete": "write undeclared_files =", "file content": "write text =", "file notify": "write reload =", "file src": "write from =",
		"package state": "write is =", "service enabled": "write at_boot =", "service started": "write running =", "mounts source": "write from =", "reached host_port": "write outside =",
		// near spellings, where no trade word fits, and keys of other tables
		"site nmes": `did you mean "names"?`, "host listen": "listen is a key of [site.NAME]", "container imge": `did you mean "image"?`,
	} {
		i := strings.LastIndex(guess, " ")
		table, word := guess[:i], guess[i+1:]
		text := fmt.Sprintf(in[table], word)
		if !strings.HasPrefix(text, "[ground]") && table != "reach" {
			text = base + text
		}
		_, problems := Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
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
	} {
		_, problems := Parse([]declare.Source{{Name: "g.toml", Text: base + guess}}, &declare.Manifest{})
		if !slices.ContainsFunc(problems, func(p declare.Problem) bool {
			return strings.Contains(p.What, "cannot be") && strings.Contains(p.Fix, want)
		}) {
			t.Errorf("%s is answered with %v, not with %s", guess, problems, want)
		}
	}
}
