package main

import (
	"crypto/ed25519"
	"crypto/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"northstake/service/contract"
)

func hostKey(t *testing.T) (ssh.PublicKey, contract.HostKey) {
	t.Helper()
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	return key, contract.HostKey{Type: key.Type(), Fingerprint: ssh.FingerprintSHA256(key), Key: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))}
}

func file(t *testing.T, name, text string, mode os.FileMode) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
	return path
}

// A known_hosts file vouches for the host whose key it has, by address or name, with
// the port where that is another; for no other key, and for none that is revoked.
func TestAKnownHostsFileVouches(t *testing.T) {
	key, offered := hostKey(t)
	other, _ := hostKey(t)
	keys := contract.HostKeys{Host: "quay1", Address: "10.88.0.11", Port: 22, Offered: []contract.HostKey{offered}}
	moved := keys
	moved.Port = 2222
	for _, c := range []struct {
		what  string
		lines []string
		keys  contract.HostKeys
		known bool
		said  string
	}{
		{"by address", []string{knownhosts.Line([]string{"10.88.0.11"}, key)}, keys, true, "as that of 10.88.0.11"},
		{"by name, hashed", []string{knownhosts.Line([]string{knownhosts.HashHostname("quay1")}, key)}, keys, true, "as that of quay1"},
		{"at another port", []string{knownhosts.Line([]string{"[10.88.0.11]:2222"}, key)}, moved, true, "as that of 10.88.0.11"},
		{"of another port alone", []string{knownhosts.Line([]string{"10.88.0.11"}, key)}, moved, false, "no key of it"},
		{"another key", []string{knownhosts.Line([]string{"10.88.0.11"}, other)}, keys, false, "has another key of 10.88.0.11"},
		{"a revoked key", []string{"@revoked * " + strings.SplitN(knownhosts.Line([]string{"x"}, key), " ", 2)[1]}, keys, false, "is revoked"},
		{"nothing", nil, keys, false, "no key of it"},
	} {
		v, err := vouchersOf(trustOptions{knownHosts: file(t, "known_hosts", strings.Join(c.lines, "\n")+"\n", 0o600)})
		if err != nil {
			t.Errorf("%s: %v", c.what, err)
			continue
		}
		fingerprint, said := v.vouches(c.keys)
		if (fingerprint == offered.Fingerprint) != c.known || !strings.Contains(said, c.said) {
			t.Errorf("%s: %q, %s", c.what, fingerprint, said)
		}
	}
	if _, err := vouchersOf(trustOptions{knownHosts: file(t, "known_hosts", "nonsense\n", 0o600)}); err == nil {
		t.Error("a file that is no known_hosts file is taken")
	}
}

