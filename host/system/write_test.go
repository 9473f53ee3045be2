package system_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// Files that are written together are all there, with their modes, or none of them is.
func TestFilesThatAreWrittenTogether(t *testing.T) {
	m := systemtest.Folder(t)
	systemtest.Put(t, m, "/etc/passwd", "root:x:0:0::/root:/bin/sh\n")
	systemtest.Put(t, m, "/etc/group", "root:x:0:\n")
	var files []system.NewFile
	for i := range 100 {
		files = append(files, system.NewFile{Path: wire.Path(fmt.Sprintf("/etc/webd/d%d/f%d", i%3, i)), Text: []byte(fmt.Sprint("text ", i)), Mode: 0o640, Owners: wire.Administrators})
	}
	if err := m.WriteTogether(files); err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		b, err := os.ReadFile(m.Path(f.Path))
		s, err2 := os.Stat(m.Path(f.Path))
		if err != nil || err2 != nil || string(b) != string(f.Text) || s.Mode().Perm() != f.Mode {
			t.Errorf("%s is %q, %v, %v", f.Path, b, err, err2)
		}
	}
	for i := range files {
		files[i].Text = []byte("other")
	}
	files[60].Owner = "nobody-here"
	if err := m.WriteTogether(files); err == nil || !strings.Contains(err.Error(), "nobody-here") {
		t.Errorf("an owner that is not there: %v", err)
	}
	left := 0
	for i := range 3 {
		entries, err := os.ReadDir(m.Path(wire.Path(fmt.Sprintf("/etc/webd/d%d", i))))
		if err != nil {
			t.Fatal(err)
		}
		left += len(entries)
	}
	if b, err := os.ReadFile(m.Path(files[3].Path)); err != nil || string(b) != "text 3" || left != 100 {
		t.Errorf("after that there are %d files, and one holds %q, %v", left, b, err)
	}
}

// Where nothing can be written that is told of the place, and of no name that nobody knows (K11).
func TestWhereNothingCanBeWritten(t *testing.T) {
	err := system.WriteAtomically("/proc/self/motd", []byte("x"), 0o644)
	if err == nil || !strings.Contains(err.Error(), "write /proc/self/motd: ") || strings.Contains(err.Error(), ".northstake") {
		t.Errorf("it says %v", err)
	}
}
