package judge

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("file", stake.Judgement{
	Nothing:      func(want json.RawMessage) bool { w, _ := stake.Decoded[wire.FileWant](want); return w.Gone },
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgeFile),
	Away:         stake.Judging(awayFile),
	Passing:      []string{"nobody"}, // a step before brings the account
})

// awayFile takes a file away, or a portion out of it, if it is as it was brought about.
func awayFile(in stake.Input, w wire.FileWant, f wire.FileFound) stake.Verdict {
	v := stake.Verdict{Gone: w.Gone || f.Entry.Kind == "" || f.Absent}
	switch {
	case v.Gone:
		return v
	case f.Entry.Kind != wire.EntryFile || f.Broken != "" || f.Immutable || !f.Holds(w):
		v.Cautions = []stake.Note{stays(in, w.Path)}
		return v
	}
	text := "take away " + string(w.Path)
	if w.Portion != "" {
		text = fmt.Sprintf("take portion %s out of %s", w.Portion, w.Path)
	}
	v.Nudges = fileNudges(w)
	v.Moves = []wire.Move{{Verb: "take", Text: text, Work: wire.JSON(wire.FileWork{FileWant: w, Away: true})}}
	return v
}

// stays says that something is left although it is not declared any more.
func stays(in stake.Input, what wire.Path) stake.Note {
	return stake.Note{Address: in.Stake.Address(), What: string(what) + " was changed since it was brought about, and stays", Fix: "look at what was changed there, and take it away by hand"}
}

// fileNudges are for the services that take notice of the file.
func fileNudges(w wire.FileWant) []stake.Nudge {
	var out []stake.Nudge
	for _, local := range w.Tells {
		out = append(out, stake.Nudge{Target: local, How: wire.TellReload, Reason: "its file " + string(w.Path) + " changed"})
	}
	return append(out, nudgesOf("file", string(w.Path), w.Reload, w.Restart)...)
}

// judgeGone judges a file that is not to be there.
func judgeGone(in stake.Input, w wire.FileWant, f wire.FileFound) stake.Verdict {
	v := stake.Verdict{Gone: f.Entry.Kind == ""}
	if v.Gone {
		return v
	}
	var d differences
	d.add("what it is", "gone", f.Entry.Words())
	v.Differences, v.Touched = d, f.Entry.Touched
	note := fixed(f, in, w.Path)
	if f.Entry.Kind != wire.EntryFile && f.Entry.Kind != wire.EntryLink {
		note = &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is %s, and only files and links are taken away", w.Path, f.Entry.Words()), Fix: "take it away by hand, or out of the declaration"}
	}
	if note != nil {
		v.Blockers = []stake.Note{*note}
		return v
	}
	text := "take away " + string(w.Path)
	if f.Entry.Kind == wire.EntryLink {
		text = fmt.Sprintf("take away the link %s (to %s)", w.Path, f.Entry.Target)
	}
	move := wire.Move{Verb: "take", Text: text, Because: "it is declared as gone", Work: wire.JSON(wire.FileWork{FileWant: w, Away: true})}
	if f.Text != "" && !f.Bytes {
		move.Details = []wire.Detail{{Title: string(w.Path), Text: udiff.Unified("found", "wanted", f.Text, ""), Diff: true}}
	}
	v.Nudges = append(fileNudges(w), nudgeHolders(in, "file", w.Path)...)
	v.Moves = []wire.Move{move}
	return v
}

// fixed is why a file cannot be replaced or taken away, nil where it can.
func fixed(f wire.FileFound, in stake.Input, path wire.Path) *stake.Note {
	switch {
	case f.Entry.ReadOnly:
		return barred(in, f.Entry, "", path)
	case f.Large != "":
		return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is larger than %s, and a file is kept before it is replaced", path, f.Large), Fix: "look at what has written it, and move it away"}
	case f.Immutable:
		return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is marked so that nobody can change it (chattr +i)", path), Fix: "ask who did that, and why, before the mark is taken off (chattr -i)"}
	}
	return nil
}

