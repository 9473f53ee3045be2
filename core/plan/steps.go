package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"northstake/core/stake"
)

// Step is one thing to be done on a host. Steps are numbered from 1 on each
// host. Also are the addresses of other stakes that it brings about.
type Step struct {
	Number  int      `json:"number"`
	Host    string   `json:"host"`
	Address string   `json:"name"`
	Also    []string `json:"also,omitempty"`
	Type    string   `json:"type"`
	Name    string   `json:"subject"`
	stake.Move

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
func (s Step) Touches(stuck stake.Stuck) bool {
	if s.Type == "package" && stuck.Type == "package" {
		return true
	}
	if slices.ContainsFunc(s.Addresses(), func(a string) bool { return slices.Contains(stuck.Stakes, a) }) {
		return true
	}
	return slices.ContainsFunc(s.Paths(), func(a string) bool {
		return slices.ContainsFunc(stuck.Paths, func(b string) bool {
			return a == b || strings.HasPrefix(a, b+"/") || strings.HasPrefix(b, a+"/")
		})
	})
}

// Paths are the paths on the host that the step changes: those that its stakes are called by, and those
// that its kind knows of.
func (s Step) Paths() []string {
	var out []string
	for _, a := range s.Addresses() {
		if _, p, ok := strings.Cut(a, "/"+s.Type+"/"); ok && strings.HasPrefix(s.Name, "/") {
			p, _, _ = strings.Cut(p, ":") // of a portion, its file
			out = append(out, "/"+p)
		}
	}
	if kind, err := stake.KindOf(s.Type); err == nil && kind.Paths != nil {
		out = append(out, kind.Paths(s.Work)...)
	}
	return out
}

// join makes one step of steps of one kind that follow one another and can be made
// together.
func join(steps []Step) ([]Step, error) {
	out := []Step{}
	for i := 0; i < len(steps); {
		n := i + 1
		for steps[i].Joins && n < len(steps) && steps[n].Joins && steps[n].Type == steps[i].Type {
			n++
		}
		one := steps[i]
		if n > i+1 {
			kind, err := stake.KindOf(one.Type)
			if err != nil {
				return nil, err
			}
			if kind.Join == nil {
				return nil, fmt.Errorf("moves of kind %s cannot be joined", one.Type)
			}
			var moves []stake.Move
			for _, s := range steps[i:n] {
				moves = append(moves, s.Move)
				if s.Address != one.Address {
					one.Also = append(one.Also, s.Address)
				}
				maps.Copy(one.RestsOn, s.RestsOn)
			}
			one.Move = kind.Join(moves)
		}
		out = append(out, one)
		i = n
	}
	return out, nil
}

func (j judged) step(m stake.Move) Step {
	s := j.stake
	kind, _ := stake.KindOf(s.Type) // it has been judged by it
	return Step{Host: s.Host, Address: s.Address(), Type: s.Type, Name: s.Name, Move: m, RestsOn: map[string]string{s.Address(): fingerprint(j.input.Found, append([]string{"touched"}, kind.Passing...))}}
}

// fingerprint is what makes two readings the same finding: their values, not when somebody
// touched a thing without changing it.
func fingerprint(found json.RawMessage, passing []string) string {
	var v any
	if json.Unmarshal(found, &v) != nil {
		return ""
	}
	sum := sha256.Sum256(stake.JSON(without(v, passing)))
	return hex.EncodeToString(sum[:])
}

// without leaves some keys out, however deep.
func without(v any, keys []string) any {
	switch v := v.(type) {
	case map[string]any:
		for _, k := range keys {
			delete(v, k)
		}
		for k := range v {
			v[k] = without(v[k], keys)
		}
	case []any:
		for i := range v {
			v[i] = without(v[i], keys)
		}
	}
	return v
}
