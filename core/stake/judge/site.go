package judge

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"northstake/core/stake"
	"northstake/core/wire"
)

func takingWords(t wire.Taking) string {
	if t.First > 0 {
		return fmt.Sprintf("whoever asks port %d for a name that no site has was answered by %s, and is by this site from then on", t.First, t.File)
	}
	return fmt.Sprintf("visitors of %s were answered by %s (%s), and are by this site from then on", t.Name, t.File, t.By)
}

// rivalWords is what a rival claims.
func rivalWords(r wire.Rival) string {
	if r.First > 0 {
		return fmt.Sprintf("the first place on port %d", r.First)
	}
	return "the name " + r.Name
}

var _ = stake.Judged("site", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Asked:        askedSite,
	Join: func(moves []wire.Move) wire.Move {
		var names []string
		for _, m := range moves {
			w, _ := stake.Decoded[wire.SiteWant](m.Work)
			names = append(names, w.File.Base())
		}
		return joinMoves(moves, "the virtual hosts of "+count(len(moves), "site", "sites"), names)
	},
	Within:  worksWithin,
	Paths:   workAt[wire.Works[wire.SiteWork]],
	Judge:   stake.Judging(judgeSite),
	Follows: true,
	Passing: []string{"silent", "taken", "others"},
	Elsewhere: func(former, now json.RawMessage) json.RawMessage {
		f, ok := stake.Decoded[wire.SiteWant](former)
		n, ok2 := stake.Decoded[wire.SiteWant](now)
		if !ok || !ok2 || f.File == n.File {
			return nil
		}
		return former
	},
	Unwanted: unwantedSite,
	Away:     stake.Judging(awaySite),
})

// unwantedSite says whether a declared site has the name of one that was, with the port, or
// is that one on another server.
func unwantedSite(gone stake.Stake, in stake.Surroundings) (why, forStake string) {
	was, ok := stake.Decoded[wire.SiteWant](gone.Want)
	if !ok {
		return "", ""
	}
	for d, now := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		if d.Name == gone.Site && now.ServedBy() != was.ServedBy() {
			return fmt.Sprintf("site %s is served by %s now", d.Name, now.By()), d.Local()
		}
		if !slices.ContainsFunc(was.Listen.Ports(), now.Listen.Has) {
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
func awaySite(in stake.Input, w wire.SiteWant, f wire.SiteFound) stake.Verdict {
	v := stake.Verdict{Gone: f.File.Kind == "" && f.Link.Kind == ""}
	if v.Gone {
		return v
	}
	if f.File.Kind == wire.EntryFile && (f.Text != w.Text || f.Bytes) {
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: string(w.File) + " was changed by hand, and goes", Fix: "look at what was written there; the run keeps it on the host until it is done"}}
	}
	_, sake := unwantedSite(in.Stake, stake.Surroundings{Declared: in.Declared, Memo: in.Memo})
	for s, now := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		v.Late = v.Late || s.Local() == sake && now.ServedBy() != w.ServedBy()
	}
	goesOn := slices.ContainsFunc(in.Declared, func(s stake.Stake) bool { return s.Local() == w.ServedBy() }) || w.Within == "" && len(servedFor(in, w.Program)) > 0
	if v.Late && goesOn { // else the caution is with what stops
		v.Cautions = append(v.Cautions, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("site %s is down between %s, a few seconds: until then it is served by %s", in.Stake.Site, BetweenSteps, w.By()), Fix: AtAQuietHour})
	}
	v.Moves = []wire.Move{{Verb: "take", Text: fmt.Sprintf("take away the virtual host of site %s, %s", in.Stake.Site, w.File), Work: wire.JSON(wire.SiteWork{SiteWant: w, Away: true})}}
	v.Nudges = []stake.Nudge{{Target: w.ServedBy(), How: wire.TellReload, Reason: "its former site " + in.Stake.Site + " is gone"}}
	return v
}

