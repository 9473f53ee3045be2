package judge

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("content", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Asked:        askedOfContent,
	Within: workWithin(func(planned, now wire.ContentWork) bool {
		more := slices.ContainsFunc(now.Drop, func(p string) bool { return !slices.Contains(planned.Drop, p) })
		return !more && bytes.Equal(wire.JSON(now.ContentWant), wire.JSON(planned.ContentWant))
	}),
	AskedAway: func(want json.RawMessage, _ bool) json.RawMessage {
		w, _ := stake.Decoded[wire.ContentWant](want)
		asked := wire.ContentAsked{Former: w.Files}
		asked.Root, asked.Owners, asked.Modes, asked.Keep = w.Root, w.Owners, w.Modes, w.Keep
		return wire.JSON(asked)
	},
	Judge:   stake.Judging(judgeContent),
	Away:    stake.Judging(awayContent),
	Holds:   true,
	Passing: []string{"nobody"}, // a step before brings the account
})

// askedOfContent adds the files that the last publication at this root had and this one
// has not. What is left alone is none of them.
func askedOfContent(want, lastly json.RawMessage) json.RawMessage {
	before, ok := stake.Decoded[wire.ContentWant](lastly)
	w, ok2 := stake.Decoded[wire.ContentWant](want)
	if !ok || !ok2 || before.Root != w.Root {
		return want
	}
	wanted := map[string]bool{}
	for _, file := range w.Files {
		wanted[file.Path] = true
	}
	asked := wire.ContentAsked{ContentWant: w}
	for _, file := range before.Files {
		if !wanted[file.Path] && wire.Kept(w.Keep, file.Path) == "" {
			asked.Former = append(asked.Former, file)
		}
	}
	if len(asked.Former) == 0 {
		return want
	}
	return wire.JSON(asked)
}

// missingMore words the files that are not listed by themselves.
func missingMore(d *differences, n int, wanted, words string) {
	if n > 0 {
		d.add("files", wanted, fmt.Sprintf(words, n))
	}
}

func judgeContent(in stake.Input, w wire.ContentWant, f wire.ContentFound) stake.Verdict {
	var d differences
	compareEntry(&d, wire.EntryDirectory, w.Owners, w.Modes.Directories, f.Root)
	v := stake.Verdict{Gone: f.Root.Kind == ""}
	if len(d) > 0 {
		v.Touched = f.Root.Touched
	}
	for _, p := range f.Missing {
		d.differ("file "+p, "published", "missing")
	}
	missingMore(&d, f.Missings-len(f.Missing), "published", "%d more missing")
	for _, o := range f.Off {
		d.differ(o.Attribute+" of "+o.Path, o.Wanted, o.Found)
		if !o.Touched.At.Before(v.Touched.At) {
			v.Touched = o.Touched
			v.Touched.What = o.Path
		}
	}
	missingMore(&d, f.Offs-len(f.Off), "as published", "%d more differ")
	for i, former := range f.Former {
		if i == wire.ContentListed {
			missingMore(&d, len(f.Former)-i, "no longer declared", "%d more still published")
			break
		}
		d.differ("file "+former.Path, "no longer declared", "still published")
	}
	var removes []string
	for _, p := range f.Extra {
		if !w.RestGoes() {
			v.Strays = append(v.Strays, string(w.Root)+"/"+p)
			continue
		}
		d.differ("file "+p, "not there", "there, and nobody declared it")
		removes = append(removes, p)
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	var size int64
	for _, file := range w.Files {
		size += file.Size
	}
	if n := inTheWay(in, w, f, size); n != nil {
		v.Blockers = []stake.Note{*n}
		return v
	}
	if f.Root.Kind == wire.EntryLink {
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("%s is %s; the link is replaced with a directory, and what it leads to stays as it is", w.Root, f.Root.Words()), Fix: "declare what it leads to as the root, if that is what is meant"}}
	}
	work := wire.ContentWork{ContentWant: w, Drop: removes}
	for _, former := range f.Former {
		work.Drop = append(work.Drop, former.Path)
	}
	move := wire.Move{
		Verb:    "publish",
		Text:    fmt.Sprintf("publish %s to %s", publishedWords(f, len(w.Files), size), w.Root),
		Details: contentDetails(f), Work: wire.JSON(work), Blobs: true, Removes: removes,
	}
	switch {
	case w.Seen != "":
		move.Text += ", file by file, as container " + w.Seen + " sees it"
	case len(f.Below) > 0:
		move.Text += fmt.Sprintf(", file by file, around what is mounted at %s", strings.Join(f.Below, ", "))
	}
	if n := len(f.Former); n > 0 {
		move.Text += fmt.Sprintf(", and take out %s that %s no longer declared", count(n, "file", "files"), map[bool]string{true: "is", false: "are"}[n == 1])
	}
	if len(removes) > 0 {
		move.Text += fmt.Sprintf(", and remove %s that nobody declared", count(len(removes), "file", "files"))
		move.Details = append(move.Details, wire.Detail{Title: "removed, though nobody declared them", Text: strings.Join(form.Names(removes), "\n")})
	}
	v.Moves = []wire.Move{move}
	if f.Root.Kind != wire.EntryDirectory {
		v.Nudges = nudgeHolders(in, "directory", w.Root)
	}
	return v
}

