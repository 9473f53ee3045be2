package publish

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// Bytes that are not the ones they are named by are not taken.
func TestBlobsAreChecked(t *testing.T) {
	m := systemtest.Folder(t)
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
	w := wire.ContentWork{ContentWant: wire.ContentWant{Root: "/srv/none", Files: []wire.File{{Path: "a", Size: 5, SHA256: hash("right")}}}}
	if lacks, err := Missing(m, w); err != nil || len(lacks) > 0 {
		t.Errorf("what is there is missing: %q, %v", lacks, err)
	}
	if err := os.WriteFile(blobFile(m, hash("right")), make([]byte, 5), 0o600); err != nil { // as a power cut may leave it
		t.Fatal(err)
	}
	if lacks, err := Missing(m, w); err != nil || len(lacks) != 1 {
		t.Errorf("other bytes of the same length are taken for what was sent: %q, %v", lacks, err)
	}
}

// What was sent is moved into place, and a file that has a label of where it lay is
// copied instead: its own directory gives it another.
func TestBlobsAreMovedUnlessTheyHaveALabel(t *testing.T) {
	m := systemtest.Folder(t)
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
		f := wire.File{Path: c.text, Size: int64(len(c.text)), SHA256: hash(c.text)}
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
		m := &system.Machine{Root: t.TempDir(), StateDir: "/s"}
		_ = Receive(m, strings.NewReader(string(b)))
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