func judgeSite(in stake.Input, w wire.SiteWant, f wire.SiteFound) stake.Verdict {
	j := &siteJudgement{in: in, w: w, f: f, v: stake.Verdict{Gone: f.File.Kind == "" && f.Link.Kind == ""}}
	if j.files(); len(j.d) > 0 || f.Loaded != nil && !*f.Loaded { // else who last wrote the file has nothing to do with it
		j.v.Touched = f.File.Touched
	}
	j.switchedOn()
	onDisk := len(j.d) > 0
	if !onDisk && f.Loaded != nil && !*f.Loaded {
		j.d.add("loaded", "yes", "no, "+cmp.Or(f.Unlike, w.By()+" runs with an older configuration"))
	}
	j.shown()
	j.around()
	own := len(j.d)
	j.certificate()
	j.takenIn()
	givesWay := j.rivals()
	j.ways()
	j.v.Differences = j.d
	j.ports()
	switch {
	case own == 0 && givesWay != "":
		j.reload(string(givesWay + " is taken away"))
	case own == 0:
	case !onDisk && j.otherShown && w.Certificate.ReadOnce:
		j.v.Nudges = []stake.Nudge{{Target: w.ServedBy(), How: wire.TellRestart, Reason: "it has read another certificate for site " + in.Stake.Site + ", and reads it anew only when it starts"}}
	case !onDisk:
		j.reload("its site " + in.Stake.Site + " is written and not loaded")
	default:
		j.reload("its site " + in.Stake.Site + " changed")
		j.write()
	}
	return j.v
}

// siteJudgement is one virtual host that is being judged.
type siteJudgement struct {
	in stake.Input
	w  wire.SiteWant
	f  wire.SiteFound
	d  differences
	v  stake.Verdict

	otherShown bool // visitors get another certificate than lies there
}

func (j *siteJudgement) block(what, fix string) {
	j.v.Blockers = append(j.v.Blockers, stake.Note{Address: j.in.Stake.Address(), What: what, Fix: fix})
}

func (j *siteJudgement) caution(what, fix string) {
	j.v.Cautions = append(j.v.Cautions, stake.Note{Address: j.in.Stake.Address(), What: what, Fix: fix})
}

// reload has the server take notice.
func (j *siteJudgement) reload(why string) {
	j.v.Nudges = []stake.Nudge{{Target: j.w.ServedBy(), How: wire.TellReload, Reason: why}}
}

// files compares what is written, and what lies beside it.
func (j *siteJudgement) files() {
	w, f := j.w, j.f
	compareEntry(&j.d, wire.EntryFile, wire.Administrators, "0644", f.File)
	if f.File.Kind == wire.EntryFile && (f.Text != w.Text || f.Bytes) {
		j.d.differ("configuration", "as rendered", "different")
	}
	for i, b := range f.Beside[:min(len(f.Beside), len(w.Beside))] {
		var differs differences
		if compareEntry(&differs, wire.EntryFile, w.Beside[i].Owners(), w.ModeOf(w.Beside[i]), b.Entry); b.Entry.Kind == wire.EntryFile && !b.Same {
			differs.differ(w.Beside[i].Words(), "as declared", "different")
		}
		for _, one := range differs {
			j.d.differ(string(w.Beside[i].Path)+", "+one.Attribute, one.Wanted, one.Found)
		}
	}
	for _, b := range w.Beside {
		if b.Sealed != nil && b.Sealed.Lacks != "" {
			j.block(b.Sealed.Lacks, keepsIt(b))
		}
	}
}

// keepsIt is what to do about a secret that is not there.
func keepsIt(b wire.SiteFile) string {
	if name, is := strings.CutPrefix(b.Sealed.Secret, wire.CertificateSecret); is {
		return fmt.Sprintf("northstake certificates %s tells of it", name)
	}
	return fmt.Sprintf("northstake secret keep %s takes it", b.Sealed.Secret)
}

// switchedOn compares the link by which the server takes it in, and finds what is left of what was before.
func (j *siteJudgement) switchedOn() {
	w, is := j.w, j.f.Link
	switch {
	case w.Link == "":
	case w.Off && is.Kind != "":
		j.d.add("switched on", "no", "yes")
	case w.Off:
	case is.Kind == "":
		j.d.add("switched on", "yes", "no")
	case is.Kind != wire.EntryLink || w.Link.Leads(is.Target) != w.File:
		j.d.add("switched on", "a link to "+string(w.File), is.Words())
	}
	for _, p := range j.f.Left {
		j.d.add(string(p), "gone", "left from what was declared before")
	}
}

