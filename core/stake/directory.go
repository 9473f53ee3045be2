package stake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
)

// Directory says how a directory should be.
type Directory struct {
	Owner string `toml:"owner" json:"owner,omitempty" doc:"User that owns it." default:"root" example:"\"www-data\""`
	Group string `toml:"group" json:"group,omitempty" doc:"Group of it." default:"the owner's name" example:"\"www-data\""`
	Mode  string `toml:"mode" json:"mode,omitempty" doc:"Mode in octal; with 2 before it new files there get its group, and with 1 only who owns a file takes it away." default:"0755" example:"\"0750\""`
}

// DirectoryWant is a directory with its owner and mode. Mode is octal text such
// as "0755".
type DirectoryWant struct {
	Path  string `json:"path"`
	Owner string `json:"owner"`
	Group string `json:"group"`
	Mode  string `json:"mode"`
}

// Entry is what lies at a path. Kind is "directory", "file", "link", another
// sort of file, or "" for nothing.
type Entry struct {
	Kind   string `json:"kind"`
	Target string `json:"target,omitempty"` // of a link
	Owner  string `json:"owner,omitempty"`
	Group  string `json:"group,omitempty"`
	Mode   string `json:"mode,omitempty"`

	AlsoOwner []string `json:"also_owner,omitempty"` // other names of the owner's number
	AlsoGroup []string `json:"also_group,omitempty"`

	// Under is who, beside root, can change the directory UnderAt above it, and so what lies here.
	Under   string `json:"under,omitempty"`
	UnderAt string `json:"under_at,omitempty"`

	ReadOnly bool `json:"read_only,omitempty"` // it lies on a file system that is mounted so

	Touched Touch `json:"touched,omitzero"`
}

// barred is what keeps a thing from being brought about at a path, nil for nothing: it lies on a file
// system that nobody can write to, or where somebody beside root can change it. What is to be that
// user's own is done with that user's rights.
func barred(in Input, e Entry, owner, path string) *Note {
	if e.ReadOnly {
		return &Note{in.Stake.Address(), fmt.Sprintf("%s lies on a file system that is mounted read-only", path), fmt.Sprintf("ask who mounted it so, and why (on %s: findmnt -T %s), or declare another path", in.Stake.Host, path)}
	}
	who, at := e.Under, e.UnderAt
	if who == "" { // nobody can now; but a directory may be declared so that somebody will
		who, at = willChange(in, e, path)
	}
	if who == "" || who == owner {
		return nil
	}
	return &Note{in.Stake.Address(), fmt.Sprintf("%s can change %s, and so what lies at %s: nothing that is not theirs is put there", who, at, path),
		"let the directories above it be root's and writable for nobody else, or declare " + path + " as their own"}
}

// willChange says who, beside root, can change what lies at a path once the directories above it are as
// they are declared: the outermost of those counts, as on the host.
func willChange(in Input, e Entry, p string) (who, at string) {
	say := func(dir, owner, group, mode string) {
		bits, err := strconv.ParseUint(mode, 8, 32)
		if !strings.HasPrefix(p, strings.TrimSuffix(dir, "/")+"/") || at != "" && len(at) <= len(dir) || err != nil || bits&0o1000 != 0 && e.Kind != "" {
			return
		}
		switch {
		case owner != "" && owner != "root":
			who, at = owner, dir
		case bits&0o020 != 0 && group != "root":
			who, at = "group "+group, dir
		case bits&0o002 != 0:
			who, at = "everybody", dir
		}
	}
	for _, d := range of[DirectoryWant](in.Declared, "directory", in.Memo) {
		say(d.Path, d.Owner, d.Group, d.Mode)
	}
	for _, c := range of[ContentWant](in.Declared, "content", in.Memo) {
		say(c.Root, c.Owner, c.Group, cmp.Or(c.Modes.Directories, "0755"))
	}
	return who, at
}

// DirectoryFound is what lies at a directory's path. Nobody names the owner and the group
// that are wanted and the host has not. Holds is what lies in it, where that was asked.
type DirectoryFound struct {
	Entry
	Nobody []string `json:"nobody,omitempty"`
	Holds  []string `json:"holds,omitempty"`
}

// DirectoryAsked is what a host is asked to read: a directory, and, with Holds, the names
// of what lies in it, DirectoryListed at most.
type DirectoryAsked struct {
	DirectoryWant
	Holds bool `json:"holds,omitempty"`
}

// DirectoryListed bounds the list of a DirectoryFound.
const DirectoryListed = 100

// DirectoryWork makes a directory, or, with Away, takes it away.
type DirectoryWork struct {
	DirectoryWant
	Away bool `json:"away,omitempty"`
}

// awayDirectory takes a directory away that holds nothing but what goes before it.
func awayDirectory(in Input, w DirectoryWant, f DirectoryFound) Verdict {
	v := Verdict{Gone: f.Kind == ""}
	switch {
	case v.Gone:
	case f.Kind != "directory":
		v.Cautions = []Note{stays(in, w.Path)}
	case slices.ContainsFunc(f.Holds, func(name string) bool { return !in.goes(path.Join(w.Path, name)) }):
		v.Cautions = []Note{{in.Stake.Address(), w.Path + " holds something, and stays", "take out what lies there, and it goes with the next plan"}}
	default:
		v.Moves = []Move{{Verb: "take", Text: "take away directory " + w.Path, Work: JSON(DirectoryWork{w, true})}}
	}
	return v
}

