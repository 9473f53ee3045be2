package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// Taking a file back leaves what somebody has written to it since, and says where the
// former text is; of a portion, only the portion goes back.
func TestTakingAFileBackKeepsWhatCameSince(t *testing.T) {
	whole := wire.FileWant{Path: "/etc/tide", Text: "flood\n", Owners: wire.Owners{Owner: "me", Group: "me"}, Mode: "0644"}
	portion := wire.FileWant{Path: "/etc/tide", Text: "flood\n", Portion: "tide", Comment: "#"}
	for name, c := range map[string]struct {
		want   wire.FileWant
		before string // "" for no file
		since  func(now string) string
		after  string
		says   string
	}{
		"as the step left it":           {whole, "ebb\n", nil, "ebb\n", ""},
		"edited since":                  {whole, "ebb\n", func(string) string { return "by hand\n" }, "by hand\n", "left /etc/tide as it is"},
		"made by the step":              {whole, "", nil, "", ""},
		"made by the step, then edited": {whole, "", func(now string) string { return now + "by hand\n" }, "flood\nby hand\n", "left /etc/tide as it is"},
		"a portion":                     {portion, "theirs\n", nil, "theirs\n", ""},
		"a portion, and a line since":   {portion, "theirs\n", func(now string) string { return now + "later\n" }, "theirs\nlater\n", ""},
		"a portion that was edited":     {portion, "theirs\n", func(now string) string { return strings.Replace(now, "flood", "slack", 1) }, "slack", "its portion tide was changed"},
	} {
		m := folder(t)
		if c.before != "" {
			systemtest.Put(t, m.Machine, "/etc/tide", c.before)
		}
		if c.want.Portion != "" {
			c.want.Owner, c.want.Group = "me", "me"
		}
		step := wire.Step{Number: 1, Type: "file", Move: wire.Move{Work: wire.JSON(c.want)}}
		if _, err := m.journal().Do(context.Background(), "7", step, func(string, ...any) {}); err != nil {
			t.Fatal(err)
		}
		if c.since != nil {
			now, err := os.ReadFile(m.Path("/etc/tide"))
			if err != nil {
				t.Fatal(err)
			}
			systemtest.Put(t, m.Machine, "/etc/tide", c.since(string(now)))
		}
		var said []string
		if err := m.journal().Back(context.Background(), "7", func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }); err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(m.Path("/etc/tide"))
		if c.after == "" && err == nil || c.after != "slack" && string(got) != c.after || c.after == "slack" && !strings.Contains(string(got), "slack") {
			t.Errorf("%s: the file holds %q, want %q", name, got, c.after)
		}
		if all := strings.Join(said, "\n"); !strings.Contains(all, c.says) || c.says == "" && strings.Contains(all, "left") {
			t.Errorf("%s: said %q", name, said)
		}
		if c.says != "" && c.before != "" && c.want.Portion == "" {
			kept, err := os.ReadFile(m.State("former", "7-1", "/etc/tide"))
			if string(kept) != c.before {
				t.Errorf("%s: kept %q, %v", name, kept, err)
			}
		}
	}
}

// A file or link that a step took away comes back as it was; one that somebody has made there since stays.
func TestAFileThatIsGoneComesBack(t *testing.T) {
	work := wire.FileWork{FileWant: wire.FileWant{Path: "/etc/tide", Gone: true}, Away: true}
	for _, linked := range []bool{false, true} {
		for _, since := range []string{"", "theirs\n"} {
			m := folder(t)
			systemtest.Put(t, m.Machine, "/etc/tide", "ebb\n")
			if linked {
				if err := os.Rename(m.Path("/etc/tide"), m.Path("/etc/ebb")); err != nil {
					t.Fatal(err)
				}
				if err := os.Symlink("ebb", m.Path("/etc/tide")); err != nil {
					t.Fatal(err)
				}
			}
			step := wire.Step{Number: 1, Type: "file", Move: wire.Move{Work: wire.JSON(work)}}
			if _, err := m.journal().Do(context.Background(), "7", step, func(string, ...any) {}); err != nil {
				t.Fatal(err)
			}
			if m.Exists("/etc/tide") || linked && !m.Exists("/etc/ebb") {
				t.Fatal("the step took away something else, or nothing")
			}
			want := "ebb\n"
			if since != "" {
				systemtest.Put(t, m.Machine, "/etc/tide", since)
				want = since
			}
			if err := m.journal().Back(context.Background(), "7", func(string, ...any) {}); err != nil {
				t.Fatal(err)
			}
			got, err := os.ReadFile(m.Path("/etc/tide"))
			target, _ := os.Readlink(m.Path("/etc/tide"))
			if string(got) != want || (target == "ebb") != (linked && since == "") {
				t.Errorf("a link %t, since %q: %q, to %q, %v", linked, since, got, target, err)
			}
		}
	}
}