// shown compares the certificates that visitors get: the server reads them when it is told to.
func (j *siteJudgement) shown() {
	for _, o := range j.f.Others {
		if o.Shown == "" || j.w.Certificate == nil {
			continue
		}
		j.otherShown = true
		switch o.Shown {
		case j.w.Certificate.Fingerprint:
			j.d.differ("certificate at "+o.At, "with "+count(len(j.w.Certificate.Behind), "other", "others")+" behind it, in their order", fmt.Sprintf("with %d of them", o.Behind))
		default:
			j.d.differ("certificate at "+o.At, "SHA-256 "+j.w.Certificate.Fingerprint[:16]+"…", "SHA-256 "+o.Shown[:16]+"…")
		}
	}
}

// certificate blocks a certificate from which visitors turn away, and says of one in good time that it ends.
func (j *siteJudgement) certificate() {
	c := j.w.Certificate
	if c == nil || j.w.Off {
		return
	}
	name := "certificate " + c.Name
	wrong := func(found, what, fix string) {
		j.d.differ(name, "one that visitors take", found)
		j.block(name+": "+what, fix)
	}
	day := func(at time.Time) string { return at.UTC().Format("2006-01-02 15:04 UTC") }
	for _, w := range c.Wrong {
		wrong(w.What, w.What, w.Fix)
	}
	switch j.f.Time {
	case wire.CertificateEarly:
		wrong("not valid before "+day(c.Since), "it is not valid before "+day(c.Since)+clockWords(j.in), "wait for that, or have it made anew; and look whether the clock is right")
	case wire.CertificateOver:
		wrong("out of date since "+day(c.Until), "it has been out of date since "+day(c.Until)+clockWords(j.in), "have it made anew, and hand that over")
	case wire.CertificateTold:
		j.v.Soon = fmt.Sprintf("its certificate %s is valid until %s, and no longer", c.Name, day(c.Until))
	}
}

// clockWords say of a host whose clock is wrong that this rests on it, "" where it is right.
func clockWords(in stake.Input) string {
	if in.Traits.ClockSkew == "" {
		return ""
	}
	return fmt.Sprintf(", by the clock of %s, which is off by %s", in.Stake.Place, strings.TrimPrefix(in.Traits.ClockSkew, "-"))
}

// around cautions of what visitors of it would meet.
func (j *siteJudgement) around() {
	host := j.in.Stake.Place
	for _, to := range j.f.Silent {
		j.caution(fmt.Sprintf("%s, to which the site passes on, takes no connection from %s", to, host), "start that service, or correct where it is: visitors get an error until then")
	}
	for i, label := range j.f.Labels {
		if i < len(j.w.Roots) && label != "" && !shownLabel.MatchString(label) {
			root := j.w.Roots[i]
			j.caution(fmt.Sprintf("SELinux is enforcing, and %s has the label %s, which keeps web servers out", root, label), fmt.Sprintf("on %s: semanage fcontext -a -t httpd_sys_content_t '%s(/.*)?' && restorecon -R %s", host, root, root))
		}
	}
}

// takenIn blocks what the server's own configuration does not take in.
func (j *siteJudgement) takenIn() {
	w, config := j.w, j.f.NotTaken
	if config == "" {
		return
	}
	file := cmp.Or(w.Link, w.File)
	j.d.differ("taken in by "+w.By(), "yes", "no, "+config+" takes nothing in from where it lies")
	j.block(fmt.Sprintf("%s takes in nothing from %s: the site would be served by nobody", config, file.Dir()), fmt.Sprintf("put the line back there that takes in %s/*%s, and reload %s: North Stake changes nothing of it", file.Dir(), path.Ext(string(file)), w.By()))
}

// rivals blocks what others claim, or answer in its place. It returns the file, if there is one, that is declared
// as gone, and taken away before this site is judged again.
func (j *siteJudgement) rivals() (givesWay wire.Path) {
	former := leaving[wire.SiteWant](j.in.Leaving, "site", j.in.Memo)
	for _, r := range j.f.Rivals {
		j.d.differ(strings.TrimPrefix(rivalWords(r), "the "), "this site's alone", "claimed by "+string(r.File)+" as well")
		switch {
		case slices.ContainsFunc(former, func(l wire.SiteWant) bool { return l.LiesAt(r.File) }):
		case goneFile(j.in, r.File):
			givesWay = r.File
		case gives(j.in, r):
		default:
			j.block(fmt.Sprintf("%s claims %s as well", r.File, rivalWords(r)), "take it out there, or that file away"+siteGoes(j.w, j.in.Stake.Place, string(r.File))+": of two the server takes one, and which is a matter of their order")
		}
	}
	for _, o := range j.f.Others {
		if o.Shown != "" {
			continue
		}
		j.d.differ("answers at "+o.At, "this site", cmp.Or(o.By, "nothing listens there")+", for "+firstOf(o.Names))
		if goneFile(j.in, wire.Path(fileOfOther(o))) {
			givesWay = wire.Path(fileOfOther(o))
			continue
		}
		j.v.Blockers = append(j.v.Blockers, blockedBy(o, j.in.Stake.Address(), j.w))
	}
	return givesWay
}

