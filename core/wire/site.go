package wire

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// SiteWant is a virtual host's configuration: the text, where it lies, and for
// each of its lines the place in the declaration that it was rendered from.
type SiteWant struct {
	Server  string      `json:"server"`
	Service string      `json:"service"`
	Package string      `json:"package,omitempty"`
	Program string      `json:"program"` // name of the server's process
	User    string      `json:"user"`    // account that reads sites
	File    Path        `json:"file"`
	Link    Path        `json:"link,omitempty"`
	Text    string      `json:"text"`
	Lines   Places      `json:"lines"`
	Mark    string      `json:"mark,omitempty"` // what the server answers when it is asked by MarkName
	Asked   string      `json:"asked,omitempty"`
	Visit   *Visit      `json:"visit,omitempty"` // nil where a site does not say its mark to visitors
	Listen  Listening   `json:"listen"`
	Within  string      `json:"within,omitempty"`  // container that its server runs in, "" for the host itself
	Image   string      `json:"image,omitempty"`   // of that container
	Sees    []HeldAt    `json:"sees,omitempty"`    // what the container has to see of the host for the site
	Off     bool        `json:"off,omitempty"`     // it is kept, and not served
	First   bool        `json:"first,omitempty"`   // it answers to names that no site has
	Beside  []SiteFile  `json:"beside,omitempty"`  // what else its configuration reads
	Former  []Path      `json:"former,omitempty"`  // files beside it that were, and are no more; when it is asked for
	Own     *ServerWant `json:"own,omitempty"`     // what its server's own configuration is when it is tested
	Yields  []string    `json:"yields,omitempty"`  // programs that let go of its ports with the same plan
	To      []string    `json:"to,omitempty"`      // services that it passes on to: addresses with ports, and paths of sockets
	Vouched []string    `json:"vouched,omitempty"` // places of lines that nobody vouches for
	Names   []string    `json:"names"`
	Roots   []Path      `json:"roots,omitempty"` // what the server reads

	Certificate *SiteCertificate `json:"certificate,omitempty"`

	Dirs []Path `json:"declared,omitempty"` // directories whose owner and mode are declared
}

// Visit is how a site is asked as its visitors ask it: by each of its names, a name below those that are
// wildcards, for a path at which it says its mark; where it listens, at the host's own addresses, those of
// version 6 of IP where it does there.
type Visit struct {
	Path  string   `json:"path"`
	Names []string `json:"names"`
	V6    bool     `json:"v6,omitempty"`
}

// SiteVisit is how it is told whether a site or somebody else answers its visitors: by its mark, or by
// being sent on to one of its own names.
type SiteVisit struct {
	Site string
	Mark string
	Own  []string
	At   Listening
	Visit

	Fingerprint string   // of the certificate that it shows, SHA-256 in hex, "" where it shows none
	Behind      []string // those of the certificates behind it
}

// SiteVisit is how the visitors of a site that has a Visit are told from those of others.
func (w SiteWant) SiteVisit() SiteVisit {
	v := SiteVisit{Mark: w.Mark, Own: w.Names, At: w.Listen, Visit: *w.Visit}
	if w.Certificate != nil {
		v.Fingerprint, v.Behind = w.Certificate.Fingerprint, w.Certificate.Behind
	}
	return v
}

// SiteFile is a file that a site's configuration reads, of root and the group of the
// server, which alone may read it.
type SiteFile struct {
	Path    Path    `json:"path"`
	Text    string  `json:"text"`
	Group   string  `json:"group"`
	Sealed  *Sealed `json:"sealed,omitempty"`  // the text, where it is made of a secret
	Between string  `json:"between,omitempty"` // stands in it between a name and its hash
	Is      string  `json:"is,omitempty"`      // what it is, "" for accounts
	Mode    Mode    `json:"mode,omitempty"`    // where it is not that of the accounts
}

// What the files beside a site are, for people.
const (
	BesideAccounts    = "accounts"
	BesideCertificate = "certificate"
	BesideKey         = "private key"
)

// IsKeyFile says whether a file beside a site is a private key, by its path.
func IsKeyFile(p Path) bool { return strings.HasSuffix(string(p), ".key") }

// Words say what the file is.
func (f SiteFile) Words() string { return cmp.Or(f.Is, BesideAccounts) }

// SiteCertificate is the certificate that a site shows: its fingerprint (SHA-256, in hex), and those of the
// certificates behind it; from when until when all of them are valid, and from when on it is told that they
// end; whom it is for, what is wrong with it for the site's visitors, and how the server reads it.
type SiteCertificate struct {
	Name        string    `json:"name"`
	Fingerprint string    `json:"fingerprint"`
	Behind      []string  `json:"behind,omitempty"`
	Since       time.Time `json:"since"`
	Until       time.Time `json:"until"`
	Told        time.Time `json:"told"`
	Names       []string  `json:"names"`
	Wrong       []Fault   `json:"wrong,omitempty"`
	ReadOnce    bool      `json:"read_once,omitempty"` // the server reads it anew only when it starts
}

// What a clock says of a certificate; "" where it is in its time, and not near its end.
const (
	CertificateEarly = "early"
	CertificateTold  = "told" // it is in its time, and near its end
	CertificateOver  = "over"
)

