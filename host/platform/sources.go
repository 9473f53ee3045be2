package platform

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"northstake/core/stake"
)

// SourceForm is how a package manager takes an extra source.
type SourceForm interface {
	// Files are the files that declare a source, and the key's.
	Files(w stake.SourceWant) []stake.SourceFile
	// Read reads the lists of one source, and says what is wrong with it.
	Read(ctx context.Context, name string) error
}

type aptSources struct{ apt }

func (a apt) Sources() SourceForm { return aptSources{a} }

// Files writes a source in the form of sources.list(5), deb822 with Signed-By.
func (aptSources) Files(w stake.SourceWant) []stake.SourceFile {
	ending := ".asc"
	if !bytes.HasPrefix(bytes.TrimSpace(w.Key), []byte("-----BEGIN")) {
		ending = ".gpg"
	}
	key := "/etc/apt/keyrings/northstake-" + w.Name + ending
	var b strings.Builder
	fmt.Fprintf(&b, "# North Stake writes this file.\nTypes: deb\nURIs: %s\n", w.URL)
	suites, parts := w.Suites, w.Parts
	if len(suites) == 0 {
		suites = []string{"./"}
	}
	fmt.Fprintf(&b, "Suites: %s\n", strings.Join(suites, " "))
	if len(parts) > 0 {
		fmt.Fprintf(&b, "Components: %s\n", strings.Join(parts, " "))
	}
	fmt.Fprintf(&b, "Signed-By: %s\n", key)
	return []stake.SourceFile{{Path: key, Text: w.Key}, {Path: "/etc/apt/sources.list.d/northstake-" + w.Name + ".sources", Text: []byte(b.String())}}
}

func (a aptSources) Read(ctx context.Context, name string) error {
	file := "/etc/apt/sources.list.d/northstake-" + name + ".sources"
	return a.run(ctx, "update", "-o", "Dir::Etc::sourcelist="+file, "-o", "Dir::Etc::sourceparts=-", "-o", "APT::Get::List-Cleanup=0",
		"-o", "APT::Update::Error-Mode=any", "-o", "Acquire::Retries=0", "-o", "Acquire::http::Timeout=10")
}

// Disabled lists sources that a file switches off.
func (a apt) Disabled() []string {
	var out []string
	files, _ := filepath.Glob(a.m.Path("/etc/apt/sources.list.d/*.sources")) // the pattern is sound
	for _, f := range files {
		for _, s := range deb822(a.m, f) {
			if v := strings.ToLower(s["enabled"]); v == "no" || v == "false" {
				out = append(out, s["uris"]+" ("+path.Base(f)+")")
			}
		}
	}
	return out
}

// deb822 reads the paragraphs of a file in the form of deb822(5), with keys in
// small letters; lines that carry on are left out.
func deb822(m *Machine, file string) []map[string]string {
	b, err := m.Read(strings.TrimPrefix(file, strings.TrimSuffix(m.Path("/"), "/")))
	if err != nil {
		return nil
	}
	var out []map[string]string
	for _, paragraph := range strings.Split(string(b), "\n\n") {
		p := map[string]string{}
		for _, line := range strings.Split(paragraph, "\n") {
			if k, v, ok := strings.Cut(line, ":"); ok && line[0] != ' ' && line[0] != '#' {
				p[strings.ToLower(k)] = strings.TrimSpace(v)
			}
		}
		if len(p) > 0 {
			out = append(out, p)
		}
	}
	return out
}

type dnfSources struct{ dnf }

func (d dnf) Sources() SourceForm { return dnfSources{d} }

// Files writes a source in the form of dnf.conf(5), [repo] options.
func (dnfSources) Files(w stake.SourceWant) []stake.SourceFile {
	key := "/etc/pki/rpm-gpg/northstake-" + w.Name
	var b strings.Builder
	fmt.Fprintf(&b, "# North Stake writes this file.\n[northstake-%s]\nname=%s, declared to North Stake\nbaseurl=%s\nenabled=1\ngpgcheck=1\n", w.Name, w.Name, w.URL)
	if w.SignedLists {
		b.WriteString("repo_gpgcheck=1\n")
	}
	fmt.Fprintf(&b, "gpgkey=file://%s\n", key)
	return []stake.SourceFile{{Path: key, Text: w.Key}, {Path: "/etc/yum.repos.d/northstake-" + w.Name + ".repo", Text: []byte(b.String())}}
}