// ways finds what shuts the server's account out.
func (j *siteJudgement) ways() {
	for _, shut := range j.f.Shut {
		if !slices.Contains(j.w.Dirs, shut.At) { // else a stake of its own sees to that
			j.d.differ("way to "+string(shut.Root), "open to "+j.w.User, fmt.Sprintf("shut at %s (%s, owner %s, group %s)", shut.At, shut.Entry.Mode, shut.Entry.Owner, shut.Entry.Group))
		}
	}
}

// elsewhere is what to do where a program has a site's port.
func (j *siteJudgement) elsewhere() string {
	return fmt.Sprintf("stop that program on %s (or declare it as not running, and apply that first), or let the site listen elsewhere", j.in.Stake.Place)
}

// ports blocks what others have the ports of, and what the server's account does not get to.
func (j *siteJudgement) ports() {
	for _, t := range j.f.Taken {
		if !slices.Contains(j.w.Yields, t.Program) && !letsGo(j.in.Leaving, j.in.Memo, t) {
			j.block(fmt.Sprintf("port %d is taken by %s (process %d), outside of %s", t.Port, t.Program, t.PID, j.w.By()), j.elsewhere())
		}
	}
	for _, port := range j.w.Listen.Ports() {
		j.port(port)
	}
	for _, shut := range j.f.Shut {
		if slices.Contains(j.w.Dirs, shut.At) || shut.At == shut.Root {
			continue // a stake of its own sees to that
		}
		j.block(fmt.Sprintf("account %s of %s cannot get to %s: %s (%s, owner %s, group %s) does not let it through", j.w.User, j.w.By(), shut.Root, shut.At, shut.Entry.Mode, shut.Entry.Owner, shut.Entry.Group),
			fmt.Sprintf("let others pass through %s (chmod o+x), declare the directory with another mode, or declare another root", shut.At))
	}
}

// port blocks what another program has a port of, and goes on with.
func (j *siteJudgement) port(port int) {
	l := j.in.Traits.On(port)
	if l == nil || j.w.Within != "" || j.w.Off || l.Program == j.w.Program {
		return
	}
	taken := fmt.Sprintf("port %d is taken by %s (process %d)", port, l.Program, l.PID)
	kept, stays := keptFor(j.in, l.Program, port), staysFor(j.in, l.Program, port)
	switch {
	case kept != "":
		j.block(fmt.Sprintf("%s, for what %s says", taken, kept),
			"take it out there (northstake plan --clear does, where this ground wrote it and declares it no more), or let the site listen elsewhere: North Stake changes nothing of others")
	case stays != "":
		j.block(fmt.Sprintf("%s, which goes on for others: %s has it listen there", taken, stays),
			"take that line out, and reload it, or let the site listen elsewhere: North Stake changes nothing of others")
	case !slices.Contains(j.w.Yields, l.Program) && !letsGo(j.in.Leaving, j.in.Memo, *l):
		j.block(taken, j.elsewhere())
	}
}

// write writes the virtual host.
func (j *siteJudgement) write() {
	text := fmt.Sprintf("write the virtual host of site %s, %s", j.in.Stake.Site, j.w.File)
	if j.w.Off {
		text += ", and leave it switched off"
	}
	for _, t := range j.f.Takes {
		j.caution(takingWords(t), "give the site another name, or another port, if that is not meant")
	}
	if len(j.w.Vouched) > 0 {
		j.caution(fmt.Sprintf("%s of raw configuration, at %s: %s tests it, and nobody else vouches for what it does", count(len(j.w.Vouched), "place", "places"), strings.Join(j.w.Vouched, ", "), j.w.By()), "look at what it does on every host that has the site")
	}
	j.v.Moves = []wire.Move{{Verb: "write", Text: text, Details: siteDetails(j.w, j.f), Work: wire.JSON(wire.SiteWork{SiteWant: j.w, Drops: j.f.Left}), Joins: true}}
}