// publishedWords say how many of a tree's files are published, of size bytes in all: those that are new
// and those that differ, or all of them where none is there yet.
func publishedWords(f wire.ContentFound, files int, size int64) string {
	differ := map[string]bool{}
	for _, o := range f.Off {
		differ[o.Path] = true
	}
	changed := len(differ)
	if len(f.Off) < f.Offs { // not all are listed
		changed = f.Offs
	}
	all := count(files, "file", "files") + ", " + wire.Bytes(size) + ","
	if f.Missings >= files || f.Missings+changed == 0 || changed > files {
		return all
	}
	var words []string
	if f.Missings > 0 {
		words = append(words, strconv.Itoa(f.Missings)+" new")
	}
	if changed > 0 {
		words = append(words, strconv.Itoa(changed)+" changed")
	}
	return fmt.Sprintf("%s of %s, %s in all,", strings.Join(words, " and "), count(files, "file", "files"), wire.Bytes(size))
}

// awayContent takes out of a root what was published there. What others put there stays,
// and with it the root.
func awayContent(in stake.Input, w wire.ContentWant, f wire.ContentFound) stake.Verdict {
	v := stake.Verdict{Gone: f.Root.Kind != wire.EntryDirectory || len(f.Former) == 0}
	if v.Gone {
		return v
	}
	if f.Mounted {
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("a file system is mounted at %s, and what was published there stays", w.Root), Fix: "take it away by hand"}}
		return v
	}
	work := wire.ContentWork{ContentWant: w, Away: true}
	work.Files = nil
	var removes []string
	changed := 0
	for _, former := range f.Former {
		work.Drop = append(work.Drop, former.Path)
		removes = append(removes, string(w.Root)+"/"+former.Path)
		if former.Changed {
			changed++
		}
	}
	text := fmt.Sprintf("take away what was published at %s, %s", w.Root, count(len(f.Former), "file", "files"))
	if changed > 0 {
		text += fmt.Sprintf(", of which %d %s changed on the host since", changed, map[bool]string{true: "was", false: "were"}[changed == 1])
	}
	if f.Extras > 0 {
		text += fmt.Sprintf(", and leave %s that nobody declared", count(f.Extras, "file", "files"))
	}
	v.Moves = []wire.Move{{Verb: "take", Text: text, Details: contentDetails(f), Work: wire.JSON(work), Removes: removes}}
	return v
}

