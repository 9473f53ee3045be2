// Package fetch gets content that does not lie beside a declaration: from a URL,
// checked by its sum, or from a git repository. No program is needed for that, on
// the service's machine or on hosts.
package fetch

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"northstake/content/archive"
	"northstake/core/declare"
)

// Limits of what is fetched: in bytes, and in time.
const (
	bytesLimit = 4 << 30
	timeLimit  = 5 * time.Minute
)

// Trouble is why content could not be fetched: what happened, and what to do.
type Trouble struct{ What, Fix string }

func (t *Trouble) Error() string { return t.What }

// Content fetches content into the directory to, which is made. Secret is the value
// of the secret that it names, nil where it names none. The error is a *Trouble
// where somebody can do something about it.
func (f From) Content(ctx context.Context, c *declare.Content, secret []byte, to string) error {
	ctx, cancel := context.WithTimeout(f.guard(ctx), timeLimit)
	defer cancel()
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	if c.Git != "" {
		return fromGit(ctx, c, secret, to)
	}
	return fromURL(ctx, c, secret, to)
}

func fromURL(ctx context.Context, c *declare.Content, secret []byte, to string) error {
	u, err := url.Parse(c.URL)
	if err != nil {
		return err
	}
	name := path.Base(u.Path)
	if name == "/" || name == "." {
		name = "index.html"
	}
	work, err := os.MkdirTemp("", "northstake-fetch-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	file := filepath.Join(work, name)
	sum, err := download(ctx, c.URL, secret, file)
	if err != nil {
		return err
	}
	if sum != c.SHA256 {
		// Not the whole of it: who cannot fetch it by himself has no sum of it to declare.
		return &Trouble{fmt.Sprintf("what %s gives has another SHA-256 than the declared one: it begins with %s", c.URL, sum[:12]), "look at what it gives now: if that is what should be published, declare what sha256sum prints of it; if not, somebody has changed it"}
	}
	if !archive.Is(name) {
		return os.Rename(file, filepath.Join(to, name))
	}
	if err := archive.Unpack(file, to, archive.Limits{}); err != nil {
		return &Trouble{fmt.Sprintf("%s: %v", c.URL, err), "fetch another archive"}
	}
	return nil
}

// download writes what a URL gives to a file, and returns its SHA-256.
func download(ctx context.Context, from string, secret []byte, file string) (string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
	if err != nil {
		return "", err
	}
	if user, password := account(secret); password != "" {
		if user == "" {
			req.Header.Set("Authorization", "Bearer "+password)
		} else {
			req.SetBasicAuth(user, password)
		}
	}
	res, err := web.Do(req)
	var no *refused
	if errors.As(err, &no) {
		return "", &Trouble{fmt.Sprintf("%s cannot be fetched: %s", from, no.what), "declare the URL where it lies in the end, on another machine"}
	}
	if err != nil {
		return "", &Trouble{fmt.Sprintf("%s cannot be fetched: %v", from, errors.Unwrap(err)), "check the URL, and the service's way to it"}
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		t := &Trouble{fmt.Sprintf("%s answers %s", from, res.Status), "check the URL"}
		if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden || res.StatusCode == http.StatusNotFound && secret == nil {
			t.Fix = "check the URL; if it is private, name the secret that opens it with fetch_secret = \"NAME\""
		}
		return "", t
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, h), io.LimitReader(res.Body, bytesLimit+1))
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil && n > bytesLimit {
		err = &Trouble{fmt.Sprintf("%s gives more than %d bytes", from, int64(bytesLimit)), "publish less at once"}
	}
	if err != nil {
		return "", fmt.Errorf("fetch %s: %w", from, err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// account reads a secret: USER:PASSWORD, or a token, which has no user.
func account(secret []byte) (user, password string) {
	s := strings.TrimSpace(string(secret))
	if user, password, ok := strings.Cut(s, ":"); ok {
		return user, password
	}
	return "", s
}

// Files lists the files below a directory with their sums, and the directories, with
// paths relative to it.
func Files(dir string) (out []declare.File, dirs []string, err error) {
	err = filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || p == dir {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil {
			return err
		}
		if e.IsDir() {
			dirs = append(dirs, filepath.ToSlash(rel))
			return nil
		}
		b, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(b)
		out = append(out, declare.File{Path: filepath.ToSlash(rel), Size: int64(len(b)), SHA256: hex.EncodeToString(sum[:])})
		return nil
	})
	return out, dirs, err
}
