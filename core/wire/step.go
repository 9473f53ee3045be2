package wire

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// Digest is what makes two steps the same step: where and what, not the words.
func (s Step) Digest() string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\x00%s\x00", s.Address, s.Verb)
	h.Write(JSON(s.Work))
	return hex.EncodeToString(h.Sum(nil))
}

// Step is one thing to be done on a place. Steps are numbered from 1 on each
// of them. Also are the addresses of other stakes that it brings about.
type Step struct {
	Number  int      `json:"number"`
	Place   string   `json:"host"`
	Address string   `json:"name"`
	Also    []string `json:"also,omitempty"`
	Type    string   `json:"type"`
	Name    string   `json:"subject"`
	Move

	// AlsoAt are paths on the host that it changes and none of its stakes is called by.
	AlsoAt []Path `json:"also_at,omitempty"`

	// RestsOn are fingerprints of what was found, by the addresses of the stakes.
	RestsOn map[string]string `json:"rests_on,omitempty"`
}

// Addresses are the stakes that the step brings about.
func (s Step) Addresses() []string { return append([]string{s.Address}, s.Also...) }

// Shares says whether two steps bring about a stake in common.
func (s Step) Shares(o Step) bool {
	return slices.ContainsFunc(s.Addresses(), func(a string) bool { return slices.Contains(o.Addresses(), a) })
}

// Touches says whether a step has to do with what one did that could not be taken back: the same
// stake, a path and what lies below it, or the packages of a host, which change together.
func (s Step) Touches(stuck StuckStep) bool {
	if s.Type == "package" && stuck.Type == "package" {
		return true
	}
	if slices.ContainsFunc(s.Addresses(), func(a string) bool { return slices.Contains(stuck.Stakes, a) }) {
		return true
	}
	return slices.ContainsFunc(s.Paths(), func(a Path) bool { return slices.ContainsFunc(stuck.Paths, a.Meets) })
}

// Paths are the paths on the host that the step changes: those that its stakes are called by, and AlsoAt.
func (s Step) Paths() []Path {
	var out []Path
	for _, a := range s.Addresses() {
		if _, p, ok := strings.Cut(a, "/"+s.Type+"/"); ok && strings.HasPrefix(s.Name, "/") {
			p, _, _ = strings.Cut(p, ":") // of a portion, its file
			out = append(out, Path("/"+p))
		}
	}
	return append(out, s.AlsoAt...)
}
