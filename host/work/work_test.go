package work

import (
	"context"
	"testing"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

func TestDirectoryIsMadeAndTakenBack(t *testing.T) {
	m := folder(t)
	systemtest.Put(t, m.Machine, "/srv/keep/me", "x")
	step := wire.Step{Number: 1, Type: "directory", Move: wire.Move{Work: wire.JSON(wire.DirectoryWant{Path: "/srv/a/b/c", Owners: wire.Owners{Owner: "me", Group: "me"}, Mode: "0750"})}}
	if _, err := m.journal().Do(context.Background(), "7", step, func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	if e, err := m.Entry("/srv/a/b/c"); err != nil || e.Kind != "directory" || e.Mode != "0750" {
		t.Errorf("%+v, %v", e, err)
	}
	if err := m.journal().Back(context.Background(), "7", func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	if m.Exists("/srv/a") || !m.Exists("/srv/keep/me") {
		t.Error("what the step made is still there, or more is gone")
	}
}

// folder is a host that is a folder.
func folder(t testing.TB) *Host { return &Host{Machine: systemtest.Folder(t)} }
