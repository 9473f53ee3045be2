package family

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

type dnfSources struct{ dnf }

func (d dnf) Sources() SourceForm { return dnfSources{d} }

// Files writes a source in the form of dnf.conf(5), [repo] options.
func (dnfSources) Files(w wire.SourceWant) []wire.SourceFile {
	key := "/etc/pki/rpm-gpg/northstake-" + w.Name
	var b strings.Builder
	fmt.Fprintf(&b, "# North Stake writes this file.\n[northstake-%s]\nname=%s, declared to North Stake\nbaseurl=%s\nenabled=1\ngpgcheck=1\n", w.Name, w.Name, w.URL)
	if w.SignedLists {
		b.WriteString("repo_gpgcheck=1\n")
	}
	fmt.Fprintf(&b, "gpgkey=file://%s\n", key)
	return []wire.SourceFile{{Path: wire.Path(key), Text: w.Key}, {Path: wire.Path("/etc/yum.repos.d/northstake-" + w.Name + ".repo"), Text: []byte(b.String())}}
}

// Sound has nothing to say: of two sources of one URL dnf takes both.
func (dnfSources) Sound(context.Context) error { return nil }

// Listed is always so: dnf reads what it needs and has not.
func (dnfSources) Listed(context.Context, string) (bool, error) { return true, nil }

func (d dnfSources) Read(ctx context.Context, name string) error {
	// Its quiet form keeps back why a source cannot be read.
	_, err := d.m.Run(ctx, nil, "dnf", "-y", "--disablerepo=*", "--enablerepo=northstake-"+name, "--setopt=timeout=10", "--setopt=retries=1", "--refresh", "makecache")
	var failed *system.Failed
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
		b, err := d.m.Read(wire.Path("/etc/yum.repos.d/" + path.Base(f)))
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