func TestAListOfFingerprintsVouches(t *testing.T) {
	_, offered := hostKey(t)
	keys := contract.HostKeys{Host: "quay1", Address: "10.88.0.11", Offered: []contract.HostKey{offered}}
	list, err := readFingerprints("list", "# from the owner\n\n  quay1   "+offered.Fingerprint+"\n10.88.0.12 SHA256:"+strings.Repeat("A", 43)+"\n")
	if err != nil {
		t.Fatal(err)
	}
	if f, _ := list.vouches(keys); f != offered.Fingerprint {
		t.Errorf("a listed host: %q", f)
	}
	keys.Host, keys.Address = "quay2", "10.88.0.12"
	if f, said := list.vouches(keys); f != "" || !strings.Contains(said, "it offers "+offered.Fingerprint) {
		t.Errorf("another fingerprint: %q, %s", f, said)
	}
	for text, want := range map[string]string{"quay1\n": "list:1:", "\nquay1 MD5:00\n": "list:2:", "quay1 SHA256:short\n": "list:1:", "a b c\n": "list:1:"} {
		if _, err := readFingerprints("list", text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// A program of a declaration is run when the user has agreed to it as it is, or has said that any may
// be; what it is told of the environment has nothing of the service; and what leads out of the
// declaration's directory is not taken (B6).
func TestAProgramIsRunWhenTheUserAgrees(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("NORTHSTAKE_TOKEN_FILE", "/root/token")
	path := file(t, "hosts", "#!/bin/sh\nenv | grep NORTHSTAKE >&2 && exit 3\necho x >> asked\necho '[host.quay3]'\n", 0o755)
	dir := filepath.Dir(path)
	asked, says := 0, false
	ask := programs{ask: func(string) (bool, error) { asked++; return says, nil }}
	ran := func(may programs) bool {
		t.Helper()
		_, err := moreHosts(t.Context(), dir, "hosts", 0, may)
		if err != nil && !strings.Contains(err.Error(), "--allow-program") {
			t.Fatal(err)
		}
		return err == nil
	}
	if ran(programs{}) || ran(ask) || asked != 1 {
		t.Errorf("it is run unasked, or after a no, asked %d times", asked)
	}
	if _, err := os.Stat(filepath.Join(dir, "asked")); err == nil {
		t.Error("it was run before anybody agreed")
	}
	says = true
	if !ran(ask) || !ran(programs{}) || !ran(ask) || asked != 2 {
		t.Errorf("once agreed to it is not run, or asked for again: %d times", asked)
	}
	if err := os.WriteFile(path, []byte("#!/bin/sh\ntrue\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if ran(programs{}) {
		t.Error("another text of it is run")
	}
	if !ran(programs{all: true}) || ran(programs{}) {
		t.Error("what is allowed once is not run, or is allowed for ever")
	}
	outside := file(t, "outside", "#!/bin/sh\n", 0o755)
	if err := os.Symlink(outside, filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	if _, err := moreHosts(t.Context(), dir, "link", 0, programs{all: true}); err == nil || !strings.Contains(err.Error(), "leads out") {
		t.Errorf("a link that leads out: %v", err)
	}
	if s, err := moreHosts(t.Context(), dir, "../outside", 0, programs{all: true}); s != nil || err != nil {
		t.Errorf("a path that climbs: %v, %v", s, err)
	}
	// Whoever only wants to know what is declared here has nothing run.
	if err := os.WriteFile(filepath.Join(dir, "ground.toml"), []byte("[ground]\nname = \"saltmarsh\"\nmore_hosts = { program = \"hosts\" }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte("#!/bin/sh\ntouch ran\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if name := groundHere(dir); name != "saltmarsh" {
		t.Errorf("the ground here is %q", name)
	}
	if _, err := os.Stat(filepath.Join(dir, "ran")); err == nil {
		t.Error("the program was run to tell a name")
	}
}

// What lies in a declaration's directory is read, and nothing that a link leads to outside of it.
func TestNothingOutsideIsRead(t *testing.T) {
	secret := file(t, "bashrc", "low tide", 0o600)
	dir := t.TempDir()
	for name, target := range map[string]string{"content/in.html": "page.html", "content/out.html": secret, "content/far.html": "../../../../../../etc/passwd"} {
		full := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(target, full); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "content/page.html"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	_, m, err := readGround(t.Context(), dir, programs{})
	if err != nil || len(m.Files) != 2 || len(m.Odd) != 2 {
		t.Errorf("files %+v, others %+v, %v", m.Files, m.Odd, err)
	}
	// A directory that the user names may be led to, and nothing that it leads to in turn (U8).
	shared := t.TempDir()
	for path, to := range map[string]string{filepath.Join(dir, "content/shared"): shared, filepath.Join(shared, "secret.html"): secret, filepath.Join(shared, "again"): shared, filepath.Join(dir, "content/one.html"): filepath.Join(shared, "page.html")} {
		if err := os.Symlink(to, path); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"page.html", "deep/page.html"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(shared, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(shared, name), []byte("y"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	_, m, err = readGround(t.Context(), dir, programs{links: []string{shared}})
	listed := ""
	for _, f := range m.Files {
		listed += f.Path + " "
	}
	for _, o := range m.Odd {
		listed += o.Path + ": " + o.Is + " "
	}
	const out = "a link that leads out of the declaration's directory "
	if want := "content/in.html content/one.html content/page.html content/shared/deep/page.html content/shared/page.html " +
		"content/far.html: " + out + "content/out.html: " + out + "content/shared/again: a link to a directory content/shared/secret.html: " + out; err != nil || listed != want || !slices.Contains(m.Dirs, "content/shared/deep") {
		t.Errorf("with a directory that may be led to there is\n%s\nwant\n%s\n%v, %v", listed, want, m.Dirs, err)
	}
	if _, m, err := readGround(t.Context(), dir, programs{}); err != nil || len(m.Files) != 2 || len(m.Odd) != 4 {
		t.Errorf("unasked, files %+v, others %+v, %v", m.Files, m.Odd, err)
	}
	if err := os.Symlink(secret, filepath.Join(dir, "more.toml")); err != nil {
		t.Fatal(err)
	}
	if _, _, err := readGround(t.Context(), dir, programs{}); err == nil || !strings.Contains(err.Error(), "leads out") {
		t.Errorf("a declaration that lies elsewhere: %v", err)
	}
}

// A program is asked for more hosts, and what it printed is taken again while it is held.
func TestAProgramPrintsHosts(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	path := file(t, "hosts", "#!/bin/sh\necho x >> asked\necho '[host.quay3]'\n", 0o755)
	dir := filepath.Dir(path)
	old := time.Now().Add(-time.Hour)
	if err := os.Chtimes(path, old, old); err != nil {
		t.Fatal(err)
	}
	asked := func() int {
		b, err := os.ReadFile(filepath.Join(dir, "asked"))
		if err != nil {
			t.Fatal(err)
		}
		return strings.Count(string(b), "x")
	}
	for i, hold := range []time.Duration{0, 0, time.Minute, time.Minute, time.Minute, time.Nanosecond} {
		s, err := moreHosts(t.Context(), dir, "hosts", hold, programs{all: true})
		if err != nil || s == nil || s.Name != "what hosts prints" || strings.TrimSpace(s.Text) != "[host.quay3]" {
			t.Fatalf("%+v, %v", s, err)
		}
		if got, want := asked(), []int{1, 2, 3, 3, 3, 4}[i]; got != want {
			t.Errorf("time %d: it was asked %d times, want %d", i, got, want)
		}
	}
	if s, err := moreHosts(t.Context(), dir, "none", 0, programs{all: true}); s != nil || err != nil {
		t.Errorf("a program that is not there: %v, %v", s, err)
	}
	for text, want := range map[string]string{"#!/bin/sh\necho low tide >&2; exit 3\n": "low tide"} {
		bad := file(t, "hosts", text, 0o755)
		if _, err := moreHosts(t.Context(), filepath.Dir(bad), "hosts", 0, programs{all: true}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("a program that fails: %v", err)
		}
	}
	plain := file(t, "hosts", "", 0o644)
	if _, err := moreHosts(t.Context(), filepath.Dir(plain), "hosts", 0, programs{all: true}); err == nil || !strings.Contains(err.Error(), "make it executable") {
		t.Errorf("a file that is no program: %v", err)
	}
}

// A program that prints without an end is ended, and what it has started with it (X6).
func TestAProgramThatPrintsWithoutAnEnd(t *testing.T) {
	for script, want := range map[string]string{
		"cat /dev/zero":             "prints more than 16 MB, and was ended",
		"cat /dev/zero >&2":         "prints more than 16 MB, and was ended",
		"(cat /dev/zero) & wait":    "prints more than 16 MB, and was ended",
		"echo no hosts >&2; exit 3": "did not print hosts: exit status 3\nno hosts",
	} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "hosts"), []byte("#!/bin/sh\n"+script+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
		if _, err := moreHosts(t.Context(), dir, "hosts", 0, programs{all: true}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", script, err, want)
		}
	}
}
