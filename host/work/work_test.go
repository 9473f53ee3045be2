package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
)

// folder is a machine that is a folder.
func folder(t *testing.T) *platform.Machine {
	t.Helper()
	m := &platform.Machine{Root: t.TempDir(), StateDir: "/var/lib/northstake", Run: platform.Command}
	u, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	for file, text := range map[string]string{"passwd": fmt.Sprintf("me:x:%s:%s::/:/bin/sh\n", u.Uid, u.Gid), "group": fmt.Sprintf("me:x:%s:\n", u.Gid)} {
		put(t, m, "/etc/"+file, text)
	}
	return m
}

func put(t *testing.T, m *platform.Machine, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(m.Path(path)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m.Path(path), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func hash(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:])
}

// blobOnHost is where a text lies that was sent.
func blobOnHost(text string) string {
	return blobFile(&platform.Machine{Root: "/", StateDir: "/var/lib/northstake"}, hash(text))
}

func content(root string, files map[string]string) stake.ContentWork {
	w := stake.ContentWork{ContentWant: stake.ContentWant{Root: root, Owner: "me", Group: "me", Modes: declare.Modes{Files: "0644", Directories: "0755"}}}
	for p, text := range files {
		w.Files = append(w.Files, declare.File{Path: p, Size: int64(len(text)), SHA256: hash(text)})
	}
	return w
}

func tree(t *testing.T, m *platform.Machine, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	items, err := walk(m.Path(root))
	if err != nil {
		return out
	}
	for _, it := range items {
		if b, err := os.ReadFile(filepath.Join(m.Path(root), it.path)); err == nil {
			out[it.path] = string(b)
		}
	}
	return out
}

func publish(t *testing.T, m *platform.Machine, number int, w stake.ContentWork, texts map[string]string) {
	t.Helper()
	for _, text := range texts {
		put(t, m, blobOnHost(text), text)
	}
	step := plan.Step{Number: number, Type: "content", Name: "site", Move: stake.Move{Work: stake.JSON(w)}}
	if state, err := doStep(context.Background(), m, "1", step, func(string, ...any) {}); err != nil || state != rod.Done {
		t.Fatal(state, err)
	}
}

func TestContentIsPublishedReadAndTakenBack(t *testing.T) {
	m := folder(t)
	first := map[string]string{"index.html": "one", "a/b.html": "b"}
	publish(t, m, 1, content("/srv/www/site", first), first)
	if got := tree(t, m, "/srv/www/site"); fmt.Sprint(got) != fmt.Sprint(first) {
		t.Fatalf("published %v", got)
	}
	put(t, m, "/srv/www/site/theirs.txt", "theirs")
	second := map[string]string{"index.html": "two", "c.html": "c"}
	w := content("/srv/www/site", second)
	w.Drop = []string{"a/b.html"}
	publish(t, m, 2, w, second)
	want := map[string]string{"index.html": "two", "c.html": "c", "theirs.txt": "theirs"}
	if got := tree(t, m, "/srv/www/site"); fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("published again: %v, want %v", got, want)
	}
	var prepared wantedContent
	if err := json.Unmarshal(stake.JSON(w.ContentWant), &prepared); err != nil {
		t.Fatal(err)
	}
	found, err := readContent(context.Background(), m, prepared)
	if f := found.(stake.ContentFound); err != nil || f.Missings != 0 || f.Offs != 0 || f.Extras != 1 {
		t.Errorf("read as %+v, %v", found, err)
	}
	if err := backRun(context.Background(), m, "1", func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(m.Path("/srv/www")); !os.IsNotExist(err) {
		left, _ := filepath.Glob(m.Path("/srv/www/*"))
		t.Errorf("after both were taken back there is %v: %v", left, tree(t, m, "/srv"))
	}
}

