package stake

import (
	"strings"
	"testing"
)

func TestFiles(t *testing.T) {
	want := FileWant{Path: "/etc/motd", Text: "tide\n", Owner: "root", Group: "root", Mode: "0644", Reload: []string{"nginx"}}
	there := func(change func(*FileFound)) FileFound {
		f := FileFound{Entry: Entry{Kind: "file", Owner: "root", Group: "root", Mode: "0644"}, Text: "tide\n"}
		if change != nil {
			change(&f)
		}
		return f
	}
	for _, c := range []struct {
		found        FileFound
		attrs, moves string
		blocked      bool
	}{
		{there(nil), "", "", false},
		{FileFound{}, "what it is", "write /etc/motd, 1 line", false},
		{there(func(f *FileFound) { f.Text = "ebb\n" }), "text", "write /etc/motd, 1 line", false},
		{there(func(f *FileFound) { f.Entry.Mode = "0600" }), "mode", "set /etc/motd to owner root, group root, mode 0644", false},
		{there(func(f *FileFound) { f.Entry.Owner, f.Entry.Group = "keeper", "keeper" }), "owner, group", "set /etc/motd to owner root, group root, mode 0644", false},
		{FileFound{Entry: Entry{Kind: "link", Target: "/run/motd"}}, "what it is", "replace the link /etc/motd (to /run/motd) with a file, 1 line", false},
		{FileFound{Entry: Entry{Kind: "directory"}}, "what it is", "", true},
	} {
		v := judged(t, "file", Input{}, want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves || len(v.Blockers) > 0 != c.blocked {
			t.Errorf("%+v: differs in %q, moves %q, blockers %v", c.found, attributes(v), moves(v), v.Blockers)
		}
		if nudged := len(v.Nudges) == 1 && v.Nudges[0].Target == "service/nginx"; nudged != (c.moves != "") {
			t.Errorf("%+v: nudges %+v", c.found, v.Nudges)
		}
	}
}

func TestLinks(t *testing.T) {
	want := LinkWant{"/srv/now", "/srv/data"}
	for _, c := range []struct {
		found        Entry
		attrs, moves string
		blocked      bool
	}{
		{Entry{Kind: "link", Target: "/srv/data"}, "", "", false},
		{Entry{}, "what it is", "make the link /srv/now to /srv/data", false},
		{Entry{Kind: "link", Target: "/tmp"}, "leads to", "point the link /srv/now to /srv/data, from /tmp", false},
		{Entry{Kind: "directory"}, "what it is", "", true},
	} {
		v := judged(t, "link", Input{}, want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves || len(v.Blockers) > 0 != c.blocked {
			t.Errorf("%+v: differs in %q, moves %q, blockers %v", c.found, attributes(v), moves(v), v.Blockers)
		}
	}
}

// A portion goes in at the end or in its place, comes back as it went in, and
// leaves every other byte of the file alone.
func FuzzBlock(f *testing.F) {
	f.Add("127.0.0.1 localhost\n", "10.0.0.9 pier\n", "10.0.0.8 quay\n", "# own\n")
	f.Add("no line end", "", "x\n", "")
	f.Fuzz(func(t *testing.T, before, first, second, after string) {
		line := func(s string) string {
			if s != "" && !strings.HasSuffix(s, "\n") {
				return s + "\n"
			}
			return s
		}
		w := FileWant{Text: line(first), Portion: "pier", Comment: "#"}
		for _, s := range []string{before, first, second, after} {
			if strings.Contains(s, "North Stake") {
				return
			}
		}
		one := w.WithPortion(before)
		if got, ok := w.PortionOf(one); !ok || got != w.Text {
			t.Fatalf("in %q the portion is %q, %t", one, got, ok)
		}
		if w.WithPortion(one) != one {
			t.Fatalf("written twice it becomes %q", w.WithPortion(one))
		}
		longer := one + after
		w.Text = line(second)
		two := w.WithPortion(longer)
		if got, ok := w.PortionOf(two); !ok || got != w.Text {
			t.Fatalf("in %q the portion is %q, %t", two, got, ok)
		}
		if !strings.HasPrefix(two, before) || !strings.HasSuffix(two, after) || len(two)-len(longer) != len(w.Text)-len(line(first)) {
			t.Fatalf("%q becomes %q", longer, two)
		}
	})
}
