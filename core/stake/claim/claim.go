// Package claim finds what excludes each other among what stakes need on one host.
package claim

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/wire"
)

// Claim is what a declared thing needs on a host. Two claims that exclude each other
// cannot both be met.
type Claim struct {
	Need string           `json:"need"` // one of Owns, Requires and Leaves
	Sort string           `json:"type"` // one of ClaimPath and the like
	What string           `json:"what"`
	But  []string         `json:"but,omitempty"`  // of a tree, patterns of paths in it that are not claimed
	Dir  bool             `json:"dir,omitempty"`  // of a path, that it is a directory, in which others can own things
	With string           `json:"with,omitempty"` // claims that have this in common do not exclude each other
	By   string           `json:"by"`             // the stake's name on its host
	From declare.Position `json:"from,omitzero"`
}

// What a claim needs of a thing.
const (
	Owns     = "own"   // it is made and kept by the stake, and by no other
	Requires = "find"  // it has to be there
	Leaves   = "leave" // it has to be left alone, or gone
)

// What claims are about.
const (
	Path      = "path"    // one path
	Tree      = "tree"    // a path with all below it
	Package   = "package" // by its name on the host
	Service   = "service"
	Port      = "port"      // "80/tcp"
	Name      = "name"      // that visitors ask for, with the port: "tides.test:80"
	Listen    = "listen"    // a port that a program listens on: "80/tcp"
	Source    = "source"    // the URL of a package source
	Account   = "account"   // of a user, with the group of its name
	Container = "container" // by its name on the engine
	Image     = "image"     // by its name in a registry
)

// IsThing says whether a claim is about something that lies on a host, and not about what
// is served there.
func (c Claim) IsThing() bool {
	return c.Sort != Name && c.Sort != Listen && c.Sort != Port
}

// path is what a claim of a path or a tree is about.
func (c Claim) path() wire.Path { return wire.Path(c.What) }

// Owner claims the account that a thing belongs to, unless that is root's.
func Owner(o wire.Owners) []Claim {
	var out []Claim
	for _, name := range []string{o.Owner, o.Group} {
		if name != "" && name != wire.Administrators.Owner && (len(out) == 0 || out[0].What != name) {
			out = append(out, Claim{Need: Requires, Sort: Account, What: name})
		}
	}
	return out
}

// Conflict is two claims of one host that exclude each other, the later declared one last.
type Conflict struct {
	A, B Claim
	What string
	Fix  string
}

// Conflicts finds what excludes each other among the claims of one host.
func Conflicts(claims []Claim) []Conflict {
	var all conflicts
	paths := all.taken(claims)
	left := map[thing]Claim{}
	for _, c := range claims {
		if c.Need == Leaves {
			left[thing{c.Sort, c.What}] = c
		}
	}
	for _, c := range claims {
		if gone, ok := left[thing{c.Sort, c.What}]; ok && c.Need != Leaves {
			all.say(gone, c, "keep one of the two", "%s is to be gone, and %s needs it", gone.By, c.By)
		}
		if c.Need == Owns && c.lies() {
			all.below(c, paths)
		}
	}
	slices.SortStableFunc(all, func(a, b Conflict) int {
		return cmp.Or(cmp.Compare(a.B.From.File, b.B.From.File), cmp.Compare(a.B.From.Line, b.B.From.Line))
	})
	return all
}

// thing is what claims are about.
type thing struct{ sort, what string }

// lies says whether a claim is of a place in the file system.
func (c Claim) lies() bool { return c.Sort == Path || c.Sort == Tree }

// conflicts gathers what excludes each other.
type conflicts []Conflict

func (all *conflicts) say(a, b Claim, fix, what string, args ...any) {
	if a.By == b.By || a.With != "" && a.With == b.With {
		return
	}
	if Later(a.From, b.From) {
		a, b = b, a
	}
	*all = append(*all, Conflict{a, b, fmt.Sprintf(what, args...), fix})
}

// taken adds what two claim as their own, and returns who has each path.
func (all *conflicts) taken(claims []Claim) map[wire.Path]Claim {
	owned, paths := map[thing]Claim{}, map[wire.Path]Claim{}
	for _, c := range claims {
		if c.Need != Owns {
			continue
		}
		if c.lies() {
			if first, taken := paths[c.path()]; taken {
				all.say(first, c, "keep one of the two, or give one another path", "%s and %s are both about %s", first.By, c.By, c.What)
			} else {
				paths[c.path()] = c
			}
			continue
		}
		at := thing{c.Sort, c.What}
		if first, taken := owned[at]; taken {
			all.say(first, c, "keep one of the two, or make them differ", "%s and %s both claim %s %s", first.By, c.By, c.Sort, c.What)
			continue
		}
		owned[at] = c
	}
	return paths
}

// below adds what somebody else makes of a directory in which a claimed path lies.
func (all *conflicts) below(c Claim, paths map[wire.Path]Claim) {
	for up := c.path().Dir(); up != "/" && up != "."; up = up.Dir() {
		above, ok := paths[up]
		switch {
		case !ok || above.Dir:
		case above.Sort == Tree && wire.Kept(above.But, strings.TrimPrefix(c.What, string(up)+"/")) == "":
			all.say(above, c, fmt.Sprintf("name it in left_alone of what is published at %s, or put it elsewhere", up), "%s lies in %s, which %s publishes as a whole", c.By, up, above.By)
		case above.Sort == Path:
			all.say(above, c, "put it elsewhere", "%s lies below %s, which %s makes something else than a directory", c.By, up, above.By)
		}
	}
}

// Later says whether something is declared behind something else.
func Later(a, b declare.Position) bool {
	return a.File == b.File && a.Line > b.Line || a.File > b.File
}
