package stake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Kind is one kind of stake: how it is declared, what is wanted and what that claims; and, by its Judgement,
// how a reading compares with it. All functions are pure: the same input gives the same output. What a kind
// has no use for is nil.
type Kind struct {
	Type string
	Of   string // the sort of place that it is of, "" for hosts

	// After are the types whose stakes are brought about before its own.
	After []string

	// Settings are the keys of kits and hosts by which it is declared. Check says what is
	// wrong with those of one kit or host, whose keys are given; CheckPlace, where all else
	// is sound, with what one place makes of them.
	Settings   []declare.Setting
	Check      func(c *check.Checker, s declare.Settings, at []string)
	CheckPlace func(c *check.Checker, place string)

	// Rehearsal declares one in a kit, in TOML, for the tests that interrupt every step.
	// In it {url} is where packages lie that the key files/ferries.asc signs. A kind that
	// only sites imply, or that is no lasting state, has none.
	Rehearsal string

	// Wanted wants on a host what is declared there; Implied, when that is done for all
	// kinds, what follows of it for others; and Finish adds the stakes of what was
	// gathered from several.
	Wanted  func(w *Wanting) error
	Implied func(w *Wanting) error
	Finish  func(w *Wanting)

	// Claims are what a stake of the kind needs to own, to find, or to have left alone.
	Claims func(s Stake) []claim.Claim

	// Former brings what a release before kept of a wanted stake into today's form; nil for kinds
	// whose form is what it was.
	Former func(want map[string]json.RawMessage)

	// Unsealed puts what secrets hold into what is wanted, or into the work of a step, on its
	// way to the host; nil for kinds that want nothing of secrets.
	Unsealed func(raw json.RawMessage, secrets *Secrets) (json.RawMessage, error)

	// Dials are the TCP ports to which a connection from outside says whether what is
	// wanted holds, where something listens there.
	Dials func(want json.RawMessage) []int

	// Gathers says that the stakes that are parts of its own, of the same site, are brought about right before them.
	Gathers bool

	Judgement
}

// Judgement is how a reading of a kind compares with what is wanted of it, and what a plan makes of that. What a
// kind has no use for is nil.
type Judgement struct {
	// Asked is what a host is asked to read for what is wanted, after last, nil for never,
	// was brought about; nil asks for what is wanted.
	Asked func(want, last json.RawMessage) json.RawMessage

	// Judge compares a reading with what is wanted.
	Judge func(in Input) (Verdict, error)

	// Nudged is the move that in.Nudges call for, for a stake that needs no move of its
	// own; nil when there is nothing to do.
	Nudged func(in Input) (*wire.Move, error)

	// Join makes one move of several that join, which stand in their order.
	Join func(moves []wire.Move) wire.Move

	// Within says whether work that a run would do now was shown by what was planned, of
	// which a part may be done already. Where it is nil the two have to be the same.
	Within func(planned, now json.RawMessage) bool

	// Paths are the paths on the host that a step's work changes and its stakes are not called by;
	// nil for none.
	Paths func(work json.RawMessage) []wire.Path

	// MayCutAccess says whether a step, by the name of its stake and its work, can shut the way in to its host, beside
	// what it does at its paths. Steps of a kind that says nothing of it are held, all of them.
	MayCutAccess func(access *wire.Access, name string, work json.RawMessage) bool

	// Nothing says whether what is wanted is that something be gone, or stopped; nil where that is never wanted.
	Nothing func(want json.RawMessage) bool

	// Off are the packages that a step's work takes off; nil for kinds that take none.
	Off func(work json.RawMessage) []string

	// Elsewhere is what was brought about for former and would stay when what is wanted now
	// is brought about, because that lies elsewhere; nil for nothing.
	Elsewhere func(former, now json.RawMessage) json.RawMessage

	// Unwanted says why something that was brought about, and is not declared any more, has
	// to go for the sake of what is declared, and for which stake of that: "" where it need
	// not.
	Unwanted func(gone Stake, in Surroundings) (why, forStake string)

	// AskedAway is what a host is asked to read of a stake that is not declared any more, and
	// may go with the plan; nil asks for what was wanted.
	AskedAway func(want json.RawMessage, goes bool) json.RawMessage

	// Away is what takes such a stake away. Holds says that people rely on what it holds even
	// when nobody declares it: it goes only when its stake is named.
	Away  func(in Input) (Verdict, error)
	Holds bool

	// Passing are keys of a reading that change by themselves, such as how much room is left: a plan does not rest
	// on their values.
	Passing []string

	// Holding says that the sites that call for such a stake wait while it is blocked: they
	// would not be reached. Heeding says that its moves are another matter where stakes of
	// other kinds are held up: it is judged again, with those as in.Held.
	Holding, Heeding bool

	// Follows says that readings of the kind change with what steps of others do: a
	// package starts a service.
	Follows bool
}

// Surroundings are what stands beside a stake that is not declared any more. Leaving is what goes
// already.
type Surroundings struct {
	Declared, Leaving []Stake
	Traits            wire.Traits
	Memo              *wire.Memo // may be nil
}

