package engine

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"path"
	"strings"
	"testing"

	"github.com/moby/moby/api/types/container"

	"northstake/core/wire"
)

// What the rod keeps in a container, and what is there for a while, goes into no image, however
// the engine writes its path; all else does, byte by byte.
func TestAnImageHasNothingOfTheRod(t *testing.T) {
	var in bytes.Buffer
	w := tar.NewWriter(&in)
	add := func(h tar.Header, text string) {
		t.Helper()
		h.Size = int64(len(text))
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, text); err != nil {
			t.Fatal(err)
		}
	}
	dropped := []string{"var/lib/northstake/journal/7/0001.json", "./var/lib/northstake/rod/ab", "/var/lib/northstake/x", "var//lib/northstake/y", "var/lib/../lib/northstake/z", "run/secret", "tmp/a", "var/tmp/b"}
	for _, name := range dropped {
		add(tar.Header{Name: name, Mode: 0o600}, "low-tide-77")
	}
	add(tar.Header{Name: "etc/link", Typeflag: tar.TypeLink, Linkname: "var/lib/northstake/x"}, "")
	kept := map[string]string{"var/lib/northstakes": "theirs", "etc/motd": "Kept by North Stake.\n", "srv/www/index.html": strings.Repeat("x", 70_000), "running/man": "y"}
	for name, text := range kept {
		add(tar.Header{Name: name, Mode: 0o644}, text)
	}
	add(tar.Header{Name: "var/lib/northstake/", Typeflag: tar.TypeDir, Mode: 0o700}, "")
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := withoutOwn(&in, &out); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(out.String(), "low-tide-77") || strings.Contains(out.String(), "etc/link") {
		t.Error("the image has what is the rod's own")
	}
	found := 0
	for r := tar.NewReader(&out); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if want, ok := kept[h.Name]; ok {
			found++
			if string(text) != want {
				t.Errorf("%s has %d bytes, not %d", h.Name, len(text), len(want))
			}
		}
	}
	if found != len(kept) {
		t.Errorf("%d of %d files are kept", found, len(kept))
	}
	if err := withoutOwn(strings.NewReader("no tar at all, which an engine may send as well"+strings.Repeat("!", 600)), io.Discard); err == nil {
		t.Error("what is no tar is taken for one")
	}
}

// No path of a tar leads what is the rod's own past the look at it.
func FuzzIsKept(f *testing.F) {
	for _, name := range []string{"var/lib/northstake/x", "./var/lib/northstake/x", "//run/../var/lib/northstake/x", "etc/motd", "", "..", "var/lib/northstake"} {
		f.Add(name)
	}
	f.Fuzz(func(t *testing.T, name string) {
		if clean := path.Clean("/" + name); isKept(name) && strings.HasPrefix(clean, "/var/lib/northstake/") {
			t.Errorf("%q is kept, and is %s", name, clean)
		}
	})
}

// The settings of a container go along as instructions of which a value cannot make another, and
// variables that may hold secrets do not.
func TestWhatAnImageIsToldOfItsContainer(t *testing.T) {
	i := Inspected{is: container.InspectResponse{Config: &container.Config{Entrypoint: []string{"/bin/sh"}, Cmd: []string{"-c", "echo \"a\nUSER root\""}, User: "tides\nUSER root", Env: []string{"PATH=/bin", "TOKEN=low-tide-77"}}}}
	got := i.changes(wire.ActWant{Ground: "saltmarsh", Host: "berth", Revision: 3})
	for _, line := range got {
		if strings.ContainsAny(line, "\n\r") || strings.Contains(line, "low-tide-77") {
			t.Errorf("an instruction is %q", line)
		}
	}
	for _, want := range []string{"LABEL northstake.host=berth", "LABEL northstake.revision=3", `ENTRYPOINT ["/bin/sh"]`, "ENV PATH=/bin", "USER tidesUSER root"} {
		if !strings.Contains(strings.Join(got, "\n"), want) {
			t.Errorf("%s is not among %q", want, got)
		}
	}
}
