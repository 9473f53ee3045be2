package stake

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"
)

// unwantedSite says whether a declared site has the name of one that was, with the port, or
// is that one on another server.
func unwantedSite(gone Stake, in Around) (why, forStake string) {
	was, ok := last[SiteWant](gone.Want)
	if !ok {
		return "", ""
	}
	for d, now := range of[SiteWant](in.Declared, "site", in.Memo) {
		if d.Name == gone.Site && now.ServedBy() != was.ServedBy() {
			return fmt.Sprintf("site %s is served by %s now", d.Name, now.By()), d.Local()
		}
		if !slices.ContainsFunc(was.Listen, func(p int) bool { return slices.Contains(now.Listen, p) }) {
			continue
		}
		for _, n := range was.Names {
			if slices.Contains(now.Names, n) {
				return fmt.Sprintf("site %s has its name %s now", d.Name, n), d.Local()
			}
		}
	}
	return "", ""
}

// awaySite takes a virtual host away.
func awaySite(in Input, w SiteWant, f SiteFound) Verdict {
	v := Verdict{Gone: f.File.Kind == "" && f.Link.Kind == ""}
	if v.Gone {
		return v
	}
	if f.File.Kind == "file" && (f.Text != w.Text || f.Bytes) {
		v.Cautions = []Note{{in.Stake.Address(), w.File + " was changed by hand, and goes", "look at what was written there; the run keeps it on the host until it is done"}}
	}
	_, sake := unwantedSite(in.Stake, Around{Declared: in.Declared, Memo: in.Memo})
	for s, now := range of[SiteWant](in.Declared, "site", in.Memo) {
		v.Late = v.Late || s.Local() == sake && now.ServedBy() != w.ServedBy()
	}
	goesOn := slices.ContainsFunc(in.Declared, func(s Stake) bool { return s.Local() == w.ServedBy() }) || w.Within == "" && len(servedFor(in, w.Program)) > 0
	if v.Late && goesOn { // else the caution is with what stops
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("site %s is down between %s, a few seconds: until then it is served by %s", in.Stake.Site, BetweenSteps, w.By()), AtAQuietHour})
	}
	v.Moves = []Move{{Verb: "take", Text: fmt.Sprintf("take away the virtual host of site %s, %s", in.Stake.Site, w.File), Work: JSON(SiteWork{SiteWant: w, Away: true})}}
	v.Nudges = []Nudge{{Target: w.ServedBy(), How: "reload", Reason: "its former site " + in.Stake.Site + " is gone"}}
	return v
}