// inTheWay is what keeps a tree from being published, nil for nothing.
func inTheWay(in stake.Input, w wire.ContentWant, f wire.ContentFound, size int64) *stake.Note {
	note := func(fix, what string, args ...any) *stake.Note {
		return &stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf(what, args...), Fix: fix}
	}
	switch f.Root.Kind {
	case "", wire.EntryDirectory, wire.EntryLink:
	default:
		return note("move it away, or declare another root", "%s is %s, where a document root is declared", w.Root, f.Root.Words())
	}
	if f.Mounted {
		return note("declare a root below it", "a file system is mounted at %s, which cannot be switched as a whole", w.Root)
	}
	if note := ownedByNobody(in, f.Nobody, w.Root); note != nil {
		return note
	}
	if note := barred(in, f.Root, w.Owner, w.Root); note != nil {
		return note
	}
	lies := func(name, at string) bool { return name == at || strings.HasPrefix(name, at+"/") } // both below the root
	for _, at := range f.Below {
		if slices.ContainsFunc(w.Files, func(file declare.File) bool { return lies(file.Path, at) }) || slices.ContainsFunc(w.Dirs, func(d string) bool { return lies(d, at) }) {
			return note("take out of the content what lies there, and name it in left_alone; or take the mount away", "something is mounted at %s/%s, where the content has files", w.Root, at)
		}
	}
	if len(f.TooDeep) > 0 {
		at := string(w.Root.Join(form.Name(f.TooDeep[0])))
		return note("take it away by hand: rm -r "+at, "directories that nobody declared are nested in %s until no path leads to them, and so cannot be carried along", at)
	}
	if n := len(f.InTheWay); n > 0 {
		return note("move it away, or take what is declared there out of the content", "%s in %s, which nobody declared, %s where a declared file or directory has to be: %s",
			count(n, "file", "files"), w.Root, map[bool]string{true: "lies", false: "lie"}[n == 1], strings.Join(form.Names(f.InTheWay[:min(n, 5)]), ", "))
	}
	if disk := diskOf(in.Traits.Disks, w.Root); disk != nil && disk.Free < size {
		return note("make room on the host", "%s has %s free, and the content takes %s", disk.Mount, wire.Bytes(disk.Free), wire.Bytes(size))
	}
	return nil
}

func contentDetails(f wire.ContentFound) []wire.Detail {
	var lines []string
	list := func(word string, paths []string, total int) {
		shown := paths[:min(len(paths), 20)]
		for _, p := range shown {
			lines = append(lines, fmt.Sprintf("%-8s %s", word, form.Name(p)))
		}
		if more := total - len(shown); more > 0 {
			lines = append(lines, fmt.Sprintf("%-8s and %d more", word, more))
		}
	}
	if f.Root.Kind == wire.EntryLink {
		lines = append(lines, "replaces the link to "+f.Root.Target)
	}
	list("new", f.Missing, f.Missings)
	var changed []string
	for _, o := range f.Off {
		if !slices.Contains(changed, o.Path) {
			changed = append(changed, o.Path)
		}
	}
	list("changed", changed, max(len(changed), len(changed)+f.Offs-len(f.Off)))
	gone := make([]string, len(f.Former))
	for i, former := range f.Former {
		gone[i] = former.Path
		if former.Changed {
			gone[i] += ", which was changed on the host since it was published"
		}
	}
	list("removed", gone, len(gone))
	if f.Extras > 0 {
		lines = append(lines, fmt.Sprintf("kept     %s that nobody declared", count(f.Extras, "file", "files")))
	}
	return []wire.Detail{{Title: "files", Text: strings.Join(lines, "\n")}}
}

// diskOf returns the file system that holds path.
func diskOf(disks []wire.Disk, path wire.Path) *wire.Disk {
	var best *wire.Disk
	for i, d := range disks {
		if path.Within(d.Mount) && (best == nil || len(d.Mount) > len(best.Mount)) {
			best = &disks[i]
		}
	}
	return best
}
