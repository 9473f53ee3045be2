package work

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"northstake/host/system/systemtest"
)

// A former file of root's that lies below a user's directory by now is not put back there, and holds
// up nothing: it is kept, and the run says where (B3).
func TestWhatIsNotTheirsIsKept(t *testing.T) {
	m := folder(t)
	for dir := m.Root; len(dir) > len("/tmp"); dir = dir[:strings.LastIndexByte(dir, '/')] {
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	systemtest.Put(t, m.Machine, "/srv/tides/tables", "roots")
	before, err := m.KeepFile("/srv/tides/tables")
	if err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m.Machine, "/srv/tides/tables", "tide")
	if err := os.Chown(m.Path("/srv/tides"), 4242, 4242); err != nil {
		t.Fatalf("these tests give files to others, and so run as root: %v", err)
	}
	var said string
	done, err := takeBack(m, Job{Run: "1", Number: 2, Say: func(format string, args ...any) { said += fmt.Sprintf(format, args...) }}, before, []byte("tide"), "")
	if err != nil || done {
		t.Fatalf("taken back: %t, %v", done, err)
	}
	if !strings.Contains(said, "nothing that is not theirs is put back there; what was there before is kept in") {
		t.Errorf("it says %q", said)
	}
	if kept, err := os.ReadFile(m.State("former", "1-2", "srv/tides/tables")); err != nil || string(kept) != "roots" {
		t.Errorf("kept is %q, %v", kept, err)
	}
	if now, err := os.ReadFile(m.Path("/srv/tides/tables")); err != nil || string(now) != "tide" {
		t.Errorf("there is %q, %v", now, err)
	}
}
