package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

type entry struct {
	name, text, link string
	typ              byte // of tar
}

func tarred(t testing.TB, entries ...entry) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, e := range entries {
		typ := e.typ
		if typ == 0 {
			typ = tar.TypeReg
		}
		if err := w.WriteHeader(&tar.Header{Name: e.name, Typeflag: typ, Linkname: e.link, Size: int64(len(e.text)), Mode: 0o644}); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(e.text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func zipped(t testing.TB, entries ...entry) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		h.SetMode(0o644)
		text := e.text
		if e.link != "" {
			h.SetMode(fs.ModeSymlink | 0o777)
			text = e.link
		}
		out, err := w.CreateHeader(h)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := out.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func compressed(t testing.TB, b []byte, open func(io.Writer) (io.WriteCloser, error)) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := open(&out)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write(b); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// unpack unpacks bytes under a name, and returns the files that come out.
func unpack(t testing.TB, name string, b []byte, limits Limits) (map[string]string, error) {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, name)
	if err := os.WriteFile(file, b, 0o644); err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(dir, "in", "out")
	err := Unpack(file, to, limits)
	out := map[string]string{}
	walked := filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || p == file {
			return err
		}
		if !strings.HasPrefix(p, to+"/") || !e.Type().IsRegular() {
			t.Errorf("there is something outside, or no file: %s", p)
		}
		text, err := os.ReadFile(p)
		out[strings.TrimPrefix(p, to+"/")] = string(text)
		return err
	})
	if walked != nil {
		t.Fatal(walked)
	}
	return out, err
}

func listed(files map[string]string) string {
	var out []string
	for p, text := range files {
		out = append(out, p+"="+text)
	}
	sort.Strings(out)
	return strings.Join(out, " ")
}

func TestEverySortOfArchive(t *testing.T) {
	entries := []entry{{name: "site/index.html", text: "tide"}, {name: "./site/a/b.css", text: "ebb"}, {name: "site/now.html", link: "index.html", typ: tar.TypeSymlink}, {name: "up.html", link: "site/now.html", typ: tar.TypeSymlink}}
	plain := tarred(t, append(entries, entry{name: "hard.html", link: "site/index.html", typ: tar.TypeLink}, entry{name: "site/empty/", typ: tar.TypeDir})...)
	gz := func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil }
	x := func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) }
	zs := func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) }
	const want = "site/a/b.css=ebb site/index.html=tide site/now.html=tide up.html=tide"
	for name, b := range map[string][]byte{
		"a.tar": plain, "a.tar.gz": compressed(t, plain, gz), "A.TGZ": compressed(t, plain, gz), "a.tar.xz": compressed(t, plain, x), "a.tar.zst": compressed(t, plain, zs),
		"a.zip": zipped(t, entries...),
	} {
		files, err := unpack(t, name, b, Limits{})
		expect := want
		if name != "a.zip" {
			expect = "hard.html=tide " + want
		}
		if err != nil || listed(files) != expect {
			t.Errorf("%s: %s, %v", name, listed(files), err)
		}
	}
	if _, err := unpack(t, "a.rar", plain, Limits{}); err == nil {
		t.Error("an unknown sort is unpacked")
	}
	if _, err := unpack(t, "a.tar.gz", plain, Limits{}); err == nil {
		t.Error("what is not compressed is uncompressed")
	}
}

