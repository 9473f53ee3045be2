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
	"northstake/core/wire"
)

// Directory says how a directory should be.
type Directory struct {
	Owner string `toml:"owner" json:"owner,omitempty" default:"root" example:"\"www-data\""`
	Group string `toml:"group" json:"group,omitempty" default:"the owner's name" example:"\"www-data\""`
	Mode  string `toml:"mode" json:"mode,omitempty" default:"0755" example:"\"0750\""`
}

var _ = declare.Explain[Directory](map[string]string{
	"owner": "User that owns it.",
	"group": "Group of it.",
	"mode":  "Mode in octal; with 2 before it new files there get its group, and with 1 only who owns a file takes it away.",
})

// barred is what keeps a thing from being brought about at a path, nil for nothing: it lies on a file
// system that nobody can write to, or where somebody beside root can change it. What is to be that
// user's own is done with that user's rights.
func barred(in Input, e wire.Entry, owner, path string) *Note {
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
func willChange(in Input, e wire.Entry, p string) (who, at string) {
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
	for _, d := range of[wire.DirectoryWant](in.Declared, "directory", in.Memo) {
		say(d.Path, d.Owner, d.Group, d.Mode)
	}
	for _, c := range of[wire.ContentWant](in.Declared, "content", in.Memo) {
		say(c.Root, c.Owner, c.Group, cmp.Or(c.Modes.Directories, "0755"))
	}
	return who, at
}

// awayDirectory takes a directory away that holds nothing but what goes before it.
func awayDirectory(in Input, w wire.DirectoryWant, f wire.DirectoryFound) Verdict {
	v := Verdict{Gone: f.Kind == ""}
	switch {
	case v.Gone:
	case f.Kind != "directory":
		v.Cautions = []Note{stays(in, w.Path)}
	case slices.ContainsFunc(f.Holds, func(name string) bool { return !in.goes(path.Join(w.Path, name)) }):
		v.Cautions = []Note{{in.Stake.Address(), w.Path + " holds something, and stays", "take out what lies there, and it goes with the next plan"}}
	default:
		v.Moves = []wire.Move{{Verb: "take", Text: "take away directory " + w.Path, Work: wire.JSON(wire.DirectoryWork{DirectoryWant: w, Away: true})}}
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

func compareEntry(d *differences, kind, owner, group, mode string, e wire.Entry) {
	if e.Kind != kind {
		d.add("what it is", "a "+kind, e.Words())
		return
	}
	compareOwners(d, owner, group, e)
	d.add("mode", mode, e.Mode)
}

// compareOwners compares owner and group, as far as they are wanted; one number can have several
// names.
func compareOwners(d *differences, owner, group string, e wire.Entry) {
	if owner != "" && !slices.Contains(e.AlsoOwner, owner) {
		d.add("owner", owner, e.Owner)
	}
	if group != "" && !slices.Contains(e.AlsoGroup, group) {
		d.add("group", group, e.Group)
	}
}

var _ = Register(Kind{
	Type:      "directory",
	After:     []string{"account"},
	Rehearsal: `directory."/srv/harbour" = { mode = "0750" }`,
	Settings:  []declare.Setting{declare.Table[Directory]("directory", "PATH", "Directories, by absolute path.", `{ "/srv/tides" = { owner = "root", mode = "0755" } }`)},
	Check:     checkDirectories,
	Wanted: func(w *Wanting) error {
		for _, d := range declare.Nearest[Directory](w.D, w.Host, "directory") {
			owner, group := owners(d.Value.Owner, d.Value.Group)
			w.Want(Stake{Type: "directory", Name: d.Name, From: d.From, Want: wire.JSON(wire.DirectoryWant{Path: d.Name, Owner: owner, Group: group, Mode: mode(d.Value.Mode, "0755")})})
		}
		return nil
	},
	Claims: Claiming(func(w wire.DirectoryWant) []Claim {
		return append([]Claim{{Need: Owns, Sort: ClaimPath, What: w.Path, Dir: true}}, owner(w.Owner, w.Group)...)
	}),
})

var _ = Judged("directory", Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	AskedAway: func(want json.RawMessage, _ bool) json.RawMessage {
		w, _ := last[wire.DirectoryWant](want)
		return wire.JSON(wire.DirectoryAsked{DirectoryWant: w, Holds: true})
	},
	Judge: Judging(judgeDirectory),
	Away:  Judging(awayDirectory),
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

func judgeDirectory(in Input, w wire.DirectoryWant, f wire.DirectoryFound) Verdict {
	var d differences
	compareEntry(&d, "directory", w.Owner, w.Group, w.Mode, f.Entry)
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
		v.Moves = []wire.Move{{Verb: "make", Text: "make directory " + w.Path, Work: wire.JSON(w), Joins: true}}
	case "directory":
		v.Moves = []wire.Move{{Verb: "set", Text: fmt.Sprintf("set directory %s to owner %s, group %s, mode %s", w.Path, w.Owner, w.Group, w.Mode), Work: wire.JSON(w)}}
	case "link":
		v.Moves = []wire.Move{{Verb: "replace", Text: fmt.Sprintf("replace the link %s (to %s) with a directory", w.Path, f.Target), Work: wire.JSON(w)}}
	default:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s, where a directory is declared", w.Path, f.Words()), "move it away, or declare another directory"}}
	}
	if f.Kind != "directory" {
		v.Nudges = nudgeHolders(in, "directory", w.Path)
	}
	return v
}
