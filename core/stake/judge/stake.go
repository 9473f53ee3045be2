// Package judge holds how readings of each kind of stake compare with what is wanted, and which moves would make
// it so, one file each.
package judge

import (
	"fmt"

	"northstake/core/stake"
	"northstake/core/wire"
)

// leaving are the wants of the stakes of a type, among those that the same plan takes away, or that wait.
func leaving[W any](gone []stake.Stake, typ string, memo *wire.Memo) []W {
	var out []W
	for _, w := range stake.Of[W](gone, typ, memo) {
		out = append(out, w)
	}
	return out
}

type differences []wire.Difference

// add compares two values that are their own words.
func (d *differences) add(attribute, wanted, found string) {
	if wanted != found {
		d.differ(attribute, wanted, found)
	}
}

// differ notes a difference that was found in values; the words are for people.
func (d *differences) differ(attribute, wanted, found string) {
	*d = append(*d, wire.Difference{Attribute: attribute, Wanted: wanted, Found: found})
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
