package stake

import "northstake/core/declare"

// Claim is what a declared thing needs on a host. Two claims that exclude each other
// cannot both be met.
type Claim struct {
	Need string           `json:"need"` // one of Owns, Finds and Leaves
	Sort string           `json:"sort"` // one of ClaimPath and the like
	What string           `json:"what"`
	But  []string         `json:"but,omitempty"` // of a tree, patterns of paths in it that are not claimed
	By   string           `json:"by"`            // the stake's name on its host
	From declare.Position `json:"from,omitzero"`
}

// What a claim needs of a thing.
const (
	Owns   = "own"   // it is made and kept by the stake, and by no other
	Finds  = "find"  // it has to be there
	Leaves = "leave" // it has to be left alone, or gone
)

// What claims are about.
const (
	ClaimPath    = "path"    // one path
	ClaimTree    = "tree"    // a path with all below it
	ClaimPackage = "package" // by its name on the host
	ClaimService = "service"
	ClaimPort    = "port"    // "80/tcp"
	ClaimName    = "name"    // that visitors ask for, with the port: "tides.test:80"
	ClaimAccount = "account" // of a user, with the group of its name
)

// ClaimsOf collects what some stakes of one host claim, in their order.
func ClaimsOf(stakes []Stake) []Claim {
	out := []Claim{}
	for _, s := range stakes {
		k, err := KindOf(s.Type)
		if err != nil || k.Claims == nil {
			continue
		}
		for _, c := range k.Claims(s) {
			c.By, c.From = s.Local(), s.From
			out = append(out, c)
		}
	}
	return out
}

// owner claims the account that a thing belongs to, unless that is root's.
func owner(user, group string) []Claim {
	var out []Claim
	for _, name := range []string{user, group} {
		if name != "" && name != "root" && (len(out) == 0 || out[0].What != name) {
			out = append(out, Claim{Need: Finds, Sort: ClaimAccount, What: name})
		}
	}
	return out
}