func (d dnfSources) Read(ctx context.Context, name string) error {
	// Its quiet form keeps back why a source cannot be read.
	_, err := d.m.Run(ctx, nil, "dnf", "-y", "--disablerepo=*", "--enablerepo=northstake-"+name, "--setopt=timeout=10", "--setopt=retries=1", "--refresh", "makecache")
	var failed *Failed
	if errors.As(err, &failed) && strings.Contains(failed.Output+failed.Printed, "GPG") && d.expired(ctx, "/etc/pki/rpm-gpg/northstake-"+name) {
		failed.Output = "the key has expired\n" + failed.Output
	}
	return err
}

// expired says whether the first key in a file has expired: to dnf that is a bad
// signature like any other. Field 2 of a line of gpg's listing is "e" then
// (doc/DETAILS of GnuPG); where there is no gpg nothing is known.
func (d dnfSources) expired(ctx context.Context, file string) bool {
	home := d.m.State("gpg")
	if err := os.MkdirAll(home, 0o700); err != nil {
		return false
	}
	defer os.RemoveAll(home)
	listed, err := d.m.Run(ctx, nil, "gpg", "--homedir", home, "--batch", "--with-colons", "--show-keys", file)
	return err == nil && strings.HasPrefix(string(listed), "pub:e:")
}

// Disabled lists repositories that are switched off.
func (d dnf) Disabled() []string {
	var out []string
	files, _ := filepath.Glob(d.m.Path("/etc/yum.repos.d/*.repo")) // the pattern is sound
	for _, f := range files {
		b, err := d.m.Read("/etc/yum.repos.d/" + path.Base(f))
		if err != nil {
			continue
		}
		repo := ""
		for _, line := range strings.Split(string(b), "\n") {
			line = strings.TrimSpace(line)
			if strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]") {
				repo = strings.Trim(line, "[]")
			}
			if k, v, ok := strings.Cut(line, "="); ok && strings.TrimSpace(k) == "enabled" && strings.TrimSpace(v) == "0" && repo != "" {
				out = append(out, repo+" ("+path.Base(f)+")")
			}
		}
	}
	return out
}

// SourceTrouble says in words what a package manager has against a source; "" when
// its output is of something else. The marks are those of gpgv and of the
// managers, which are told to speak English.
func SourceTrouble(output string) (what, fix string) {
	has := func(marks ...string) bool {
		for _, m := range marks {
			if strings.Contains(output, m) {
				return true
			}
		}
		return false
	}
	switch {
	case has("EXPKEYSIG", "KEYEXPIRED", "key expired", "key has expired", "expired on"):
		return "its signing key has expired", "get the key that the source signs with now, and declare that"
	case has("NO_PUBKEY", "public key is not available", "BADSIG", "GPG check FAILED", "Public key for", "GPG key retrieval failed", "not signed with the installed", "invalid key", "repomd.xml GPG signature verification error"):
		return "it is signed with another key than the one declared", "compare the key with what the source's owner says, and declare the right one"
	case has("is not signed", "no longer signed"):
		return "it is not signed", "ask the source's owner for a signed one"
	case has("not valid yet", "is not yet valid"):
		return "it is signed in the future as this host's clock has it", "set the host's clock"
	case has("Could not resolve", "Temporary failure resolving", "Couldn't resolve host", "Could not connect", "Connection refused", "connection timed out", "Connection timed out", "Unable to connect", "Couldn't connect", "Failed to connect", "Network is unreachable", "No route to host"):
		return "it cannot be reached", "check the URL, and the host's way to it"
	case has("404  Not Found", "404 Not Found", "Status code: 404", "does not have a Release file", "Status code: 4"):
		return "there is no such source at its URL", "check the URL, the suites and the parts"
	}
	return "", ""
}