// At says where a moment lies in a certificate's time.
func (c SiteCertificate) At(now time.Time) string {
	switch {
	case c.Until.IsZero(): // the service has none yet
		return ""
	case now.Before(c.Since):
		return CertificateEarly
	case now.After(c.Until):
		return CertificateOver
	case !now.Before(c.Told):
		return CertificateTold
	}
	return ""
}

// Owners are whose the file is.
func (f SiteFile) Owners() Owners { return Owners{Administrators.Owner, f.Group} }

// Holds is what the file is to hold, on the host.
func (f SiteFile) Holds() (string, error) {
	if f.Sealed == nil {
		return f.Text, nil
	}
	if f.Sealed.Text == "" {
		return "", fmt.Errorf("%s: %w", f.Path, ErrNoText)
	}
	return f.Sealed.Text, nil
}

// Matches says whether the file holds what it is to hold.
func (f SiteFile) Matches(found string) bool {
	if f.Sealed != nil {
		return f.Sealed.Matches(found)
	}
	return found == f.Text
}

const siteFileMode = "0640"

// ServedBy is the stake of what serves the site, by its name on the host.
func (w SiteWant) ServedBy() string {
	if w.Within != "" {
		return Local("container", w.Within)
	}
	return Local("service", w.Service)
}

// By names what serves the site, for people.
func (w SiteWant) By() string {
	if w.Within != "" {
		return "container " + w.Within
	}
	return w.Service
}

// ModeOf is the mode of a file beside a site. Where a container sees it, nobody but root can get to its
// directory on the host, and inside there is nobody but the server.
func (w SiteWant) ModeOf(f SiteFile) Mode {
	if w.Within != "" {
		return "0644"
	}
	return cmp.Or(f.Mode, siteFileMode)
}

// SiteFound is what lies there. Bytes says that it holds what is no text in UTF-8. Loaded
// says whether the running server is known to answer by the text that is wanted; it is nil when
// the server does not run. Rivals are other files of its configuration that claim a name of the
// site.
type SiteFound struct {
	File     Entry      `json:"file"`
	Text     string     `json:"text"`
	Link     Entry      `json:"link"`
	Loaded   *bool      `json:"loaded,omitempty"`
	Unlike   string     `json:"unlike,omitempty"` // why it is not known to be loaded, where that is not its age
	Shut     []Shut     `json:"shut,omitempty"`
	Bytes    bool       `json:"bytes,omitempty"`
	Rivals   []Rival    `json:"rivals,omitempty"`
	Takes    []Taking   `json:"takes,omitempty"` // where its virtual host is not written yet
	Beside   []Beside   `json:"beside,omitempty"`
	Labels   []string   `json:"labels,omitempty"`    // of the roots, where SELinux is enforcing
	Left     []Path     `json:"left,omitempty"`      // of the former files beside it
	Silent   []string   `json:"silent,omitempty"`    // services that it passes on to and that take no connection from the host
	NotTaken string     `json:"not_taken,omitempty"` // the main configuration of the server, where it does not take the site's file in
	Taken    []Listener `json:"taken,omitempty"`     // programs outside of its container that have its ports
	Others   []Other    `json:"others,omitempty"`    // who answers its visitors in its place
	Time     string     `json:"time,omitempty"`      // what the host's clock says of its certificate
}

// Other answers visitors of names of a site, at an address of the host with its port, in that site's
// place: By says who, such as a virtual host by its file and line, or a program; "" for nobody.
type Other struct {
	Names  []string `json:"names"`
	At     string   `json:"at"`
	By     string   `json:"by"`
	Shown  string   `json:"shown,omitempty"`  // the certificate, where it is the site that answers, with another than is wanted, or not with all behind it: SHA-256 in hex
	Behind int      `json:"behind,omitempty"` // how many of those behind it are shown, in their order
}

// Beside is a file that a site's configuration reads, and whether it holds what it should.
type Beside struct {
	Entry Entry `json:"entry"`
	Same  bool  `json:"same"`
}

// Rival is a virtual host of another that answers to a name of a site, or would.
type Rival struct {
	Name  string `json:"name,omitempty"`
	First int    `json:"first,omitempty"` // or the port on which it answers to names that no site has
	File  Path   `json:"file"`
}

// Taking is what a site takes from somebody's file of the same server that nobody has to mend: visitors of
// a name that were answered there as one of By, such as "*.saltmarsh.test", or, on the port First, by names
// that no site has.
type Taking struct {
	Name  string `json:"name,omitempty"`
	By    string `json:"by,omitempty"`
	First int    `json:"first,omitempty"`
	File  Path   `json:"file"`
}

// Shut is a directory on the way to a document root that does not let the server's
// account through.
type Shut struct {
	Root  Path  `json:"root"`
	At    Path  `json:"at"`
	Entry Entry `json:"entry"`
}

// SiteWork writes a virtual host, or, with Away, takes it away.
type SiteWork struct {
	SiteWant
	Away  bool   `json:"away,omitempty"`
	Drops []Path `json:"drops,omitempty"` // files beside it that it had, and has no more
}

// LiesAt says whether a file is the configuration of the site, or the link to it.
func (w SiteWant) LiesAt(file Path) bool {
	return file != "" && (file == w.File || file == w.Link)
}

// Paths are the files that the work is about.
func (w SiteWork) Paths() []Path {
	out := []Path{w.File}
	for _, p := range append(slices.Clone(w.Drops), w.Link) {
		if p != "" {
			out = append(out, p)
		}
	}
	for _, b := range w.Beside {
		out = append(out, b.Path)
	}
	return out
}