// What could do harm is refused, by name, and nothing lands outside.
func TestUnsafeEntriesAreRefusedByName(t *testing.T) {
	for _, c := range []struct {
		entry entry
		why   string
	}{
		{entry{name: "/etc/passwd", text: "x"}, "absolute path"},
		{entry{name: `C:\windows\x`, text: "x"}, "absolute path"},
		{entry{name: "a/../../x", text: "x"}, "leads out"},
		{entry{name: `a\..\..\x`, text: "x"}, "leads out"},
		{entry{name: "a\nb", text: "x"}, "control character"},
		{entry{name: "out", link: "../x", typ: tar.TypeSymlink}, "leads out"},
		{entry{name: "out", link: "/etc/passwd", typ: tar.TypeSymlink}, "leads out"},
		{entry{name: "loop", link: "loop", typ: tar.TypeSymlink}, "back to itself"},
		{entry{name: "nowhere", link: "missing", typ: tar.TypeSymlink}, "no file of the archive"},
	} {
		for name, b := range map[string][]byte{"a.tar": tarred(t, entry{name: "good", text: "g"}, c.entry), "a.zip": zipped(t, entry{name: "good", text: "g"}, c.entry)} {
			_, err := unpack(t, name, b, Limits{})
			var r *Refused
			if !errors.As(err, &r) || r.Entry != c.entry.name || !strings.Contains(r.Why, c.why) {
				t.Errorf("%s with %q: %v", name, c.entry.name, err)
			}
		}
	}
	for typ, what := range map[byte]string{tar.TypeChar: "device", tar.TypeBlock: "device", tar.TypeFifo: "pipe"} {
		_, err := unpack(t, "a.tar", tarred(t, entry{name: "dev/x", typ: typ}), Limits{})
		var r *Refused
		if !errors.As(err, &r) || !strings.Contains(r.Why, what) {
			t.Errorf("a %s: %v", what, err)
		}
	}
}

func TestBombsAreRefused(t *testing.T) {
	zeros := strings.Repeat("0", 1<<20)
	for name, b := range map[string][]byte{
		"a.zip":    zipped(t, entry{name: "a", text: zeros}, entry{name: "b", text: zeros}),
		"a.tar.gz": compressed(t, tarred(t, entry{name: "a", text: zeros}, entry{name: "b", text: zeros}), func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil }),
	} {
		_, err := unpack(t, name, b, Limits{Bytes: 3 << 19})
		var r *Refused
		if !errors.As(err, &r) || r.Entry != "b" || !strings.Contains(r.Why, "unpacks to more") {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := unpack(t, name, b, Limits{Times: 2}); err != nil {
			t.Errorf("%s: a small archive of whatever sort: %v", name, err)
		}
		if _, err := unpack(t, name, b, Limits{Files: 1}); !errors.As(err, &r) || r.Entry != "b" || !strings.Contains(r.Why, "one file more") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What is small and unpacks to much is a bomb; what is large may unpack to as much.
func TestABombIsToldByItsSize(t *testing.T) {
	zeros := strings.Repeat("0", 40<<20)
	two := zipped(t, entry{name: "a", text: zeros}, entry{name: "b", text: zeros})
	var r *Refused
	if _, err := unpack(t, "a.zip", two, Limits{}); !errors.As(err, &r) || r.Entry != "b" || !strings.Contains(r.Why, "200 times the size") {
		t.Errorf("80 MB from %d KB: %v", len(two)>>10, err)
	}
	if _, err := unpack(t, "a.zip", two, Limits{Times: 2000}); err != nil {
		t.Errorf("80 MB from %d KB where that is allowed: %v", len(two)>>10, err)
	}
}

// Whatever bytes come: nothing lands outside, and nothing but files lands inside.
func FuzzUnpack(f *testing.F) {
	f.Add("a.tar", tarred(f, entry{name: "a/b", text: "x"}, entry{name: "l", link: "a/b", typ: tar.TypeSymlink}))
	f.Add("a.zip", zipped(f, entry{name: "a/b", text: "x"}, entry{name: "l", link: "a/b"}))
	f.Add("a.tar.xz", []byte("\xfd7zXZ\x00"))
	f.Add("a.tar.zst", []byte("\x28\xb5\x2f\xfd"))
	f.Fuzz(func(t *testing.T, name string, b []byte) {
		for _, e := range endings {
			for _, s := range e.suffixes {
				if strings.HasSuffix(name, s) {
					limits, bytes := Limits{Files: 50, Bytes: 1 << 20}, 0
					files, _ := unpack(t, "a"+s, b, limits) // which looks for what lies outside
					for _, text := range files {
						bytes += len(text)
					}
					if len(files) > limits.Files || bytes > int(limits.Bytes) {
						t.Errorf("%d files of %d bytes", len(files), bytes)
					}
					return
				}
			}
		}
	})
}
