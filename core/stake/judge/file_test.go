package judge

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strings"
	"testing"

	"northstake/core/stake"
	"northstake/core/wire"
)

func TestFiles(t *testing.T) {
	want := wire.FileWant{Path: "/etc/motd", Text: "tide\n", Owners: wire.Administrators, Mode: "0644", Reload: []string{"nginx"}}
	there := func(change func(*wire.FileFound)) wire.FileFound {
		f := wire.FileFound{Entry: wire.Entry{Kind: "file", Owners: wire.Administrators, Mode: "0644"}, Text: "tide\n"}
		if change != nil {
			change(&f)
		}
		return f
	}
	for _, c := range []struct {
		found        wire.FileFound
		attrs, moves string
		blocked      bool
	}{
		{there(nil), "", "", false},
		{wire.FileFound{}, "what it is", "write /etc/motd, 1 line", false},
		{there(func(f *wire.FileFound) { f.Text = "ebb\n" }), "text", "write /etc/motd, 1 line", false},
		{there(func(f *wire.FileFound) { f.Entry.Mode = "0600" }), "mode", "set /etc/motd to owner root, group root, mode 0644", false},
		{there(func(f *wire.FileFound) { f.Entry.Owner, f.Entry.Group = "keeper", "keeper" }), "owner, group", "set /etc/motd to owner root, group root, mode 0644", false},
		{wire.FileFound{Entry: wire.Entry{Kind: "link", Target: "/run/motd"}}, "what it is", "replace the link /etc/motd (to /run/motd) with a file, 1 line", false},
		{wire.FileFound{Entry: wire.Entry{Kind: "directory"}}, "what it is", "", true},
		{there(func(f *wire.FileFound) { f.Text, f.Bytes, f.Sum = "", true, "ab" }), "text", "write /etc/motd, 1 line", false},
		{there(func(f *wire.FileFound) { f.Text, f.Large = "", "8 MB" }), "text", "", true},
	} {
		v := judged(t, "file", stake.Input{}, want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves || len(v.Blockers) > 0 != c.blocked {
			t.Errorf("%+v: differs in %q, moves %q, blockers %v", c.found, attributes(v), moves(v), v.Blockers)
		}
		if nudged := len(v.Nudges) == 1 && v.Nudges[0].Target == "service/nginx"; nudged != (c.moves != "") {
			t.Errorf("%+v: nudges %+v", c.found, v.Nudges)
		}
	}
}

// A file of any bytes is told by their sum; of a text that is found in its place nothing is shown as a difference (M12).
func TestFilesOfAnyBytes(t *testing.T) {
	data := []byte("tide\x00\xff\n")
	sum := sha256.Sum256(data)
	want := wire.FileWant{Path: "/usr/local/bin/tide", Data: data, Owners: wire.Administrators, Mode: "0755"}
	there := wire.Entry{Kind: "file", Owners: wire.Administrators, Mode: "0755"}
	for _, c := range []struct {
		found        wire.FileFound
		attrs, moves string
	}{
		{wire.FileFound{Entry: there, Bytes: true, Sum: hex.EncodeToString(sum[:])}, "", ""},
		{wire.FileFound{Entry: there, Bytes: true, Sum: "ab"}, "text", "write /usr/local/bin/tide, 7 B"},
		{wire.FileFound{Entry: there}, "text", "write /usr/local/bin/tide, 7 B"},
		{wire.FileFound{Entry: there, Text: "tide"}, "text", "write /usr/local/bin/tide, 7 B"},
		{wire.FileFound{}, "what it is", "write /usr/local/bin/tide, 7 B"},
		{wire.FileFound{Entry: wire.Entry{Kind: "file", Owners: wire.Administrators, Mode: "0644"}, Bytes: true, Sum: hex.EncodeToString(sum[:])}, "mode", "set /usr/local/bin/tide to owner root, group root, mode 0755"},
	} {
		v := judged(t, "file", stake.Input{}, want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves || len(v.Moves) > 0 && len(v.Moves[0].Details) > 0 {
			t.Errorf("%+v: differs in %q, moves %q: %+v", c.found, attributes(v), moves(v), v.Moves)
		}
	}
	var back wire.FileWant
	if err := json.Unmarshal(wire.JSON(want), &back); err != nil || back.Content() != string(data) {
		t.Errorf("as JSON it is %q, %v", back.Content(), err)
	}
}

func TestLinks(t *testing.T) {
	want := wire.LinkWant{Path: "/srv/now", PointsTo: "/srv/data"}
	for _, c := range []struct {
		found        wire.Entry
		attrs, moves string
		blocked      bool
	}{
		{wire.Entry{Kind: "link", Target: "/srv/data"}, "", "", false},
		{wire.Entry{}, "what it is", "make the link /srv/now to /srv/data", false},
		{wire.Entry{Kind: "link", Target: "/tmp"}, "leads to", "point the link /srv/now to /srv/data, from /tmp", false},
		{wire.Entry{Kind: "directory"}, "what it is", "", true},
	} {
		v := judged(t, "link", stake.Input{}, want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves || len(v.Blockers) > 0 != c.blocked {
			t.Errorf("%+v: differs in %q, moves %q, blockers %v", c.found, attributes(v), moves(v), v.Blockers)
		}
	}
}

// Marker lines that do not pair are never guessed at.
func TestMarkerLinesHaveToPair(t *testing.T) {
	w := wire.FileWant{Path: "/etc/hosts", Text: "10.0.0.9 pier\n", Portion: "pier", Comment: "#"}
	begin, end := w.Markers()
	for name, c := range map[string]struct {
		text, wrong string
		ok          bool
	}{
		"whole":               {"a\n" + begin + "\n10.0.0.9 pier\n" + end + "\nb\n", "", true},
		"whole, with CRLF":    {"a\r\n" + begin + "\r\n10.0.0.9 pier\n" + end + "\r\nb\r\n", "", true},
		"none":                {"a\n", "", false},
		"of a former release": {"# North Stake keeps the lines from here, block pier\n10.0.0.9 pier\n# North Stake keeps the lines to here, block pier\n", "", true},
		"no end":              {begin + "\ntheirs\n", "the one that ends it is not", false},
		"no begin":            {"theirs\n" + end + "\n", "the one that begins it is not", false},
		"two copies":          {begin + "\nx\n" + end + "\n" + begin + "\ny\n" + end + "\n", "more than once", false},
		"the wrong way round": {end + "\ntheirs\n" + begin + "\n", "stands before", false},
		"after a lost end":    {begin + "\nold\ntheirs\n" + begin + "\nnew\n" + end + "\n", "more than once", false},
	} {
		portion, ok, wrong := w.PortionOf(c.text)
		if ok != c.ok || !strings.Contains(wrong, c.wrong) || (c.wrong == "") != (wrong == "") || ok && portion != w.Text {
			t.Errorf("%s: %q, %t, %q", name, portion, ok, wrong)
		}
		v := judged(t, "file", stake.Input{}, w, wire.FileFound{Entry: wire.Entry{Kind: "file", Owners: wire.Administrators, Mode: "0644"}, Text: portion, Absent: !ok && wrong == "", Broken: wrong})
		if blocked := len(v.Blockers) > 0; blocked != (c.wrong != "") {
			t.Errorf("%s: blockers %+v", name, v.Blockers)
		}
	}
	if got := w.WithoutPortion("a\n" + w.WithPortion("") + "b\n"); got != "a\nb\n" {
		t.Errorf("without it: %q", got)
	}
	former := "a\n# North Stake keeps the lines from here, block pier\nold\n# North Stake keeps the lines to here, block pier\nb\n"
	if got := w.WithPortion(former); got != "a\n"+begin+"\n"+w.Text+end+"\nb\n" {
		t.Errorf("written where a former release wrote it: %q", got)
	}
	if !w.Marks("x\n"+end+"\n") || w.Marks("x "+end+"\n") {
		t.Error("a text that would end the portion is not told from one that would not")
	}
}

// What is no text is not what is declared, however it would read.
func TestBytesThatAreNoTextDiffer(t *testing.T) {
	e := wire.Entry{Kind: "file", Owners: wire.Administrators, Mode: "0644"}
	w := wire.FileWant{Path: "/etc/x", Text: "\ufffd\n", Owners: wire.Administrators, Mode: "0644"}
	if v := judged(t, "file", stake.Input{}, w, wire.FileFound{Entry: e, Text: "\ufffd\n", Bytes: true}); attributes(v) != "text" || len(v.Moves) != 1 || v.Moves[0].Verb != "write" {
		t.Errorf("%+v", v)
	}
	e.Owner, e.AlsoOwner = "tides", []string{"root"}
	if v := judged(t, "file", stake.Input{}, w, wire.FileFound{Entry: e, Text: "\ufffd\n"}); len(v.Differences) > 0 {
		t.Errorf("another name of the same number: %+v", v.Differences)
	}
	if v := judged(t, "file", stake.Input{}, w, wire.FileFound{Entry: e, Text: "x", Immutable: true}); len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].What, "chattr +i") {
		t.Errorf("%+v", v.Blockers)
	}
}

func TestAccountsAreWhatTheyAre(t *testing.T) {
	w := wire.AccountWant{Name: "tides", Shell: "/bin/sh"}
	f := wire.AccountFound{Known: true, ID: 120, System: true, Group: "tides", Home: "/srv/elsewhere", Shell: "/bin/sh"}
	if v := judged(t, "account", stake.Input{}, w, f); len(v.Differences) > 0 {
		t.Errorf("a home that is not declared differs: %+v", v.Differences)
	}
	f.Opens = true
	if v := judged(t, "account", stake.Input{}, w, f); attributes(v) != "password" || !strings.Contains(string(v.Moves[0].Work), `"lock":true`) {
		t.Errorf("a password: %+v", v)
	}
	f.ID, f.Opens = 0, false
	if v := judged(t, "account", stake.Input{}, w, f); attributes(v) != "number" || len(v.Blockers) != 1 {
		t.Errorf("number 0: %+v", v)
	}
	f.ID = 121
	if v := judged(t, "account", stake.Input{LastFound: wire.JSON(wire.AccountFound{Known: true, ID: 120})}, w, f); attributes(v) != "number" || len(v.Blockers) != 1 {
		t.Errorf("another number: %+v", v)
	}
}

// What is to belong to somebody whom the host has not is a blocker, unless something before
// it may bring the account.
func TestNobodyOwnsNothing(t *testing.T) {
	for kind, c := range map[string][2]any{
		"file":      {wire.FileWant{Path: "/etc/tide", Text: "x\n", Owners: wire.Owners{Owner: "tides", Group: "tides"}, Mode: "0644"}, wire.FileFound{Nobody: []string{"tides"}}},
		"directory": {wire.DirectoryWant{Path: "/srv/tide", Owners: wire.Owners{Owner: "tides", Group: "tides"}, Mode: "0755"}, wire.DirectoryFound{Nobody: []string{"tides"}}},
		"content":   {wire.ContentWant{Root: "/srv/tide", Owners: wire.Owners{Owner: "tides", Group: "tides"}}, wire.ContentFound{Nobody: []string{"tides"}}},
	} {
		v := judged(t, kind, stake.Input{}, c[0], c[1])
		if len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].What, "no user or group tides") {
			t.Errorf("%s: %+v", kind, v.Blockers)
		}
		if v := judged(t, kind, stake.Input{Pending: true}, c[0], c[1]); len(v.Blockers) != 0 {
			t.Errorf("%s, with an account on its way: %+v", kind, v.Blockers)
		}
	}
}

