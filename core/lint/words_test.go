package lint

import (
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
)

// former is a declaration that has every former word, with what lies beside it.
func former(t *testing.T) (declare.Source, *declare.Manifest) {
	t.Helper()
	text, err := os.ReadFile("testdata/former.toml")
	if err != nil {
		t.Fatal(err)
	}
	m := manifest("content/timetable/index.html", "content/timetable/lost.html", "bin/hosts")
	key := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f host authority\n"
	m.Files = append(m.Files, declare.File{Path: "files/host-authority.pub", Size: 1, Text: &key})
	return declare.Source{Name: "old.toml", Text: string(text)}, m
}

// The keys that were in use before two releases ago stand alone: some exclude those above.
var older = map[string]string{
	"Ground.hosts_from":  "[ground]\nname = \"g\"\nhosts_from = \"bin/hosts\"\n",
	"Ground.hosts_cache": "[ground]\nname = \"g\"\nhosts_cache = \"10m\"\nhosts_from = \"bin/hosts\"\n",
}

// Lint names the new word for each former one, in its place and once, and nothing else is
// wrong; written anew, nothing is.
func TestFormerWords(t *testing.T) {
	s, m := former(t)
	printed := declare.Source{Name: declare.PrintedBy("bin/hosts")}
	d, problems := lint(t, []declare.Source{s, printed}, m)
	lines := strings.Split(s.Text, "\n")
	told := map[declare.Position]bool{}
	for _, p := range problems {
		if !strings.Contains(p.What, " now") || !strings.HasPrefix(p.Fix, "write ") {
			t.Errorf("%v: %s", p, p.Fix)
		}
		if told[p.Position] {
			t.Errorf("%s is told of twice", p.Error())
		}
		told[p.Position] = true
		word, _, _ := strings.Cut(p.What, " ")
		if at := []rune(lines[p.Line-1])[p.Column-1:]; !strings.Contains(p.What, " = ") && strings.Trim(string(at[:p.Width]), `"`) != word {
			t.Errorf("%s points at %q", p.Error(), string(at))
		}
	}
	now, words, more := declare.Rewrite([]declare.Source{s})
	if len(more) > 0 || len(words) != len(problems) {
		t.Fatalf("%d words are written anew, %d were told of: %v", len(words), len(problems), more)
	}
	seen := map[string]bool{}
	for _, w := range words {
		seen[w.Was] = true
	}
	for _, key := range declare.FormerKeys() {
		if text := older[key]; text != "" {
			again, words, more := declare.Rewrite([]declare.Source{{Name: "g.toml", Text: text}})
			if len(words) != strings.Count(text, "hosts_") || len(more) > 0 {
				t.Errorf("%s: %v, %v", key, words, more)
			}
			if program, _ := declare.MoreHosts(again); program != "bin/hosts" {
				t.Errorf("%s is written\n%s", key, again[0].Text)
			}
		} else if !seen[key] {
			t.Errorf("the test has no %s", key)
		}
	}
	want, err := os.ReadFile("testdata/former.now.toml")
	if err != nil || now[0].Text != string(want) {
		t.Errorf("%v; it is written\n%s", err, now[0].Text)
	}
	if got, want := comments(now[0].Text), comments(s.Text); !slices.Equal(got, want) {
		t.Errorf("of the comments %q there are %q", want, got)
	}
	after, problems := lint(t, append(now, printed), m)
	if len(problems) > 0 {
		t.Errorf("written anew it is not sound: %v", problems)
	}
	if again, words, _ := declare.Rewrite(now[:1]); len(words) > 0 || again[0].Text != now[0].Text {
		t.Errorf("it is written anew twice: %v", words)
	}

	// A declaration of that time says what it said then.
	kept, problems := ParseIn(1, []declare.Source{s, printed}, m)
	if len(problems) > 0 {
		t.Errorf("in its own words it is not sound: %v", problems)
	}
	for what, pair := range map[string][2]any{"ground": {kept.Ground, after.Ground}, "reach": {kept.Reach, after.Reach}, "kits": {kept.Kits, after.Kits}, "hosts": {kept.Hosts, after.Hosts}, "sites": {kept.Sites, after.Sites}} {
		if !reflect.DeepEqual(pair[0], pair[1]) {
			t.Errorf("%s:\n%+v\nare, written anew,\n%+v", what, pair[0], pair[1])
		}
	}
	if len(d.Sites) != len(kept.Sites) {
		t.Errorf("with former words %d sites are seen of %d", len(d.Sites), len(kept.Sites))
	}
}

func comments(text string) []string { return regexp.MustCompile(`#.*`).FindAllString(text, -1) }

// Where a key stands there in both words, nobody guesses which was meant.
func TestAKeyInBothWords(t *testing.T) {
	text := strings.Replace(sound, "server = ", "hidden = true\nserve_dot_files = false\nserver = ", 1)
	_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: text}}, manifest(standard...))
	if len(problems) != 1 || !strings.Contains(problems[0].Fix, "keep one of the two") {
		t.Errorf("%v", problems)
	}
	again, _, more := declare.Rewrite([]declare.Source{{Name: "g.toml", Text: text}})
	if len(more) != 1 || again[0].Text != text {
		t.Errorf("%v\n%s", more, again[0].Text)
	}
	if _, problems := ParseIn(1, []declare.Source{{Name: "g.toml", Text: text}}, manifest(standard...)); len(problems) != 1 {
		t.Errorf("in former words: %v", problems)
	}
}

// Whatever a file holds, writing it anew changes what it says in no way.
func FuzzRewrite(f *testing.F) {
	for _, file := range []string{"testdata/former.toml", "testdata/former.now.toml"} {
		text, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text))
	}
	f.Add("[site.a]\r\nhidden\t=\ttrue # é\r\nlog.errors='x'\r\n")
	f.Add("[[host.a.content]]\nexact = 1979-05-27\n")
	f.Fuzz(func(t *testing.T, text string) {
		s := []declare.Source{{Name: "g.toml", Text: text}}
		now, words, problems := declare.Rewrite(s)
		if len(problems) > 0 {
			return
		}
		if len(words) == 0 && now[0].Text != text {
			t.Fatalf("%q has no former word and is written %q", text, now[0].Text)
		}
		before, was := declare.ReadIn(1, s, &declare.Manifest{})
		after, is := declare.Read(now, &declare.Manifest{})
		if len(was) != len(is) || !reflect.DeepEqual(before.Sites, after.Sites) || !reflect.DeepEqual(before.Hosts, after.Hosts) || !reflect.DeepEqual(before.Ground, after.Ground) {
			t.Fatalf("%q is written %q: %v, and %v", text, now[0].Text, was, is)
		}
	})
}