// Where a directory cannot be exchanged as a whole its files are replaced one by
// one, and that too can be taken back.
func TestSlowSwitchAndBack(t *testing.T) {
	m := folder(t)
	before := map[string]string{"index.html": "one", "old/x.html": "x", "file": "f"}
	for p, text := range before {
		put(t, m, "/srv/site/"+p, text)
	}
	after := map[string]string{"index.html": "two", "new/y.html": "y", "file/inside.html": "now a directory"}
	for p, text := range after {
		put(t, m, "/srv/.northstake/site.1-1/"+p, text)
	}
	stage := m.Path("/srv/.northstake/site.1-1")
	if err := switchSlowly(m.Path("/srv/site"), stage); err != nil {
		t.Fatal(err)
	}
	if got := tree(t, m, "/srv/site"); fmt.Sprint(got) != fmt.Sprint(after) {
		t.Errorf("switched to %v", got)
	}
	if err := replaceFiles(m.Path("/srv/site"), formerTree(stage)); err != nil {
		t.Fatal(err)
	}
	if got := tree(t, m, "/srv/site"); fmt.Sprint(got) != fmt.Sprint(before) {
		t.Errorf("back at %v, want %v", got, before)
	}
}

func TestDirectoryIsMadeAndTakenBack(t *testing.T) {
	m := folder(t)
	put(t, m, "/srv/keep/me", "x")
	step := plan.Step{Number: 1, Type: "directory", Move: stake.Move{Work: stake.JSON(stake.DirectoryWant{Path: "/srv/a/b/c", Owner: "me", Group: "me", Mode: "0750"})}}
	if _, err := doStep(context.Background(), m, "7", step, func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	if e, err := m.Entry("/srv/a/b/c"); err != nil || e.Kind != "directory" || e.Mode != "0750" {
		t.Errorf("%+v, %v", e, err)
	}
	if err := backRun(context.Background(), m, "7", func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	if m.Exists("/srv/a") || !m.Exists("/srv/keep/me") {
		t.Error("what the step made is still there, or more is gone")
	}
}

// A step that was begun and never ended is taken back by the next run, whichever
// that is.
func TestAnInterruptedStepIsTakenBack(t *testing.T) {
	m := folder(t)
	w := stake.DirectoryWant{Path: "/srv/half", Owner: "me", Group: "me", Mode: "0755"}
	r := record{Run: "3", Step: plan.Step{Number: 1, Type: "directory", Move: stake.Move{Text: "make directory /srv/half", Work: stake.JSON(w)}}, State: rod.Begun}
	before, err := workers["directory"].Before(context.Background(), m, job(r, nil))
	if err != nil {
		t.Fatal(err)
	}
	r.Before = before
	if err := (journal{m}).write(r); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(m.Path("/srv/half"), 0o755); err != nil {
		t.Fatal(err)
	}
	said, err := recoverSteps(context.Background(), m)
	if err != nil || len(said) != 1 || !strings.Contains(said[0], "run 3 was cut off at step 1") {
		t.Fatalf("%q, %v", said, err)
	}
	if m.Exists("/srv/half") {
		t.Error("the half-done step is still there")
	}
	if said, err := recoverSteps(context.Background(), m); err != nil || len(said) != 0 {
		t.Errorf("a second time: %q, %v", said, err)
	}
}

func TestTheHostsLockIsHeldOnce(t *testing.T) {
	m := folder(t)
	l, err := takeLock(context.Background(), m, "1")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := takeLock(ctx, m, "2"); err == nil || !strings.Contains(err.Error(), "run 1") {
		t.Errorf("a second run gets the lock: %v", err)
	}
	l.release()
	if l, err = takeLock(ctx, m, "2"); err != nil {
		t.Fatal(err)
	}
	// A rod that has lost its line ends its step; its own run waits longer than others.
	defer func(was time.Duration) { lockWait = was }(lockWait)
	lockWait = 10 * time.Millisecond
	if _, err := takeLock(context.Background(), m, "3"); err == nil || !strings.Contains(err.Error(), "run 2") {
		t.Errorf("a third run gets the lock: %v", err)
	}
	first := l
	time.AfterFunc(300*time.Millisecond, first.release)
	if l, err = takeLock(context.Background(), m, "2"); err != nil {
		t.Fatalf("the same run does not wait: %v", err)
	}
	if l.waited < 200*time.Millisecond {
		t.Errorf("it waited %s", l.waited)
	}
	l.release()
}

// What nginx says of a rendered line leads back to the declaration's line.
func TestAComplaintLeadsToTheDeclaration(t *testing.T) {
	w := stake.SiteWant{Server: "nginx", Layout: stake.Layout{Program: "nginx"}, File: "/etc/nginx/sites-available/northstake-s.conf", Link: "/etc/nginx/sites-enabled/northstake-s.conf", Text: "server {\n    listen 80;\n    root \"/x\";\n}\n",
		Lines: []declare.Position{{File: "s.toml", Line: 1}, {File: "s.toml", Line: 5}, {File: "s.toml", Line: 6}, {File: "s.toml", Line: 1}}}
	for _, said := range []string{
		"2026/01/02 03:04:05 [emerg] 12#12: invalid parameter \"x\" in /etc/nginx/sites-enabled/northstake-s.conf:3\nnginx: configuration file /etc/nginx/nginx.conf test failed\n",
		"nginx: [emerg] invalid parameter \"x\" in /etc/nginx/sites-available/northstake-s.conf:3\n",
	} {
		err := candidateFault(w, said)
		f, ok := err.(*rod.Fault)
		if !ok || f.What != `nginx does not accept the configuration: invalid parameter "x"` || f.Line != 3 || f.Rendered != `root "/x";` || f.From == nil || f.From.Line != 6 || f.From.File != "s.toml" {
			t.Errorf("%q becomes %+v", said, f)
		}
	}
	f := candidateFault(w, "nginx: [emerg] unknown directive \"y\" in /etc/nginx/conf.d/other.conf:7\n").(*rod.Fault)
	if f.From != nil || f.File != "/etc/nginx/conf.d/other.conf" || !strings.Contains(f.Fix, "was on the host before") {
		t.Errorf("another file's fault becomes %+v", f)
	}
}

// The Apache server's words are understood too: with what is wrong on the same
// line or the next, and through files that include one another.
func TestWhatHttpdSaysIsUnderstood(t *testing.T) {
	for said, want := range map[string]complaint{
		"AH00526: Syntax error on line 3 of /etc/httpd/conf.d/s.conf:\nInvalid command 'Harbour', perhaps misspelled\n": {"Invalid command 'Harbour', perhaps misspelled", "/etc/httpd/conf.d/s.conf", 3},
		"httpd: Syntax error on line 56 of /etc/httpd/conf/httpd.conf: Syntax error on line 7 of /etc/httpd/conf.d/s.conf: Expected </Directory> but saw </VirtualHost>\n": {
			"Expected </Directory> but saw </VirtualHost>", "/etc/httpd/conf.d/s.conf", 7},
		"AH00558: httpd: Could not reliably determine the server's fully qualified domain name. Set the 'ServerName' directive\nAH00014: Configuration check failed\n": {"Configuration check failed", "", 0},
	} {
		if got, ok := httpdComplaint(said); !ok || got != want {
			t.Errorf("%q becomes %+v", said, got)
		}
	}
	if got, ok := httpdComplaint("Syntax OK\n"); ok {
		t.Errorf("a good word becomes %+v", got)
	}
}

// The copy that is tested points nowhere into the live tree.
func TestTheCandidateStandsApart(t *testing.T) {
	m := folder(t)
	put(t, m, "/etc/nginx/nginx.conf", "pid /run/nginx.pid;\ninclude /etc/nginx/sites-enabled/*;\n")
	put(t, m, "/etc/nginx/sites-available/a", "server {}\n")
	if err := os.MkdirAll(m.Path("/etc/nginx/sites-enabled"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc/nginx/sites-available/a", m.Path("/etc/nginx/sites-enabled/a")); err != nil {
		t.Fatal(err)
	}
	for link, target := range map[string]string{"/etc/nginx/modules": "../../usr/lib64/nginx", "/etc/nginx/sites-enabled/b": "../sites-available/a"} {
		if err := os.Symlink(target, m.Path(link)); err != nil {
			t.Fatal(err)
		}
	}
	to := filepath.Join(t.TempDir(), "conf")
	if err := (configCopy{"/etc/nginx", to, to + "/pid"}).tree(m.Path("/etc/nginx"), "/etc/nginx", to); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(to + "/nginx.conf")
	if err != nil || strings.Contains(string(b), "/etc/nginx") || strings.Contains(string(b), "/run/nginx.pid") {
		t.Errorf("%s, %v", b, err)
	}
	for link, want := range map[string]string{"/sites-enabled/a": to + "/sites-available/a", "/sites-enabled/b": to + "/sites-available/a", "/modules": "/usr/lib64/nginx"} {
		if target, err := os.Readlink(to + link); err != nil || target != want {
			t.Errorf("%s leads to %s, %v", link, target, err)
		}
	}
}

// Bytes that are not the ones they are named by are not taken.
func TestBlobsAreChecked(t *testing.T) {
	m := folder(t)
	if err := makeBlobDirs(m); err != nil {
		t.Fatal(err)
	}
	if err := receiveBlob(m, hash("right"), strings.NewReader("wrong")); err == nil {
		t.Error("other bytes are taken")
	}
	if err := receiveBlob(m, hash("right"), strings.NewReader("right")); err != nil {
		t.Error(err)
	}
	left, err := filepath.Glob(m.State("blobs", "?", "*"))
	if err != nil || len(left) != 1 {
		t.Errorf("%d files are left, %v", len(left), err)
	}
	w := stake.ContentWork{ContentWant: stake.ContentWant{Root: "/srv/none", Files: []declare.File{{Path: "a", Size: 5, SHA256: hash("right")}}}}
	if lacks, err := missingBlobs(m, w); err != nil || len(lacks) > 0 {
		t.Errorf("what is there is missing: %q, %v", lacks, err)
	}
	if err := os.WriteFile(blobFile(m, hash("right")), make([]byte, 5), 0o600); err != nil { // as a power cut may leave it
		t.Fatal(err)
	}
	if lacks, err := missingBlobs(m, w); err != nil || len(lacks) != 1 {
		t.Errorf("other bytes of the same length are taken for what was sent: %q, %v", lacks, err)
	}
}

// What was sent is moved into place, and a file that has a label of where it lay is
// copied instead: its own directory gives it another.
func TestBlobsAreMovedUnlessTheyHaveALabel(t *testing.T) {
	m := folder(t)
	if err := makeBlobDirs(m); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		text  string
		label bool
	}{{"ebb", false}, {"flood", true}} {
		from, to := blobFile(m, hash(c.text)), filepath.Join(m.Root, c.text)
		if err := receiveBlob(m, hash(c.text), strings.NewReader(c.text)); err != nil {
			t.Fatal(err)
		}
		if c.label {
			if err := unix.Setxattr(from, labelAttribute, []byte("system_u:object_r:var_lib_t:s0"), 0); err != nil {
				t.Fatal(err)
			}
		}
		f := declare.File{Path: c.text, Size: int64(len(c.text)), SHA256: hash(c.text)}
		if err := placeFile(m, f, filepath.Join(m.Root, "none"), to, "", true, ownership{os.Getuid(), os.Getgid(), 0o644, 0o755}); err != nil {
			t.Fatal(err)
		}
		if b, err := os.ReadFile(to); err != nil || string(b) != c.text {
			t.Errorf("%s: %q, %v", c.text, b, err)
		}
		if _, err := unix.Lgetxattr(to, labelAttribute, nil); err == nil {
			t.Errorf("%s has the label of where it was received", c.text)
		}
		if _, err := os.Lstat(from); (err == nil) != c.label {
			t.Errorf("%s: what was received is there still: %t", c.text, err == nil)
		}
	}
}

func FuzzReceiveBlobs(f *testing.F) {
	f.Add([]byte("not a tar"))
	f.Fuzz(func(t *testing.T, b []byte) {
		m := &platform.Machine{Root: t.TempDir(), StateDir: "/s"}
		_ = receiveBlobs(m, strings.NewReader(string(b)))
		err := filepath.WalkDir(m.Root, func(path string, e os.DirEntry, err error) error {
			if err == nil && !e.IsDir() && filepath.Dir(filepath.Dir(path)) != m.State("blobs") {
				t.Errorf("a file outside: %s", path)
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	})
}
