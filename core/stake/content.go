package stake

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
)

// ContentWant is a tree of files that is published at Root as a whole.
type ContentWant struct {
	Root  string         `json:"root"`
	Owner string         `json:"owner"`
	Group string         `json:"group"`
	Modes declare.Modes  `json:"modes"`
	Files []declare.File `json:"files"`
	Keep  []string       `json:"keep,omitempty"` // patterns of paths that are left alone
	Rest  string         `json:"rest,omitempty"` // "removed" where files that nobody declared go
}

// RestGoes says whether files that nobody declared are removed.
func (w ContentWant) RestGoes() bool { return w.Rest == declare.Removed }

// FileOff is one file or directory of the tree that is not as wanted. Path is
// relative to the root; "." is the root.
type FileOff struct {
	Path string `json:"path"`
	Difference
	Touched Touch `json:"touched,omitzero"`
}

// ContentFound is what differs between the tree on the host and what is wanted.
// Each list holds at most ContentListed paths, but for Extra where the rest
// is removed; the counts are whole.
type ContentFound struct {
	Root     Entry     `json:"root"`
	Mounted  bool      `json:"mounted,omitempty"` // a file system is mounted at the root
	Missing  []string  `json:"missing,omitempty"`
	Missings int       `json:"missings"`
	Off      []FileOff `json:"off,omitempty"`
	Offs     int       `json:"offs"`
	Extra    []string  `json:"extra,omitempty"`
	Extras   int       `json:"extras"`
}

// ContentListed bounds the lists of a ContentFound.
const ContentListed = 100

// ContentWork publishes a tree. Drop lists files of an earlier publication that
// are no longer declared; other files that are there are carried over.
type ContentWork struct {
	ContentWant
	Drop []string `json:"drop,omitempty"`
}

var _ = Register(Kind{
	Type: "content", After: []string{"directory"},
	Rehearsal: `content."/srv/leaflets" = { dir = "content" }`,
	Settings:  []declare.Setting{declare.Table[declare.Content]("content", "PATH", "Content that is published beside that of sites, by absolute path.", `{ "/srv/tides" = { dir = "content/tides" } }`)},
	Check: func(c *check.Checker, s declare.Settings, at []string) {
		list := declare.Get[map[string]*declare.Content](s, "content")
		for _, p := range sortedKeys(list) {
			here := check.At(at, "content", p)
			if c.Place(p, here) {
				c.Root(p, here)
				c.ContentFiles(list[p], here)
			}
		}
	},
	Wanted: func(w *Wanting) error {
		for _, c := range declare.Nearest[declare.Content](w.D, w.Host, "content") {
			w.Want(Stake{Type: "content", Name: c.Name, From: c.From, Want: JSON(wantedContent(w.D, c.Name, c.Is))})
		}
		return nil
	},
	Claims: Claiming(func(w ContentWant) []Claim {
		return append([]Claim{{Need: Owns, Sort: ClaimTree, What: w.Root}}, owner(w.Owner, w.Group)...)
	}),
	Judge: Judging(judgeContent),
})

func wantedContent(d *declare.Declaration, root string, c *declare.Content) ContentWant {
	want := ContentWant{Root: root, Files: d.FilesOf(c.Place()), Keep: c.Keep, Rest: c.Rest,
		Modes: declare.Modes{Files: mode(c.Modes.Files, "0644"), Directories: mode(c.Modes.Directories, "0755")}}
	want.Owner, want.Group = owners(c.Owner, c.Group)
	return want
}

