package docs

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/service/api"
)

// pages are the README and what it leads to, by their paths from here.
func pages(t *testing.T) map[string]string {
	t.Helper()
	files, err := filepath.Glob("*.md")
	if err != nil || len(files) < 10 {
		t.Fatalf("%d pages, %v", len(files), err)
	}
	out := map[string]string{}
	for _, f := range append(files, "../README.md", "../CONTRIBUTING.md", "../SECURITY.md", "../CHANGELOG.md") {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		out[f] = string(text)
	}
	return out
}

// whole is a path as the same file has it wherever it is named.
func whole(path string) string {
	abs, err := filepath.Abs(path)
	if err != nil {
		panic(err) // the directory of the test is gone
	}
	return abs
}

// anchor is how a heading is linked to.
func anchor(heading string) string {
	heading = strings.ToLower(strings.Trim(heading, "# "))
	heading = regexp.MustCompile(`[^a-z0-9 _-]`).ReplaceAllString(heading, "")
	return strings.ReplaceAll(heading, " ", "-")
}

// Every link of a page leads to a file that is there, and to a heading of it.
func TestEveryLinkLeadsSomewhere(t *testing.T) {
	all := pages(t)
	anchors := map[string][]string{}
	for f, text := range all {
		for _, l := range strings.Split(text, "\n") {
			if strings.HasPrefix(l, "#") {
				anchors[whole(f)] = append(anchors[whole(f)], anchor(l))
			}
		}
	}
	links, linked := 0, map[string]bool{}
	for f, text := range all {
		for _, m := range regexp.MustCompile(`\]\(([^)]+)\)`).FindAllStringSubmatch(strings.ReplaceAll(text, "\n", " "), -1) {
			to, at, _ := strings.Cut(m[1], "#")
			if strings.Contains(to, "://") {
				continue
			}
			links++
			path := whole(f)
			if to != "" {
				path = whole(filepath.Join(filepath.Dir(f), to))
			}
			linked[path] = true
			if _, err := os.Stat(path); err != nil {
				t.Errorf("%s leads to %s: %v", f, m[1], err)
			} else if at != "" && !slices.Contains(anchors[path], at) {
				t.Errorf("%s leads to %s, and there is no such heading among %q", f, m[1], anchors[path])
			}
		}
	}
	if links < 40 {
		t.Errorf("the pages have %d links", links)
	}
	for f := range all {
		if f != "../README.md" && !linked[whole(f)] {
			t.Errorf("no page leads to %s", f)
		}
	}
}

// Pages speak of keys as they are called today.
func TestPagesKnowNoFormerKeys(t *testing.T) {
	today, former := map[string]bool{}, map[string]bool{}
	for _, k := range declare.Keys() {
		today[k.Name[strings.LastIndex(k.Name, ".")+1:]] = true
	}
	for _, k := range declare.FormerKeys() {
		_, name, _ := strings.Cut(k, ".")
		former[name] = !today[name]
	}
	quoted := regexp.MustCompile("`([a-z_]+)(?: = [^`]*)?`")
	for page, text := range pages(t) {
		for _, m := range quoted.FindAllStringSubmatch(text, -1) {
			if former[m[1]] {
				t.Errorf("%s speaks of %s", page, m[1])
			}
		}
	}
}

// said are the texts of the program's own files.
func said(t *testing.T, dirs ...string) string {
	t.Helper()
	var b strings.Builder
	for _, dir := range dirs {
		err := filepath.WalkDir(filepath.Join("..", dir), func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			b.Write(text)
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return strings.ReplaceAll(b.String(), `\"`, `"`)
}

// What the page about troubles quotes is what the program, or what it stands on, says; and it
// names every type of problem.
func TestTroublesAreQuotedAsTheyAreSaid(t *testing.T) {
	page := pages(t)["troubleshooting.md"]
	text, quoted := said(t, "core", "host", "service", "cmd", "content"), 0
	elsewhere := []string{"password authentication failed", "Peer authentication failed", "does not exist", "address already in use"} // PostgreSQL's words, and the kernel's
	for _, l := range strings.Split(page, "\n") {
		cells := strings.Split(l, "|")
		if len(cells) < 4 || !strings.Contains(cells[1], "`") || strings.Contains(cells[1], "/problems/") {
			continue
		}
		for i, quote := range strings.Split(cells[1], "`") {
			if i%2 == 0 {
				continue
			}
			for _, part := range strings.Split(quote, "…") {
				quoted++
				if part = strings.TrimSpace(part); part != "" && !strings.Contains(text, part) && !slices.Contains(elsewhere, part) {
					t.Errorf("nobody says %q", part)
				}
			}
		}
	}
	if quoted < 25 {
		t.Errorf("the page quotes %d messages", quoted)
	}
	for _, typ := range []string{api.TypeLint, api.TypeBlobs, api.TypePassword, api.TypeNotNamed, api.TypeReach} {
		if !strings.Contains(page, "`"+typ) {
			t.Errorf("the page says nothing of %s", typ)
		}
	}
	for _, m := range regexp.MustCompile(`Kind: "([a-z-]+)"`).FindAllStringSubmatch(said(t, "host/reach"), -1) {
		if !strings.Contains(page, "`"+m[1]+"`") {
			t.Errorf("the page says nothing of %s%s", api.TypeReach, m[1])
		}
	}
}
