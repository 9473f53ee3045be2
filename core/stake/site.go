package stake

import (
	"fmt"
	"slices"

	"github.com/aymanbagabas/go-udiff"

	"northstake/core/declare"
)

// SiteWant is a virtual host's configuration: the text, where it lies, and for
// each of its lines the place in the declaration that it was rendered from.
type SiteWant struct {
	Server string             `json:"server"`
	Layout Layout             `json:"layout"`
	File   string             `json:"file"`
	Link   string             `json:"link,omitempty"`
	Text   string             `json:"text"`
	Lines  []declare.Position `json:"lines"`
	Listen []int              `json:"listen"`
	Roots  []string           `json:"roots,omitempty"`    // what the server reads
	Dirs   []string           `json:"declared,omitempty"` // directories whose owner and mode are declared
}

// SiteFound is what lies there. Loaded says whether the running server took its
// configuration in after it last changed; it is nil when the server does not
// run.
type SiteFound struct {
	File   Entry  `json:"file"`
	Text   string `json:"text"`
	Link   Entry  `json:"link"`
	Loaded *bool  `json:"loaded,omitempty"`
	Shut   []Shut `json:"shut,omitempty"`
}

// Shut is a directory on the way to a document root that does not let the server's
// account through.
type Shut struct {
	Root  string `json:"root"`
	At    string `json:"at"`
	Entry Entry  `json:"entry"`
}

var _ = register("site", kindOf[SiteWant, SiteFound](judgeSite))

func judgeSite(in Input, w SiteWant, f SiteFound) Verdict {
	var d differences
	d.entry("file", "root", "root", "0644", f.File)
	if f.File.Kind == "file" && f.Text != w.Text {
		d.add("configuration", "as rendered", "different")
	}
	if w.Link != "" {
		switch {
		case f.Link.Kind == "":
			d.add("switched on", "yes", "no")
		case f.Link.Kind != "link" || f.Link.Target != w.File:
			d.add("switched on", "a link to "+w.File, f.Link.Words())
		}
	}
	v := Verdict{Gone: f.File.Kind == "" && f.Link.Kind == "", Touched: f.File.Touched}
	onDisk := len(d) > 0
	if !onDisk && f.Loaded != nil && !*f.Loaded {
		d.add("loaded", "yes", "no, "+w.Layout.Service+" runs with an older configuration")
	}
	v.Differences = d
	for _, port := range w.Listen {
		if l := in.Traits.On(port); l != nil && l.Program != w.Layout.Program {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(),
				fmt.Sprintf("port %d is taken by %s (process %d)", port, l.Program, l.PID),
				fmt.Sprintf("stop that program on %s, or let the site listen elsewhere", in.Stake.Host)})
		}
	}
	for _, shut := range f.Shut {
		if slices.Contains(w.Dirs, shut.At) {
			continue // its own stake sees to that
		}
		v.Blockers = append(v.Blockers, Note{in.Stake.Address(),
			fmt.Sprintf("account %s of %s cannot get to %s: %s (%s, owner %s, group %s) does not let it through", w.Layout.User, w.Layout.Service, shut.Root, shut.At, shut.Entry.Mode, shut.Entry.Owner, shut.Entry.Group),
			fmt.Sprintf("let others pass through %s (chmod o+x), declare the directory with another mode, or declare another root", shut.At)})
	}
	if len(d) == 0 {
		return v
	}
	reason := "its site " + in.Stake.Site + " changed"
	if !onDisk {
		reason = "its site " + in.Stake.Site + " is written and not loaded"
	}
	v.Nudges = []Nudge{{Target: Local("service", w.Layout.Service), How: "reload", Reason: reason}}
	if !onDisk {
		return v
	}
	verb := "write"
	text := fmt.Sprintf("write the virtual host of site %s, %s", in.Stake.Site, w.File)
	v.Moves = []Move{{Verb: verb, Text: text, Details: siteDetails(w, f), Work: JSON(w)}}
	return v
}

func siteDetails(w SiteWant, f SiteFound) []Detail {
	if f.File.Kind == "file" && f.Text == w.Text {
		return nil
	}
	old := f.Text
	if f.File.Kind != "file" {
		old = ""
	}
	return []Detail{{Title: w.File, Text: udiff.Unified("found", "wanted", old, w.Text), Diff: true}}
}