// What was taken back has its time again, and who touched it is who did before.
func TestTakingBackIsNoTouchOfSomebodyElse(t *testing.T) {
	m := folder(t)
	systemtest.Put(t, m.Machine, "/etc/tide", "ebb\n")
	when := time.Date(2024, 3, 9, 12, 0, 0, 0, time.UTC)
	if err := os.Chtimes(m.Path("/etc/tide"), when, when); err != nil {
		t.Fatal(err)
	}
	before, err := m.Entry("/etc/tide")
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(20 * time.Millisecond) // so that a change has another time
	step := wire.Step{Number: 1, Type: "file", Move: wire.Move{Work: wire.JSON(wire.FileWant{Path: "/etc/tide", Text: "flood\n", Owners: wire.Owners{Owner: "me", Group: "me"}, Mode: "0644"})}}
	if _, err := m.journal().Do(context.Background(), "7", step, func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	if err := m.journal().Back(context.Background(), "7", func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	after, err := m.Entry("/etc/tide")
	if err != nil || !after.Touched.At.Equal(before.Touched.At) {
		t.Errorf("touched at %s, and before at %s: %v", after.Touched.At, before.Touched.At, err)
	}
	if s, err := os.Stat(m.Path("/etc/tide")); err != nil || !s.ModTime().Equal(when) {
		t.Errorf("written at %v: %v", s, err)
	}
	// So are a link that was led elsewhere, and a directory that was given another mode.
	if err := errors.Join(os.Symlink("ebb", m.Path("/etc/now")), os.Mkdir(m.Path("/etc/tides"), 0o700)); err != nil {
		t.Fatal(err)
	}
	for path, work := range map[string]wire.Step{
		"/etc/now":   {Type: "link", Move: wire.Move{Work: wire.JSON(wire.LinkWork{LinkWant: wire.LinkWant{Path: "/etc/now", PointsTo: "flood"}})}},
		"/etc/tides": {Type: "directory", Move: wire.Move{Work: wire.JSON(wire.DirectoryWork{DirectoryWant: wire.DirectoryWant{Path: "/etc/tides", Owners: wire.Owners{Owner: "me", Group: "me"}, Mode: "0750"}})}},
	} {
		before, err := m.Entry(wire.Path(path))
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(20 * time.Millisecond)
		work.Number = 1
		if _, err := m.journal().Do(context.Background(), "8", work, func(string, ...any) {}); err != nil {
			t.Fatal(err)
		}
		if changed, err := m.Entry(wire.Path(path)); err != nil || !changed.Touched.At.After(before.Touched.At) {
			t.Fatalf("%s was not changed: %+v, %v", path, changed, err)
		}
		if err := m.journal().Back(context.Background(), "8", func(string, ...any) {}); err != nil {
			t.Fatal(err)
		}
		if after, err := m.Entry(wire.Path(path)); err != nil || !after.Touched.At.Equal(before.Touched.At) {
			t.Errorf("%s was touched at %s, and before at %s: %v", path, after.Touched.At, before.Touched.At, err)
		}
	}
	time.Sleep(20 * time.Millisecond)
	systemtest.Put(t, m.Machine, "/etc/tide", "theirs\n")
	if now, err := m.Entry("/etc/tide"); err != nil || !now.Touched.At.After(before.Touched.At) {
		t.Errorf("an edit of somebody's is not seen: %+v, %v", now.Touched, err)
	}
}

// A user's home and what lies in it, made in one step, are taken back whole: each by whoever may remove
// it (U2).
func TestAHomeAndWhatIsInItGoBack(t *testing.T) {
	m := folder(t)
	for dir := m.Root; len(dir) > len("/tmp"); dir = dir[:strings.LastIndexByte(dir, '/')] {
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	systemtest.Put(t, m.Machine, "/home/other/x", "")
	passwd, err := os.ReadFile(m.Path("/etc/passwd"))
	if err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m.Machine, "/etc/passwd", string(passwd)+"tides:x:4242:4242::/home/tides:/bin/sh\n")
	groups, err := os.ReadFile(m.Path("/etc/group"))
	if err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m.Machine, "/etc/group", string(groups)+"tides:x:4242:\n")
	theirs := func(path string, mode wire.Mode) wire.DirectoryWork {
		return wire.DirectoryWork{DirectoryWant: wire.DirectoryWant{Path: wire.Path(path), Owners: wire.Owners{Owner: "tides", Group: "tides"}, Mode: mode}}
	}
	works := wire.Works[wire.DirectoryWork]{theirs("/home/tides", "0755"), theirs("/home/tides/.ssh", "0700"), theirs("/home/tides/.ssh/deep/er", "0700")}
	step := wire.Step{Number: 1, Type: "directory", Move: wire.Move{Work: wire.JSON(works)}}
	if _, err := m.journal().Do(context.Background(), "7", step, func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	if s, err := os.Stat(m.Path("/home/tides/.ssh/deep/er")); err != nil || !s.IsDir() {
		t.Fatalf("it was not made: %v", err)
	}
	if err := m.journal().Back(context.Background(), "7", func(string, ...any) {}); err != nil {
		t.Errorf("taking it back: %v", err)
	}
	if _, err := os.Lstat(m.Path("/home/tides")); err == nil {
		t.Error("the home is still there")
	}
}