// ownedByNobody is what keeps a thing from being brought about whose owner the host has not,
// nil for nothing: something else may bring the account.
func ownedByNobody(in Input, nobody []string, path string) *Note {
	if len(nobody) == 0 || in.Pending {
		return nil
	}
	return &Note{in.Stake.Address(), fmt.Sprintf("this host has no user or group %s, who is to own %s", strings.Join(nobody, ", "), path), "declare the account, or a package that brings it"}
}

// Words says what an entry is, for people.
func (e Entry) Words() string {
	switch e.Kind {
	case "":
		return "nothing"
	case "link":
		return "a link to " + e.Target
	}
	return "a " + e.Kind
}

func (d *differences) entry(kind, owner, group, mode string, e Entry) {
	if e.Kind != kind {
		d.add("what it is", "a "+kind, e.Words())
		return
	}
	d.owners(owner, group, e)
	d.add("mode", mode, e.Mode)
}

// owners compares owner and group, as far as they are wanted; one number can have several
// names.
func (d *differences) owners(owner, group string, e Entry) {
	if owner != "" && !slices.Contains(e.AlsoOwner, owner) {
		d.add("owner", owner, e.Owner)
	}
	if group != "" && !slices.Contains(e.AlsoGroup, group) {
		d.add("group", group, e.Group)
	}
}

var _ = Register(Kind{
	Type: "directory", After: []string{"account"},
	WayIn:     byPaths,
	Rehearsal: `directory."/srv/harbour" = { mode = "0750" }`,
	Settings:  []declare.Setting{declare.Table[Directory]("directory", "PATH", "Directories, by absolute path.", `{ "/srv/tides" = { owner = "root", mode = "0755" } }`)},
	Check:     checkDirectories,
	Wanted: func(w *Wanting) error {
		for _, d := range declare.Nearest[Directory](w.D, w.Host, "directory") {
			owner, group := owners(d.Is.Owner, d.Is.Group)
			w.Want(Stake{Type: "directory", Name: d.Name, From: d.From, Want: JSON(DirectoryWant{Path: d.Name, Owner: owner, Group: group, Mode: mode(d.Is.Mode, "0755")})})
		}
		return nil
	},
	Claims: Claiming(func(w DirectoryWant) []Claim {
		return append([]Claim{{Need: Owns, Sort: ClaimPath, What: w.Path, Dir: true}}, owner(w.Owner, w.Group)...)
	}),
	AskedAway: func(want json.RawMessage, _ bool) json.RawMessage {
		w, _ := last[DirectoryWant](want)
		return JSON(DirectoryAsked{w, true})
	},
	Judge: Judging(judgeDirectory), Away: Judging(awayDirectory),
	Join: func(moves []Move) Move {
		var names []string
		for _, m := range moves {
			names = append(names, strings.TrimPrefix(m.Text, "make directory "))
		}
		return joinMoves(moves, count(len(moves), "directory", "directories"), names)
	},
	Within:  worksWithin,
	Passing: []string{"nobody"}, // a step before brings the account
})

func checkDirectories(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*Directory](s, "directory")
	for _, p := range sortedKeys(list) {
		here := check.At(at, "directory", p)
		if !c.Place(p, here) {
			continue
		}
		c.Owner(list[p].Owner, list[p].Group, here)
		c.DirectoryMode(list[p].Mode, check.At(here, "mode"))
		if slices.Contains(form.SystemDirs, p) {
			c.Say(here, fmt.Sprintf("%s belongs to the system", p), "declare a directory below it")
		}
	}
}

// owners fills in who owns a thing where that is not declared.
func owners(owner, group string) (string, string) {
	if owner == "" {
		owner = "root"
	}
	if group == "" {
		group = owner
	}
	return owner, group
}

func mode(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	if len(s) == 3 {
		return "0" + s
	}
	return s
}

func judgeDirectory(in Input, w DirectoryWant, f DirectoryFound) Verdict {
	var d differences
	d.entry("directory", w.Owner, w.Group, w.Mode, f.Entry)
	v := Verdict{Differences: d, Gone: f.Kind == "", Touched: f.Touched}
	if len(d) == 0 {
		return v
	}
	for _, note := range []*Note{ownedByNobody(in, f.Nobody, w.Path), barred(in, f.Entry, w.Owner, w.Path)} {
		if note != nil {
			v.Blockers = []Note{*note}
			return v
		}
	}
	switch f.Kind {
	case "":
		v.Moves = []Move{{Verb: "make", Text: "make directory " + w.Path, Work: JSON(w), Joins: true}}
	case "directory":
		v.Moves = []Move{{Verb: "set", Text: fmt.Sprintf("set directory %s to owner %s, group %s, mode %s", w.Path, w.Owner, w.Group, w.Mode), Work: JSON(w)}}
	case "link":
		v.Moves = []Move{{Verb: "replace", Text: fmt.Sprintf("replace the link %s (to %s) with a directory", w.Path, f.Target), Work: JSON(w)}}
	default:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s, where a directory is declared", w.Path, f.Words()), "move it away, or declare another directory"}}
	}
	if f.Kind != "directory" {
		v.Nudges = nudgeHolders(in, "directory", w.Path)
	}
	return v
}