func judgeSite(in Input, w SiteWant, f SiteFound) Verdict {
	var d differences
	d.entry("file", "root", "root", "0644", f.File)
	if f.File.Kind == "file" && (f.Text != w.Text || f.Bytes) {
		d.differ("configuration", "as rendered", "different")
	}
	for i, b := range f.Beside {
		if i >= len(w.Beside) {
			break
		}
		var differs differences
		if differs.entry("file", "root", w.Beside[i].Group, w.FileMode(), b.Entry); b.Entry.Kind == "file" && !b.Same {
			differs.differ("accounts", "as declared", "different")
		}
		for _, one := range differs {
			d.differ(w.Beside[i].Path+", "+one.Attribute, one.Wanted, one.Found)
		}
	}
	if w.Link != "" && w.Off {
		if f.Link.Kind != "" {
			d.add("switched on", "no", "yes")
		}
	} else if w.Link != "" {
		switch {
		case f.Link.Kind == "":
			d.add("switched on", "yes", "no")
		case f.Link.Kind != "link" || leads(w.Link, f.Link.Target) != w.File:
			d.add("switched on", "a link to "+w.File, f.Link.Words())
		}
	}
	v := Verdict{Gone: f.File.Kind == "" && f.Link.Kind == "", Touched: f.File.Touched}
	for _, b := range w.Beside {
		if b.Sealed != nil && b.Sealed.Lacks != "" {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(), b.Sealed.Lacks, fmt.Sprintf("northstake secret keep %s takes it", b.Sealed.Secret)})
		}
	}
	for _, p := range f.Left {
		d.add(p, "gone", "left from what was declared before")
	}
	onDisk := len(d) > 0
	if !onDisk && f.Loaded != nil && !*f.Loaded {
		d.add("loaded", "yes", "no, "+cmp.Or(f.Unlike, w.By()+" runs with an older configuration"))
	}
	for _, to := range f.Silent {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s, to which the site passes on, takes no connection from %s", to, in.Stake.Host), "start that service, or correct where it is: visitors get an error until then"})
	}
	for i, label := range f.Labels {
		if i < len(w.Roots) && label != "" && !shownLabel.MatchString(label) {
			v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("SELinux is enforcing, and %s has the label %s, which keeps web servers out", w.Roots[i], label), fmt.Sprintf("on %s: semanage fcontext -a -t httpd_sys_content_t '%s(/.*)?' && restorecon -R %s", in.Stake.Host, w.Roots[i], w.Roots[i])})
		}
	}
	own := len(d)
	if f.NotTaken != "" {
		d.differ("taken in by "+w.By(), "yes", "no, "+f.NotTaken+" takes nothing in from where it lies")
		file := cmp.Or(w.Link, w.File)
		v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf("%s takes in nothing from %s: the site would be served by nobody", f.NotTaken, path.Dir(file)), fmt.Sprintf("put the line back there that takes in %s/*%s, and reload %s: North Stake changes nothing of it", path.Dir(file), path.Ext(file), w.By())})
	}
	former := leaving[SiteWant](in.Leaving, "site", in.Memo)
	givesWay := "" // a file that is declared as gone, and taken away before this site is judged again
	for _, r := range f.Rivals {
		d.differ(strings.TrimPrefix(r.what(), "the "), "this site's alone", "claimed by "+r.File+" as well")
		if slices.ContainsFunc(former, func(l SiteWant) bool { return l.File == r.File || l.Link == r.File }) {
			continue
		}
		if goneFile(in, r.File) {
			givesWay = r.File
			continue
		}
		if gives(in, r) {
			continue
		}
		v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf("%s claims %s as well", r.File, r.what()), "take it out there, or that file away" + w.goes(in.Stake.Host, r.File) + ": of two the server takes one, and which is a matter of their order"})
	}
	for _, o := range f.Others {
		d.differ("answers at "+o.At, "this site", cmp.Or(o.By, "nothing listens there")+", for "+firstOf(o.Names))
		if goneFile(in, o.file()) {
			givesWay = o.file()
			continue
		}
		v.Blockers = append(v.Blockers, o.blocks(in.Stake.Address(), w))
	}
	for _, shut := range f.Shut {
		if !slices.Contains(w.Dirs, shut.At) {
			d.differ("way to "+shut.Root, "open to "+w.User, fmt.Sprintf("shut at %s (%s, owner %s, group %s)", shut.At, shut.Entry.Mode, shut.Entry.Owner, shut.Entry.Group))
		}
	}
	v.Differences = d
	for _, t := range f.Taken {
		if !slices.Contains(w.Yields, t.Program) && !letsGo(in.Leaving, in.Memo, t) {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf("port %d is taken by %s (process %d), outside of %s", t.Port, t.Program, t.PID, w.By()),
				fmt.Sprintf("stop that program on %s (or declare it as not running, and apply that first), or let the site listen elsewhere", in.Stake.Host)})
		}
	}
	for _, port := range w.Listen {
		if l := in.Traits.On(port); w.Within == "" && l != nil && !w.Off && l.Program != w.Program && keptFor(in, l.Program, port) != "" {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf("port %d is taken by %s (process %d), for what %s says", port, l.Program, l.PID, keptFor(in, l.Program, port)),
				"take it out there (northstake plan --clear does, where this ground wrote it and declares it no more), or let the site listen elsewhere: North Stake changes nothing of others"})
			continue
		}
		if l := in.Traits.On(port); w.Within == "" && l != nil && !w.Off && l.Program != w.Program && staysFor(in, l.Program, port) != "" {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf("port %d is taken by %s (process %d), which goes on for others: %s has it listen there", port, l.Program, l.PID, staysFor(in, l.Program, port)),
				"take that line out, and reload it, or let the site listen elsewhere: North Stake changes nothing of others"})
			continue
		}
		if l := in.Traits.On(port); w.Within == "" && l != nil && !w.Off && l.Program != w.Program && !slices.Contains(w.Yields, l.Program) && !letsGo(in.Leaving, in.Memo, *l) {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(),
				fmt.Sprintf("port %d is taken by %s (process %d)", port, l.Program, l.PID),
				fmt.Sprintf("stop that program on %s (or declare it as not running, and apply that first), or let the site listen elsewhere", in.Stake.Host)})
		}
	}
	for _, shut := range f.Shut {
		if slices.Contains(w.Dirs, shut.At) || shut.At == shut.Root {
			continue // a stake of its own sees to that
		}
		v.Blockers = append(v.Blockers, Note{in.Stake.Address(),
			fmt.Sprintf("account %s of %s cannot get to %s: %s (%s, owner %s, group %s) does not let it through", w.User, w.By(), shut.Root, shut.At, shut.Entry.Mode, shut.Entry.Owner, shut.Entry.Group),
			fmt.Sprintf("let others pass through %s (chmod o+x), declare the directory with another mode, or declare another root", shut.At)})
	}
	if own == 0 {
		if givesWay != "" {
			v.Nudges = []Nudge{{Target: w.ServedBy(), How: "reload", Reason: givesWay + " is taken away"}}
		}
		return v
	}
	reason := "its site " + in.Stake.Site + " changed"
	if !onDisk {
		reason = "its site " + in.Stake.Site + " is written and not loaded"
	}
	v.Nudges = []Nudge{{Target: w.ServedBy(), How: "reload", Reason: reason}}
	if !onDisk {
		return v
	}
	text := fmt.Sprintf("write the virtual host of site %s, %s", in.Stake.Site, w.File)
	if w.Off {
		text += ", and leave it switched off"
	}
	for _, t := range f.Takes {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), t.words(), "give the site another name, or another port, if that is not meant"})
	}
	if len(w.Vouched) > 0 {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s of raw configuration, at %s: %s tests it, and nobody else vouches for what it does", count(len(w.Vouched), "place", "places"), strings.Join(w.Vouched, ", "), w.By()), "look at what it does on every host that has the site"})
	}
	v.Moves = []Move{{Verb: "write", Text: text, Details: siteDetails(w, f), Work: JSON(SiteWork{SiteWant: w, Drops: f.Left}), Joins: true}}
	return v
}