// blockedBy says that visitors do not come to a site, though it is loaded: no step of ours changes that.
func blockedBy(o wire.Other, address string, w wire.SiteWant) stake.Note {
	if o.By == "" {
		return stake.Note{Address: address, What: fmt.Sprintf("%s has loaded the site, and nothing listens at %s, where visitors of %s come", w.By(), o.At, firstOf(o.Names)), Fix: fmt.Sprintf("look at where %s is told to listen, beside what North Stake writes, and have it listen there again", w.By())}
	}
	return stake.Note{Address: address, What: fmt.Sprintf("%s has loaded the site, and visitors of %s at %s are answered by %s", w.By(), firstOf(o.Names), o.At, o.By), Fix: "take it out there, and reload the server, or that file away" + siteGoes(w, strings.SplitN(address, "/", 2)[0], fileOfOther(o)) + ": North Stake changes nothing of others unasked"}
}

// fileOfOther is the one of the virtual host that answers, "" where none is known: "another virtual host,
// /etc/nginx/conf.d/a.conf:3".
func fileOfOther(o wire.Other) string {
	line, named := strings.CutPrefix(o.By, "another virtual host, ")
	if at := strings.LastIndex(line, ":"); named && at > 0 {
		return line[:at]
	}
	return ""
}

// siteGoes is the command that takes a file of the host's own server away, in brackets.
func siteGoes(w wire.SiteWant, host, file string) string {
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
	was, ok := stake.Decoded[wire.SiteWant](former)
	now, ok2 := stake.Decoded[wire.SiteWant](want)
	if !ok || !ok2 || was.File != now.File {
		return want // else it is taken away as a whole
	}
	for _, b := range was.Beside {
		if !slices.ContainsFunc(now.Beside, func(n wire.SiteFile) bool { return n.Path == b.Path }) {
			now.Former = append(now.Former, b.Path)
		}
	}
	return wire.JSON(now)
}

// shownLabel are the types of files that web servers may show by the reference policy
// (httpd_selinux(8)).
var shownLabel = regexp.MustCompile(`^(httpd_.*content(_rw)?_t|public_content(_rw)?_t|usr_t|textrel_shlib_t|iso9660_t|nfs_t|cifs_t)$`)

// letsGo says whether a program that listens lets go of its port with what the plan takes away: a
// service, a container that has the port, or the site for which it has it.
func letsGo(gone []stake.Stake, memo *wire.Memo, l wire.Listener) bool {
	if slices.ContainsFunc(leaving[wire.ContainerWant](gone, "container", memo), func(c wire.ContainerWant) bool { return slices.Contains(c.Ports, l.Port) }) {
		return true
	}
	if slices.ContainsFunc(leaving[wire.SiteWant](gone, "site", memo), func(s wire.SiteWant) bool { return s.Program == l.Program && s.Listen.Has(l.Port) }) {
		return true // its server goes on without it
	}
	return slices.ContainsFunc(leaving[wire.ServiceWant](gone, "service", memo), func(s wire.ServiceWant) bool { return s.Serves == l.Program })
}

// goneFile says whether somebody declares that the file at a path is to be gone.
func goneFile(in stake.Input, path wire.Path) bool {
	for _, w := range stake.Of[wire.FileWant](in.Declared, "file", in.Memo) {
		if w.Gone && w.Path == path {
			return true
		}
	}
	return false
}

func siteDetails(w wire.SiteWant, f wire.SiteFound) []wire.Detail {
	if f.File.Kind == wire.EntryFile && f.Text == w.Text {
		return nil
	}
	old := f.Text
	if f.File.Kind != wire.EntryFile {
		old = ""
	}
	return []wire.Detail{{Title: string(w.File), Text: udiff.Unified("found", "wanted", old, w.Text), Diff: true}}
}

// gives says whether a rival is the file of another declared site that is to have the name no longer,
// and is written anew with the same plan: two sites may exchange their names.
func gives(in stake.Input, r wire.Rival) bool {
	for s, other := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		if s.Name != in.Stake.Name && other.LiesAt(r.File) {
			return !(r.Name != "" && slices.Contains(other.Names, r.Name)) && !(r.First != 0 && other.First)
		}
	}
	return false
}