func judgeFile(in stake.Input, w wire.FileWant, f wire.FileFound) stake.Verdict {
	if w.Gone {
		return judgeGone(in, w, f)
	}
	v := stake.Verdict{Gone: f.Entry.Kind == "" || f.Absent, Differences: compareFile(w, f)}
	if len(v.Differences) == 0 {
		return v
	}
	v.Touched = f.Entry.Touched
	if note := unwritable(in, w, f); note != nil {
		v.Blockers = []stake.Note{*note}
		return v
	}
	v.Nudges = append(fileNudges(w), nudgeHolders(in, "file", w.Path)...)
	move := writeMove(w, f)
	if w.Data == nil && (f.Text != w.Text || v.Gone) {
		move.Details = []wire.Detail{{Title: string(w.Path), Text: udiff.Unified("found", "wanted", f.Text, w.Text), Diff: true}}
	}
	v.Moves = []wire.Move{move}
	return v
}

// compareFile is what is not as declared of a file that is to be there.
func compareFile(w wire.FileWant, f wire.FileFound) (d differences) {
	text := "text"
	if w.Portion != "" {
		text = "portion " + w.Portion
	}
	switch {
	case f.Entry.Kind != wire.EntryFile:
		d.add("what it is", "a file", f.Entry.Words())
		return d
	case f.Large != "":
		d.differ(text, "as declared", "larger than "+f.Large)
	case f.Broken != "":
		d.differ(text, "between its two marker lines", f.Broken)
	case f.Absent:
		d.add(text, "there", "absent")
	case !f.Holds(w):
		d.differ(text, "as declared", "different")
	}
	compareOwners(&d, w.Owners, f.Entry)
	if w.Mode != "" {
		d.add("mode", string(w.Mode), string(f.Entry.Mode))
	}
	return d
}

// unwritable is why a file cannot be put right, nil where it can.
func unwritable(in stake.Input, w wire.FileWant, f wire.FileFound) *stake.Note {
	if note := barred(in, f.Entry, w.Owner, w.Path); note != nil {
		return note
	}
	switch f.Entry.Kind {
	case "", wire.EntryFile, wire.EntryLink:
	default:
		return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is %s, where a file is declared", w.Path, f.Entry.Words()), Fix: "move it away, or declare another path"}
	}
	if note := ownedByNobody(in, f.Nobody, w.Path); note != nil {
		return note
	}
	if f.Broken != "" {
		return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s: %s", w.Path, f.Broken), Fix: "mend the marker lines by hand: North Stake does not guess which lines are its own"}
	}
	if note := fixed(f, in, w.Path); note != nil {
		return note
	}
	if f.Entry.Kind == wire.EntryLink && w.Portion != "" {
		return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s is %s, and a portion is written into files alone", w.Path, f.Entry.Words()), Fix: "declare the path that the link leads to"}
	}
	return nil
}

// writeMove writes a file, or sets whose it is where it holds what is declared.
func writeMove(w wire.FileWant, f wire.FileFound) wire.Move {
	lines := count(len(slices.Collect(strings.Lines(w.Text))), "line", "lines")
	if w.Data != nil {
		lines = wire.Bytes(int64(len(w.Data)))
	}
	verb, text := "write", fmt.Sprintf("write %s, %s", w.Path, lines)
	switch {
	case w.Portion != "":
		text = fmt.Sprintf("write portion %s of %s, %s", w.Portion, w.Path, lines)
	case f.Entry.Kind == wire.EntryFile && f.Holds(w):
		verb, text = "set", fmt.Sprintf("set %s to owner %s, group %s, mode %s", w.Path, w.Owner, w.Group, w.Mode)
	case f.Entry.Kind == wire.EntryLink:
		verb, text = "replace", fmt.Sprintf("replace the link %s (to %s) with a file, %s", w.Path, f.Entry.Target, lines)
	}
	return wire.Move{Verb: verb, Text: text, Work: wire.JSON(w)}
}
