package wire

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Whether one path lies within another is held against filepath.Rel, for random ones whose names begin alike.
func TestPathsLieWithinOneAnother(t *testing.T) {
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 0))
	names := []string{"srv", "srv2", "www", "w", "www.old", "..a"}
	some := func() Path {
		p := Path("/")
		for range random.IntN(4) {
			p = p.Join(names[random.IntN(len(names))])
		}
		return p
	}
	for range 5000 {
		p, dir := some(), some()
		rel, err := filepath.Rel(string(dir), string(p))
		if err != nil {
			t.Fatal(err)
		}
		within := rel != ".." && !strings.HasPrefix(rel, "../")
		if p.Within(dir) != within || p.Below(dir) != (within && rel != ".") {
			t.Fatalf("seed %d: %s from %s is %s; within %t, below %t", seed, p, dir, rel, p.Within(dir), p.Below(dir))
		}
		if p.Meets(dir) != (p.Within(dir) || dir.Within(p)) || p.Meets(dir) != dir.Meets(p) {
			t.Fatalf("seed %d: %s and %s meet: %t, %t", seed, p, dir, p.Meets(dir), dir.Meets(p))
		}
		if string(p) != "/"+strings.Join(p.Names(), "/") || p != "/" && p.Dir().Join(p.Base()) != p {
			t.Fatalf("seed %d: %s has the names %q, and is %s in %s", seed, p, p.Names(), p.Base(), p.Dir())
		}
	}
}

// Where a link leads is held against the kernel.
func TestLinksLeadWhereTheKernelGoes(t *testing.T) {
	top := Path(t.TempDir())
	if err := os.MkdirAll(string(top.Join("a", "b")), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, to := range []string{"b", "./b", "../a", "../a/b/..", "..", ".", string(top.Join("a")), string(top) + "//a/./b"} {
		link := top.Join("a", "link")
		if err := os.Symlink(to, string(link)); err != nil {
			t.Fatal(err)
		}
		there, err := os.Stat(string(link))
		if err != nil {
			t.Fatal(err)
		}
		said, err := os.Lstat(string(link.Leads(to)))
		if err != nil || !os.SameFile(there, said) {
			t.Errorf("a link to %q leads to %s: %v", to, link.Leads(to), err)
		}
		if err := os.Remove(string(link)); err != nil {
			t.Fatal(err)
		}
	}
}