// A source's own entry that somebody has spoilt is written again, though the host's sources
// cannot be read for it; what others have entered against it is a blocker; and lists that
// are not there are read.
func TestSourcesThatCannotBeRead(t *testing.T) {
	w := wire.SourceWant{Name: "ferries", URL: "http://ferries.saltmarsh.test/"}
	entry := func(same bool) []wire.SourceFileFound {
		return []wire.SourceFileFound{{Path: "/etc/apt/x", Entry: wire.Entry{Kind: "file", Owners: wire.Administrators, Mode: "0644"}, Same: same}}
	}
	for name, c := range map[string]struct {
		f               wire.SourceFound
		differs         string
		moves, blockers int
	}{
		"spoilt":       {wire.SourceFound{Files: entry(false), Unsound: "malformed"}, "text of /etc/apt/x, sources of the host", 1, 0},
		"contradicted": {wire.SourceFound{Files: entry(true), Unsound: "conflicting"}, "sources of the host", 0, 1},
		"not listed":   {wire.SourceFound{Files: entry(true), Unlisted: true}, "its lists of packages", 1, 0},
		"as declared":  {wire.SourceFound{Files: entry(true)}, "", 0, 0},
	} {
		if v := judged(t, "source", stake.Input{}, w, c.f); attributes(v) != c.differs || len(v.Moves) != c.moves || len(v.Blockers) != c.blockers {
			t.Errorf("%s: %s; %+v", name, attributes(v), v)
		}
	}
}