// Asked is what a host is asked to read for a stake.
func Asked(s Stake, last json.RawMessage) json.RawMessage {
	k, err := KindOf(s.Type)
	if err != nil || k.Asked == nil || len(last) == 0 {
		return s.Want
	}
	return k.Asked(s.Want, last)
}

var (
	kinds      = map[string]Kind{}
	judgements = map[string]Judgement{}
)

// Register makes a kind known, but for its Judgement; each kind's file calls it once.
func Register(k Kind) struct{} {
	if _, taken := kinds[k.Type]; taken {
		panic(fmt.Sprintf("two kinds of stake are called %q", k.Type))
	}
	declare.Register(k.Settings...)
	kinds[k.Type] = k
	ordered.Store(nil)
	return struct{}{}
}

// Judged says how readings of a kind are judged; each kind's file of that calls it once.
func Judged(typ string, j Judgement) struct{} {
	if _, taken := judgements[typ]; taken {
		panic(fmt.Sprintf("stakes of type %q are judged twice", typ))
	}
	judgements[typ] = j
	ordered.Store(nil)
	return struct{}{}
}

// IsOf says whether stakes of the kind belong to places of a sort.
func (k Kind) IsOf(sort string) bool { return cmp.Or(k.Of, declare.HostSort) == sort }

// KindOf returns the kind with the given type.
func KindOf(typ string) (Kind, error) {
	if k, ok := kinds[typ]; ok {
		k.Judgement = judgements[typ]
		return k, nil
	}
	return Kind{}, fmt.Errorf("no kind of stake is called %q; there are %s", typ, strings.Join(Types(), ", "))
}

// Types lists the kinds there are, sorted.
func Types() []string { return slices.Sorted(maps.Keys(kinds)) }

// ordered is what InOrder has found; nil before it was asked.
var ordered atomic.Pointer[[]Kind]

// InOrder lists the kinds so that each stands after those whose stakes come first. The
// caller must not change the list.
func InOrder() []Kind {
	if known := ordered.Load(); known != nil {
		return *known
	}
	out, err := inOrder(kinds)
	if err != nil {
		panic(err) // TestKindsHaveAnOrder
	}
	ordered.Store(&out)
	return out
}

// inOrder puts each kind behind those that it comes after. The error names a circle, or a kind that there
// is none of.
func inOrder(kinds map[string]Kind) ([]Kind, error) {
	var out []Kind
	placed := map[string]bool{}
	var place func(typ string, above []string) error
	place = func(typ string, above []string) error {
		if slices.Contains(above, typ) {
			return fmt.Errorf("kinds of stake come after one another in a circle: %s", strings.Join(append(above, typ), ", "))
		}
		if placed[typ] {
			return nil
		}
		above = append(slices.Clone(above), typ)
		for _, before := range kinds[typ].After {
			if _, known := kinds[before]; !known {
				return fmt.Errorf("%s comes after %s, and no kind of stake is called so", typ, before)
			}
			if err := place(before, above); err != nil {
				return err
			}
		}
		placed[typ] = true
		k := kinds[typ]
		k.Judgement = judgements[typ]
		out = append(out, k)
		return nil
	}
	for _, typ := range slices.Sorted(maps.Keys(kinds)) {
		if err := place(typ, nil); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Judging adapts a judge of decoded values.
func Judging[W, F any](judge func(in Input, want W, found F) Verdict) func(Input) (Verdict, error) {
	return func(in Input) (Verdict, error) {
		local := in.Stake.Local()
		want, err := wire.Decode[W](in.Memo, "want "+local, in.Stake.Want)
		if err != nil {
			return Verdict{}, fmt.Errorf("%s: what is wanted cannot be read: %w", in.Stake.Address(), err)
		}
		found, err := wire.Decode[F](in.Memo, "found "+local, in.Found)
		if err != nil {
			return Verdict{}, fmt.Errorf("%s: the reading cannot be understood: %w", in.Stake.Address(), err)
		}
		return judge(in, want, found), nil
	}
}

// Claiming adapts claims of a decoded value.
func Claiming[W any](claims func(want W) []claim.Claim) func(Stake) []claim.Claim {
	return func(s Stake) []claim.Claim {
		var w W
		if json.Unmarshal(s.Want, &w) != nil {
			return nil
		}
		return claims(w)
	}
}

// WantOfBefore is what a release before kept of a wanted stake, in today's form.
func WantOfBefore(typ string, want json.RawMessage) json.RawMessage {
	kind, err := KindOf(typ)
	keys := map[string]json.RawMessage{}
	if err != nil || kind.Former == nil || json.Unmarshal(want, &keys) != nil {
		return want
	}
	before := len(keys)
	was := string(wire.JSON(keys))
	if kind.Former(keys); len(keys) == before && string(wire.JSON(keys)) == was {
		return want
	}
	return wire.JSON(keys)
}
