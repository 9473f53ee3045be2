package family

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

type aptSources struct{ apt }

func (a apt) Sources() SourceForm { return aptSources{a} }

// Files writes a source in the form of sources.list(5), deb822 with Signed-By.
func (aptSources) Files(w wire.SourceWant) []wire.SourceFile {
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
	return []wire.SourceFile{{Path: wire.Path(key), Text: w.Key}, {Path: wire.Path(aptSourceFile(w.Name)), Text: []byte(b.String())}}
}

// Sound asks apt-get(8), which refuses two entries for one URL that contradict each other.
func (a aptSources) Sound(ctx context.Context) error {
	_, err := a.targets(ctx)
	return err
}

// Listed asks apt-get(8) which lists it has.
func (a aptSources) Listed(ctx context.Context, name string) (bool, error) {
	listed, err := a.targets(ctx)
	return slices.Contains(strings.Fields(listed), aptSourceFile(name)), err
}

// targets are the files of sources whose lists of packages are there, each as often as it
// has lists. The error is what apt has against its sources.
func (a aptSources) targets(ctx context.Context) (string, error) {
	key := ""
	files := []string{"/etc/apt/sources.list", "/etc/apt/sources.list.d", "/var/lib/apt/lists"}
	entries, err := os.ReadDir(a.m.Path(wire.Path(files[1])))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	for _, e := range entries {
		files = append(files, files[1]+"/"+e.Name())
	}
	for _, p := range files {
		key += a.m.FileKey(wire.Path(p)) + p
	}
	type answer struct{ listed, against string }
	said, err := system.Cached(a.m, "sources listed", key, func() (answer, error) {
		out, err := a.m.Run(ctx, nil, "apt-get", "-q", "indextargets", "--format", "$(SOURCESENTRY)", "Created-By: Packages")
		var failed *system.Failed
		if errors.As(err, &failed) {
			return answer{against: failed.Output}, nil
		}
		// An entry is told by its file and its number in it.
		return answer{listed: entryNumber.ReplaceAllString(string(out), "")}, err
	})
	if err == nil && said.against != "" {
		err = errors.New(said.against)
	}
	return said.listed, err
}

var entryNumber = regexp.MustCompile(`(?m):\d+$`)

func aptSourceFile(name string) string {
	return "/etc/apt/sources.list.d/northstake-" + name + ".sources"
}

func (a aptSources) Read(ctx context.Context, name string) error {
	return a.run(ctx, "update", "-o", "Dir::Etc::sourcelist="+aptSourceFile(name), "-o", "Dir::Etc::sourceparts=-", "-o", "APT::Get::List-Cleanup=0",
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
func deb822(m *system.Machine, file string) []map[string]string {
	b, err := m.Read(m.Own(file))
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
