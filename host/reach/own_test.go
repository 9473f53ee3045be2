package reach

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// The rod of the service's own machine is taken only from where nobody else can have put it (B4).
func TestTheOwnRodLiesWhereOnlyItsUserCanWrite(t *testing.T) {
	base := t.TempDir()
	me, other := os.Geteuid(), 4242
	at := func(name string, mode os.FileMode, uid int) string {
		t.Helper()
		p := filepath.Join(base, name)
		if err := os.MkdirAll(p, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(p, mode); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(p, uid, -1); err != nil {
			t.Fatalf("this test gives directories away, and so runs as root: %v", err)
		}
		return p
	}
	for name, c := range map[string]struct {
		dir   string
		alone bool
	}{
		"one's own":         {at("own", 0o700, me), true},
		"open to all":       {at("open", 0o777, me), false},
		"open to a group":   {at("group", 0o770, me), false},
		"of all, sticky":    {at("sticky", os.ModeSticky|0o777, me), false},
		"below one of all":  {at("open/mine", 0o700, me), false},
		"below a sticky":    {at("sticky/mine", 0o700, me), true},
		"another's":         {at("theirs", 0o700, other), false},
		"below another's":   {at("theirs/mine", 0o700, me), false},
		"that is not there": {filepath.Join(base, "none"), false},
	} {
		if err := ownAlone(c.dir, me); (err == nil) != c.alone {
			t.Errorf("%s: %v", name, err)
		}
	}
	link := filepath.Join(base, "link")
	if err := os.Symlink(filepath.Join(base, "open"), link); err != nil {
		t.Fatal(err)
	}
	if err := ownAlone(link, me); err == nil || !strings.Contains(err.Error(), "open") {
		t.Errorf("a link to one of all: %v", err)
	}

	program := []byte("a rod")
	rod := filepath.Join(base, "own", "rod")
	for name, c := range map[string]struct {
		put func() error
		is  bool
	}{
		"itself":             {func() error { return os.WriteFile(rod, program, 0o700) }, true},
		"another text":       {func() error { return os.WriteFile(rod, []byte("evil"), 0o700) }, false},
		"writable for all":   {func() error { return errors.Join(os.WriteFile(rod, program, 0o700), os.Chmod(rod, 0o777)) }, false},
		"another's":          {func() error { return errors.Join(os.WriteFile(rod, program, 0o700), os.Chown(rod, other, -1)) }, false},
		"a link to such one": {func() error { return errors.Join(os.WriteFile(rod+"2", program, 0o700), os.Symlink(rod+"2", rod)) }, false},
		"nothing":            {func() error { return nil }, false},
	} {
		os.Remove(rod)
		if err := c.put(); err != nil {
			t.Fatal(err)
		}
		if isRod(rod, program) != c.is {
			t.Errorf("%s is taken: %t", name, !c.is)
		}
	}
}