func judgeContent(in Input, w ContentWant, f ContentFound) Verdict {
	var d differences
	d.entry("directory", w.Owner, w.Group, w.Modes.Directories, f.Root)
	for _, p := range f.Missing {
		d.add("file "+p, "published", "missing")
	}
	if more := f.Missings - len(f.Missing); more > 0 {
		d.add("files", "published", fmt.Sprintf("%d more missing", more))
	}
	v := Verdict{Gone: f.Root.Kind == ""}
	if len(d) > 0 {
		v.Touched = f.Root.Touched
	}
	for _, o := range f.Off {
		d.add(o.Attribute+" of "+o.Path, o.Wanted, o.Found)
		if !o.Touched.At.Before(v.Touched.At) {
			v.Touched = o.Touched
			v.Touched.What = o.Path
		}
	}
	if more := f.Offs - len(f.Off); more > 0 {
		d.add("files", "as published", fmt.Sprintf("%d more differ", more))
	}
	work := ContentWork{ContentWant: w}
	if len(d) > 0 || len(f.Extra) > 0 {
		work.Drop = droppedFiles(in, w)
	}
	var removes []string
	for _, p := range f.Extra {
		switch {
		case slices.Contains(work.Drop, p):
			d.add("file "+p, "no longer declared", "still published")
		case w.RestGoes():
			d.add("file "+p, "not there", "there, and nobody declared it")
			removes = append(removes, p)
		default:
			v.Strays = append(v.Strays, w.Root+"/"+p)
		}
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	work.Drop = append(work.Drop, removes...)
	var size int64
	for _, file := range w.Files {
		size += file.Size
	}
	switch f.Root.Kind {
	case "", "directory", "link":
	default:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s, where a document root is declared", w.Root, f.Root.Words()), "move it away, or declare another root"}}
		return v
	}
	switch {
	case f.Mounted:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("a file system is mounted at %s, which cannot be switched as a whole", w.Root), "declare a root below it"}}
		return v
	case f.Root.Kind == "link":
		v.Cautions = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s; the link is replaced with a directory, and what it leads to stays as it is", w.Root, f.Root.Words()), "declare what it leads to as the root, if that is what is meant"}}
	}
	if len(in.Traits.Disks) > 0 {
		if disk := diskOf(in.Traits.Disks, w.Root); disk != nil && disk.Free < size {
			v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s has %s free, and the content takes %s", disk.Mount, Bytes(disk.Free), Bytes(size)), "make room on the host"}}
			return v
		}
	}
	move := Move{
		Verb:    "publish",
		Text:    fmt.Sprintf("publish %s, %s, to %s", count(len(w.Files), "file", "files"), Bytes(size), w.Root),
		Details: contentDetails(f, work), Work: JSON(work), Blobs: true, Removes: removes,
	}
	if len(removes) > 0 {
		move.Text += fmt.Sprintf(", and remove %s that nobody declared", count(len(removes), "file", "files"))
		move.Details = append(move.Details, Detail{Title: "removed, though nobody declared them", Text: strings.Join(removes, "\n")})
	}
	v.Moves = []Move{move}
	return v
}

// droppedFiles lists what the last publication at this root had and this one has
// not, sorted.
func droppedFiles(in Input, w ContentWant) []string {
	before, ok := last[ContentWant](in.Last)
	if !ok || before.Root != w.Root {
		return nil
	}
	wanted := map[string]bool{}
	for _, file := range w.Files {
		wanted[file.Path] = true
	}
	var out []string
	for _, file := range before.Files {
		if !wanted[file.Path] {
			out = append(out, file.Path)
		}
	}
	sort.Strings(out)
	return out
}

func contentDetails(f ContentFound, work ContentWork) []Detail {
	var lines []string
	list := func(word string, paths []string, total int) {
		for i, p := range paths {
			if i == 20 {
				break
			}
			lines = append(lines, fmt.Sprintf("%-8s %s", word, p))
		}
		if more := total - min(len(paths), 20); more > 0 {
			lines = append(lines, fmt.Sprintf("%-8s and %d more", word, more))
		}
	}
	if f.Root.Kind == "link" {
		lines = append(lines, "replaces the link to "+f.Root.Target)
	}
	list("new", f.Missing, f.Missings)
	seen := map[string]bool{}
	var changed []string
	for _, o := range f.Off {
		if !seen[o.Path] {
			seen[o.Path] = true
			changed = append(changed, o.Path)
		}
	}
	list("changed", changed, max(len(changed), min(f.Offs, len(changed)+f.Offs-len(f.Off))))
	var gone []string
	for _, p := range f.Extra {
		for _, drop := range work.Drop {
			if p == drop {
				gone = append(gone, p)
			}
		}
	}
	sort.Strings(gone)
	list("removed", gone, len(gone))
	if strays := f.Extras - len(gone); strays > 0 {
		lines = append(lines, fmt.Sprintf("kept     %s that nobody declared", count(strays, "file", "files")))
	}
	return []Detail{{Title: "files", Text: strings.Join(lines, "\n")}}
}

// diskOf returns the file system that holds path.
func diskOf(disks []Disk, path string) *Disk {
	var best *Disk
	for i, d := range disks {
		m := strings.TrimSuffix(d.Mount, "/")
		if (path == m || strings.HasPrefix(path, m+"/")) && (best == nil || len(d.Mount) > len(best.Mount)) {
			best = &disks[i]
		}
	}
	return best
}
