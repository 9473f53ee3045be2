package judge

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

// barred is what keeps a thing from being brought about at a path, nil for nothing: it lies on a file
// system that nobody can write to, or where somebody beside root can change it. What is to be that
// user's own is done with that user's rights.
func barred(in stake.Input, e wire.Entry, owner string, path wire.Path) *stake.Note {
	if e.ReadOnly {
		return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s lies on a file system that is mounted read-only", path), Fix: fmt.Sprintf("ask who mounted it so, and why (on %s: findmnt -T %s), or declare another path", in.Stake.Place, path)}
	}
	who, at := e.Under, e.UnderAt
	if who == "" { // nobody can now; but a directory may be declared so that somebody will
		who, at = willChange(in, e, path)
	}
	if who == "" || who == owner {
		return nil
	}
	return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s can change %s, and so what lies at %s: nothing that is not theirs is put there", who, at, path),
		Fix: "let the directories above it be root's and writable for nobody else, or declare " + string(path) + " as their own"}
}

// willChange says who, beside root, can change what lies at a path once the directories above it are as
// they are declared: the outermost of those counts, as on the host.
func willChange(in stake.Input, e wire.Entry, p wire.Path) (who string, at wire.Path) {
	say := func(dir wire.Path, o wire.Owners, mode wire.Mode) {
		bits, err := mode.Bits()
		if !p.Below(dir) || at != "" && len(at) <= len(dir) || err != nil || bits&wire.OwnersRemove != 0 && e.Kind != "" {
			return
		}
		switch {
		case o.Owner != "" && o.Owner != wire.Administrators.Owner:
			who, at = o.Owner, dir
		case bits&wire.GroupWrites != 0 && o.Group != wire.Administrators.Group:
			who, at = "group "+o.Group, dir
		case bits&wire.EveryoneWrites != 0:
			who, at = "everybody", dir
		}
	}
	for _, d := range stake.Of[wire.DirectoryWant](in.Declared, "directory", in.Memo) {
		say(d.Path, d.Owners, d.Mode)
	}
	for _, c := range stake.Of[wire.ContentWant](in.Declared, "content", in.Memo) {
		say(c.Root, c.Owners, cmp.Or(c.Modes.Directories, "0755"))
	}
	return who, at
}

// awayDirectory takes a directory away that holds nothing but what goes before it.
func awayDirectory(in stake.Input, w wire.DirectoryWant, f wire.DirectoryFound) stake.Verdict {
	v := stake.Verdict{Gone: f.Kind == ""}
	switch {
	case v.Gone:
	case f.Kind != wire.EntryDirectory:
		v.Cautions = []stake.Note{stays(in, w.Path)}
	case slices.ContainsFunc(f.Holds, func(name string) bool { return !in.Goes(w.Path.Join(name)) }):
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: string(w.Path) + " holds something, and stays", Fix: "take out what lies there, and it goes with the next plan"}}
	default:
		v.Moves = []wire.Move{{Verb: "take", Text: "take away directory " + string(w.Path), Work: wire.JSON(wire.DirectoryWork{DirectoryWant: w, Away: true})}}
	}
	return v
}

// ownedByNobody is what keeps a thing from being brought about whose owner the host has not,
// nil for nothing: something else may bring the account.
func ownedByNobody(in stake.Input, nobody []string, path wire.Path) *stake.Note {
	if len(nobody) == 0 || in.Pending {
		return nil
	}
	return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("this host has no user or group %s, who is to own %s", strings.Join(nobody, ", "), path), Fix: "declare the account, or a package that brings it"}
}

func compareEntry(d *differences, kind string, owners wire.Owners, mode wire.Mode, e wire.Entry) {
	if e.Kind != kind {
		d.add("what it is", "a "+kind, e.Words())
		return
	}
	compareOwners(d, owners, e)
	d.add("mode", string(mode), string(e.Mode))
}

// compareOwners compares owner and group, as far as they are wanted; one number can have several
// names.
func compareOwners(d *differences, o wire.Owners, e wire.Entry) {
	if o.Owner != "" && !slices.Contains(e.AlsoOwner, o.Owner) {
		d.add("owner", o.Owner, e.Owner)
	}
	if o.Group != "" && !slices.Contains(e.AlsoGroup, o.Group) {
		d.add("group", o.Group, e.Group)
	}
}

var _ = stake.Judged("directory", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	AskedAway: func(want json.RawMessage, _ bool) json.RawMessage {
		w, _ := stake.Decoded[wire.DirectoryWant](want)
		return wire.JSON(wire.DirectoryAsked{DirectoryWant: w, Holds: true})
	},
	Judge: stake.Judging(judgeDirectory),
	Away:  stake.Judging(awayDirectory),
	Join: func(moves []wire.Move) wire.Move {
		var names []string
		for _, m := range moves {
			names = append(names, strings.TrimPrefix(m.Text, "make directory "))
		}
		return joinMoves(moves, count(len(moves), "directory", "directories"), names)
	},
	Within:  worksWithin,
	Passing: []string{"nobody"}, // a step before brings the account
})

func judgeDirectory(in stake.Input, w wire.DirectoryWant, f wire.DirectoryFound) stake.Verdict {
	var d differences
	compareEntry(&d, wire.EntryDirectory, w.Owners, w.Mode, f.Entry)
	v := stake.Verdict{Differences: d, Gone: f.Kind == "", Touched: f.Touched}
	if len(d) == 0 {
		return v
	}
	for _, note := range []*stake.Note{ownedByNobody(in, f.Nobody, w.Path), barred(in, f.Entry, w.Owner, w.Path)} {
		if note != nil {
			v.Blockers = []stake.Note{*note}
			return v
		}
	}
	switch f.Kind {
	case "":
		v.Moves = []wire.Move{{Verb: "make", Text: "make directory " + string(w.Path), Work: wire.JSON(w), Joins: true}}
	case wire.EntryDirectory:
		v.Moves = []wire.Move{{Verb: "set", Text: fmt.Sprintf("set directory %s to owner %s, group %s, mode %s", w.Path, w.Owner, w.Group, w.Mode), Work: wire.JSON(w)}}
	case wire.EntryLink:
		v.Moves = []wire.Move{{Verb: "replace", Text: fmt.Sprintf("replace the link %s (to %s) with a directory", w.Path, f.Target), Work: wire.JSON(w)}}
	default:
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("%s is %s, where a directory is declared", w.Path, f.Words()), Fix: "move it away, or declare another directory"}}
	}
	if f.Kind != wire.EntryDirectory {
		v.Nudges = nudgeHolders(in, "directory", w.Path)
	}
	return v
}
