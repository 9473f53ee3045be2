package fetch

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/declare"
)

func zipped(t *testing.T, files map[string]string) ([]byte, string) {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range files {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(b.Bytes())
	return b.Bytes(), hex.EncodeToString(sum[:])
}

// names fetches content and lists what came.
func names(t *testing.T, c *declare.Content, secret string) (string, error) {
	t.Helper()
	dir := t.TempDir()
	var value []byte
	if secret != "" {
		value = []byte(secret)
	}
	if err := here.Content(context.Background(), c, value, dir); err != nil {
		return "", err
	}
	files, _, err := Files(dir)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, f := range files {
		out = append(out, f.Path)
	}
	return strings.Join(out, " "), nil
}

func TestContentFromAURL(t *testing.T) {
	site, sum := zipped(t, map[string]string{"site/index.html": "tide", "site/a/b.css": "x"})
	bad, badSum := zipped(t, map[string]string{"../out": "x"})
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		switch {
		case r.URL.Path == "/site.zip" || r.URL.Path == "/page.html":
			w.Write(site)
		case r.URL.Path == "/bad.zip":
			w.Write(bad)
		case r.URL.Path == "/private.zip" && (user == "keeper" && password == "s3cret" || r.Header.Get("Authorization") == "Bearer token"):
			w.Write(site)
		case r.URL.Path == "/private.zip":
			w.WriteHeader(http.StatusUnauthorized)
		default:
			http.NotFound(w, r)
		}
	}))
	defer s.Close()
	for _, c := range []struct{ path, sum, secret, want, trouble, fix string }{
		{"/site.zip", sum, "", "site/a/b.css site/index.html", "", ""},
		{"/page.html", sum, "", "page.html", "", ""},
		{"/private.zip", sum, "keeper:s3cret", "site/a/b.css site/index.html", "", ""},
		{"/private.zip", sum, "token", "site/a/b.css site/index.html", "", ""},
		{"/private.zip", sum, "", "", "answers 401", `fetch_secret = "NAME"`},
		{"/site.zip", badSum, "", "", "begins with " + sum[:12], "declare what sha256sum prints of it"},
		{"/bad.zip", badSum, "", "", "leads out of the archive", ""},
		{"/none.zip", sum, "", "", "answers 404", "check the URL"},
	} {
		got, err := names(t, &declare.Content{URL: s.URL + c.path, SHA256: c.sum}, c.secret)
		var trouble *Trouble
		if c.trouble == "" && (err != nil || got != c.want) {
			t.Errorf("%s: %q, %v", c.path, got, err)
		}
		if c.trouble != "" && (!errors.As(err, &trouble) || !strings.Contains(trouble.What, c.trouble) || !strings.Contains(trouble.Fix, c.fix)) {
			t.Errorf("%s: %v", c.path, err)
		}
		if err != nil && strings.Contains(err.Error(), "s3cret") {
			t.Errorf("%s: the error tells the secret", c.path)
		}
	}
	s.Close()
	if _, err := names(t, &declare.Content{URL: s.URL + "/site.zip", SHA256: sum}, ""); err == nil || !strings.Contains(err.Error(), "cannot be fetched") {
		t.Errorf("nobody there: %v", err)
	}
}

// repository makes a git repository and serves it over HTTP, to those who know the
// password where there is one.
func repository(t *testing.T, password string) string {
	t.Helper()
	dir := t.TempDir()
	script := `git init -q -b main work && cd work && git config user.email office@saltmarsh.test && git config user.name Office
mkdir -p site/deep && echo one > site/index.html && echo css > site/deep/a.css && ln -s index.html site/home.html && echo no > README && mkdir -p .github .well-known && echo x > .github/x.yml && echo x > .gitignore && echo x > .well-known/security.txt && git add . && git commit -qm one && git tag v1
echo two > site/index.html && git commit -qam two && git checkout -q -b ebb && ln -s /etc/passwd site/secret && git add . && git commit -qm ebb && git checkout -q main
cd .. && git clone -q --bare work bare.git && git -C bare.git update-server-info && git -C work rev-parse v1`
	cmd := exec.Command("sh", "-euc", script)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	commit = strings.TrimSpace(string(out))
	backend := &cgi.Handler{Path: filepath.Join(gitPath(t), "git-http-backend"), Env: []string{"GIT_PROJECT_ROOT=" + dir, "GIT_HTTP_EXPORT_ALL=1"}}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, p, _ := r.BasicAuth(); p != password {
			w.Header().Set("WWW-Authenticate", "Basic")
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		backend.ServeHTTP(w, r)
	}))
	t.Cleanup(s.Close)
	return s.URL + "/bare.git"
}

var commit string // the first of the repository that was made last

func gitPath(t *testing.T) string {
	t.Helper()
	out, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

func TestContentFromARepository(t *testing.T) {
	open := repository(t, "")
	for _, c := range []struct{ at, folder, want, first string }{
		{"", "", ".well-known/security.txt README site/deep/a.css site/home.html site/index.html", "two"},
		{"main", "site", "site/deep/a.css site/home.html site/index.html", "two"},
		{"v1", "site", "site/deep/a.css site/home.html site/index.html", "one"},
		{commit, "site", "site/deep/a.css site/home.html site/index.html", "one"},
		{commit[:10], "site/deep", "site/deep/a.css", ""},
	} {
		dir := t.TempDir()
		if err := here.Content(context.Background(), &declare.Content{Git: open, At: c.at, Folder: c.folder}, nil, dir); err != nil {
			t.Errorf("%+v: %v", c, err)
			continue
		}
		files, _, err := Files(dir)
		var got []string
		for _, f := range files {
			got = append(got, f.Path)
		}
		if err != nil || strings.Join(got, " ") != c.want {
			t.Errorf("%+v: %q, %v", c, got, err)
		}
		for _, name := range []string{"index.html", "home.html"} { // a link is the file that it leads to
			if text, err := os.ReadFile(filepath.Join(dir, "site", name)); c.first != "" && (err != nil || strings.TrimSpace(string(text)) != c.first) {
				t.Errorf("%+v: %s is %q, %v", c, name, text, err)
			}
		}
	}
	for _, c := range []struct{ git, at, folder, trouble, fix string }{
		{open, "flood", "", `no branch and no tag "flood"`, "there is ebb, main, v1"},
		{open, "ebb", "", `"site/secret" is a link to "/etc/passwd"`, "take it out"},
		{open, strings.Repeat("0", 40), "", "has no commit", ""},
		{open, "main", "site/deeq", `no file in the folder "site/deeq"`, "there is site/deep, site"},
		{strings.Replace(open, "bare", "none", 1), "", "", "cannot be fetched", ""},
	} {
		_, err := names(t, &declare.Content{Git: c.git, At: c.at, Folder: c.folder}, "")
		var trouble *Trouble
		if !errors.As(err, &trouble) || !strings.Contains(trouble.What, c.trouble) || !strings.Contains(trouble.Fix, c.fix) {
			t.Errorf("%+v: %v", c, err)
		}
	}
	private := repository(t, "s3cret")
	if _, err := names(t, &declare.Content{Git: private}, ""); err == nil || !strings.Contains(err.Error(), "cannot be fetched") {
		t.Errorf("a private repository without a secret: %v", err)
	}
	for _, secret := range []string{"s3cret", "keeper:s3cret"} {
		if got, err := names(t, &declare.Content{Git: private, At: "v1"}, secret); err != nil || !strings.Contains(got, "README") {
			t.Errorf("a private repository: %q, %v", got, err)
		}
	}
}