// A file that is declared as gone is taken away with what it holds shown, and a link by itself; what
// is neither, or cannot be kept first, is left.
func TestAFileThatIsGone(t *testing.T) {
	w := wire.FileWant{Path: "/etc/tide", Gone: true, Reload: []string{"nginx"}}
	for name, c := range map[string]struct {
		found       wire.FileFound
		move, block string
	}{
		"nothing there": {wire.FileFound{}, "", ""},
		"a file":        {wire.FileFound{Entry: wire.Entry{Kind: "file", Owners: wire.Owners{Owner: "tides"}}, Text: "ebb\n"}, "take away /etc/tide", ""},
		"a link":        {wire.FileFound{Entry: wire.Entry{Kind: "link", Target: "/srv/tide"}}, "take away the link /etc/tide (to /srv/tide)", ""},
		"a directory":   {wire.FileFound{Entry: wire.Entry{Kind: "directory"}}, "", "only files and links are taken away"},
		"a large file":  {wire.FileFound{Entry: wire.Entry{Kind: "file"}, Large: "1 MB"}, "", "larger than 1 MB"},
		"a fixed file":  {wire.FileFound{Entry: wire.Entry{Kind: "file"}, Immutable: true}, "", "chattr -i"},
	} {
		v := judged(t, "file", stake.Input{}, w, c.found)
		moved, blocked := "", ""
		for _, m := range v.Moves {
			moved += m.Text
			if c.found.Text != "" && (len(m.Details) != 1 || !strings.Contains(m.Details[0].Text, "-ebb")) {
				t.Errorf("%s: its text is not shown: %+v", name, m.Details)
			}
		}
		for _, b := range v.Blockers {
			blocked += b.What + b.Fix
		}
		if moved != c.move || !strings.Contains(blocked, c.block) || (blocked == "") != (c.block == "") || (len(v.Differences) == 0) != (c.found.Entry.Kind == "") || (len(v.Nudges) == 1) != (c.move != "") {
			t.Errorf("%s: %q, %q, %+v, %+v", name, moved, blocked, v.Differences, v.Nudges)
		}
	}
}

// A virtual host that takes a site's visitors is in nobody's way where its file, and no other, is declared
// as gone: the server reads its configuration anew.
func TestAFileThatIsGoneGivesASiteItsVisitors(t *testing.T) {
	w := wire.SiteWant{Server: "nginx", Service: "nginx", Names: []string{"tides.saltmarsh.test"}}
	for path, blocks := range map[string]bool{"/etc/nginx/conf.d/a.conf": false, "/etc/nginx/conf.d/a": true, "/etc": true} {
		in := stake.Input{Declared: []stake.Stake{{Type: "file", Name: path, Want: wire.JSON(wire.FileWant{Path: wire.Path(path), Gone: true})}}}
		v := judged(t, "site", in, w, wire.SiteFound{Others: []wire.Other{{Names: w.Names, At: "10.88.0.11:80", By: "another virtual host, /etc/nginx/conf.d/a.conf:3"}}})
		blocked := false
		for _, b := range v.Blockers {
			blocked = blocked || strings.Contains(b.What, "are answered by another virtual host")
		}
		if blocked != blocks {
			t.Errorf("with %s gone: %+v", path, v.Blockers)
		}
	}
}