// blocks says that visitors do not come to a site, though it is loaded: no step of ours changes that.
func (o Other) blocks(address string, w SiteWant) Note {
	if o.By == "" {
		return Note{address, fmt.Sprintf("%s has loaded the site, and nothing listens at %s, where visitors of %s come", w.By(), o.At, firstOf(o.Names)), fmt.Sprintf("look at where %s is told to listen, beside what North Stake writes, and have it listen there again", w.By())}
	}
	return Note{address, fmt.Sprintf("%s has loaded the site, and visitors of %s at %s are answered by %s", w.By(), firstOf(o.Names), o.At, o.By), "take it out there, and reload the server, or that file away" + w.goes(strings.SplitN(address, "/", 2)[0], o.file()) + ": North Stake changes nothing of others unasked"}
}

// file is the one of the virtual host that answers, "" where none is known: "another virtual host,
// /etc/nginx/conf.d/a.conf:3".
func (o Other) file() string {
	line, named := strings.CutPrefix(o.By, "another virtual host, ")
	if at := strings.LastIndex(line, ":"); named && at > 0 {
		return line[:at]
	}
	return ""
}

// goes is the command that takes a file of the host's own server away, in brackets.
func (w SiteWant) goes(host, file string) string {
	if w.Within != "" || file == "" {
		return ""
	}
	return fmt.Sprintf(" (northstake bring file %s --gone --reload %s --on %s)", file, strings.TrimPrefix(w.ServedBy(), "service/"), host)
}

// firstOf is the first of some names, and how many there are beside it.
func firstOf(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return fmt.Sprintf("%s and %s more", names[0], count(len(names)-1, "name", "names"))
}

// askedSite asks for the files beside a site that it had when it was last brought about as
// well, and has no more.
func askedSite(want, former json.RawMessage) json.RawMessage {
	if !bytes.Contains(former, []byte(`"beside"`)) {
		return want
	}
	was, ok := last[SiteWant](former)
	now, ok2 := last[SiteWant](want)
	if !ok || !ok2 || was.File != now.File {
		return want // else it is taken away as a whole
	}
	for _, b := range was.Beside {
		if !slices.ContainsFunc(now.Beside, func(n SiteFile) bool { return n.Path == b.Path }) {
			now.Former = append(now.Former, b.Path)
		}
	}
	return JSON(now)
}

// shownLabel are the types of files that web servers may show by the reference policy
// (httpd_selinux(8)).
var shownLabel = regexp.MustCompile(`^(httpd_.*content(_rw)?_t|public_content(_rw)?_t|usr_t|textrel_shlib_t|iso9660_t|nfs_t|cifs_t)$`)

// letsGo says whether a program that listens lets go of its port with what the plan takes away: a
// service, a container that has the port, or the site for which it has it.
func letsGo(gone []Stake, memo *Memo, l Listener) bool {
	if slices.ContainsFunc(leaving[ContainerWant](gone, "container", memo), func(c ContainerWant) bool { return slices.Contains(c.Ports, l.Port) }) {
		return true
	}
	if slices.ContainsFunc(leaving[SiteWant](gone, "site", memo), func(s SiteWant) bool { return s.Program == l.Program && slices.Contains(s.Listen, l.Port) }) {
		return true // its server goes on without it
	}
	return slices.ContainsFunc(leaving[ServiceWant](gone, "service", memo), func(s ServiceWant) bool { return s.Serves == l.Program })
}

// goneFile says whether somebody declares that the file at a path is to be gone.
func goneFile(in Input, path string) bool {
	for _, w := range of[FileWant](in.Declared, "file", in.Memo) {
		if w.Gone && w.Path == path {
			return true
		}
	}
	return false
}

// leads is where a link leads, from where it lies.
func leads(link, target string) string {
	if path.IsAbs(target) {
		return path.Clean(target)
	}
	return path.Join(path.Dir(link), target)
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

// gives says whether a rival is the file of another declared site that is to have the name no longer,
// and is written anew with the same plan: two sites may exchange their names.
func gives(in Input, r Rival) bool {
	for s, other := range of[SiteWant](in.Declared, "site", in.Memo) {
		if s.Name != in.Stake.Name && (other.File == r.File || other.Link != "" && other.Link == r.File) {
			return !(r.Name != "" && slices.Contains(other.Names, r.Name)) && !(r.First != 0 && other.First)
		}
	}
	return false
}
