package claim

import "testing"

// Paths that are none, as a declaration with mistakes may have them, are compared to an end.
func TestClaimsOfNoPathsEnd(t *testing.T) {
	for _, what := range []string{"", ".", "srv/www", "../x", "/", "//", "/srv/www"} {
		if c := Conflicts([]Claim{{Need: Owns, Sort: Path, What: what, By: "file/a"}, {Need: Owns, Sort: Tree, What: what, By: "content/b"}}); len(c) == 0 {
			t.Errorf("two claims of %q do not exclude each other", what)
		}
	}
}
