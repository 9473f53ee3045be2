// Package declare reads a declaration: the TOML files of a ground, with the
// list of the content files that lie beside them. It keeps the position of
// every key and value, and finds everything that is wrong at once.
package declare

import (
	"crypto/sha256"
	"encoding/hex"
	"path"
	"slices"
	"strings"
	"sync"

	"northstake/core/wire"
)

// Declaration is what the TOML files of a ground say, merged.
type Declaration struct {
	Ground Ground           `toml:"ground" json:"ground"`
	Reach  Reach            `toml:"reach" json:"reach"`
	Kits   map[string]*Kit  `toml:"kit" json:"kits,omitempty"`
	Hosts  map[string]*Host `toml:"host" json:"hosts,omitempty"`
	Sites  map[string]*Site `toml:"site" json:"sites,omitempty"`

	Certificates map[string]*Certificate `toml:"certificate" json:"certificates,omitempty"`
	Authorities  map[string]*Authority   `toml:"authority" json:"authorities,omitempty"`
	Places

	positions  map[string]span
	lent       map[string]bool // of positions, what sites take from kits
	sources    map[string][]string
	manifest   *Manifest
	unground   bool // no file has a [ground]
	readable   bool
	overdone   *sync.Map       // templates that go beyond their bounds, by name and text
	miswritten map[string]bool // keys that another one is taken to stand for, by their paths

	places   []string            // names of all places
	sortOf   map[string]string   // of each place
	labelsOf map[string][]string // of each place that is no host
	names    []string            // of all hosts
	labelled map[string][]string // hosts by label
	hostsOf  map[string][]string // by site
	sitesOn  map[string][]string // by host
}

var _ = Explain[Declaration](map[string]string{
	"ground": "What this declaration is about.",
	"reach":  "How hosts are reached unless a host says otherwise.",
	"kit":    "Named bundles of settings that hosts share.",
	"host":   "The machines and containers of this ground.",
	"site":   "The websites of this ground.",

	"certificate": "What sites show who asks for them over HTTPS.",
	"authority":   "Who signs certificates of this ground.",
})

// Ground names the declaration.
type Ground struct {
	Name  string `toml:"name" json:"name" required:"true" example:"\"saltmarsh\""`
	About string `toml:"about" json:"about,omitempty" example:"\"Public sites of Saltmarsh Ferries\""`

	Givens           map[string]string `toml:"givens" json:"givens,omitempty" example:"{ office = \"the harbour office\" }"`
	NoLongerDeclared string            `toml:"no_longer_declared" json:"no_longer_declared,omitempty" enum:"kept,removed" default:"kept" example:"\"removed\""`
	UnknownNames     string            `toml:"unknown_names" json:"unknown_names,omitempty" default:"what the server does by itself" example:"\"404\""`
	More             *More             `toml:"more_hosts" json:"more_hosts,omitempty" example:"{ program = \"bin/hosts\", reuse_for = \"10m\" }"`
}

var _ = Explain[Ground](map[string]string{
	"name":               "Name of the ground: lower-case letters, digits and hyphens.",
	"about":              "One line for people.",
	"givens":             "Named values for the text of every host.",
	"no_longer_declared": "What becomes of what runs brought about and nobody declares any more: it is kept, and every plan says so, or removed.",
	"unknown_names":      "What answers to names that no site has, on the ports of sites of which none is the catch_all: \"nothing\" (the connection is closed), a status such as \"404\", or a URL that visitors are sent to.",
	"more_hosts":         "A program beside the declaration that prints more hosts: [host.NAME] tables in TOML, and nothing else.",
})

// More says which program lists more hosts.
type More struct {
	Program  string `toml:"program" json:"program" required:"true" example:"\"bin/hosts\""`
	ReuseFor string `toml:"reuse_for" json:"reuse_for,omitempty" default:"it is asked each time" example:"\"10m\""`
}

var _ = Explain[More](map[string]string{
	"program":   "The program, by its path beside the declaration.",
	"reuse_for": "How long what it printed is used again, such as 10m.",
})

// Reach says how a host is reached.
type Reach struct {
	User               string   `toml:"user" json:"user,omitempty" default:"none: every host that is reached over SSH needs one" example:"\"keeper\""`
	Port               int      `toml:"port" json:"port,omitempty" default:"22" example:"22"`
	KeySecret          string   `toml:"key_secret" json:"key_secret,omitempty" example:"\"keeper\""`
	PasswordSecret     string   `toml:"password_secret" json:"password_secret,omitempty" example:"\"keeper-password\""`
	Sudo               *bool    `toml:"sudo" json:"sudo,omitempty" default:"false" example:"true"`
	HostKeyAuthorities []string `toml:"host_key_authorities" json:"host_key_authorities,omitempty" example:"[\"files/host-authority.pub\"]"`
	SudoSecret         string   `toml:"sudo_secret" json:"sudo_secret,omitempty" default:"sudo asks for none" example:"\"keeper-sudo\""`
	SudoAsks           *bool    `toml:"sudo_asks" json:"sudo_asks,omitempty" default:"false" example:"true"`
	TakenBackAfter     string   `toml:"taken_back_after" json:"taken_back_after,omitempty" default:"10m" example:"\"30m\""`
}

var _ = Explain[Reach](map[string]string{
	"user":                 "Login user on the host.",
	"port":                 "TCP port of the SSH server.",
	"key_secret":           "Name of the secret that holds the private SSH key.",
	"password_secret":      "Name of the secret that holds the login password.",
	"sudo":                 "Whether the login user becomes root with sudo.",
	"host_key_authorities": "Files beside the declaration with the public keys of authorities whose certificates hosts show; such a host needs no trust of its own.",
	"sudo_secret":          "Name of the secret that holds the password for sudo.",
	"sudo_asks":            "Whether the password for sudo is asked for at each run, and kept nowhere.",
	"taken_back_after":     "How long the line to a host may be gone in the middle of a run until the host takes that run back by itself.",
})

// Kit is a named bundle of settings.
type Kit struct {
	Kits []string      `toml:"kits" json:"kits,omitempty" example:"[\"base\"]"`
	Site *SiteSettings `toml:"site" json:"site,omitempty" example:"{ server = \"nginx\", names = [\"{{ .site.name }}.saltmarsh.test\"] }"`
	Settings
}

var _ = Explain[Kit](map[string]string{
	"kits": "Kits that this one builds on: it takes their settings, in order, and its own go over them.",
	"site": "Settings of the sites that take this kit. Text in them takes givens, and the site's name as {{ .site.name }}.",
})

// Host is a machine or container that North Stake reaches.
type Host struct {
	Address string   `toml:"address" json:"address" default:"required over SSH; else it is found by itself" example:"\"192.0.2.11\""`
	Via     string   `toml:"via" json:"via,omitempty" default:"ssh" example:"\"container\""`
	Engine  string   `toml:"engine" json:"engine,omitempty" default:"the machine that the service runs on" example:"\"quay1\""`
	Inside  string   `toml:"inside" json:"inside,omitempty" default:"the host's own name" example:"\"tides\""`
	Kits    []string `toml:"kits" json:"kits,omitempty" example:"[\"base\"]"`
	Labels  []string `toml:"labels" json:"labels,omitempty" example:"[\"web\"]"`
	Reach   Reach    `toml:"reach" json:"reach,omitzero" default:"as [reach] says" example:"{ port = 2222 }"`
	Settings
}

var _ = Explain[Host](map[string]string{
	"address": "IP address or DNS name of the host.",
	"via":     "How the host is reached: over SSH, or without it, as the machine that the service itself runs on, or as a container, through its engine.",
	"engine":  "Host on whose engine the container runs that this host is.",
	"inside":  "Container that this host is, by its name on the engine.",
	"kits":    "Kits whose settings this host takes, in order.",
	"labels":  "Words to choose hosts by.",
	"reach":   "How this host is reached, where it differs from the ground.",
})

// Content says what is published in a document root. It comes from one of Dir,
// Archive, URL and Git.
type Content struct {
	Dir         string   `toml:"dir" json:"dir,omitempty" example:"\"content/timetable\""`
	Archive     string   `toml:"archive" json:"archive,omitempty" example:"\"files/site.tar.gz\""`
	URL         string   `toml:"url" json:"url,omitempty" example:"\"https://downloads.saltmarsh.test/site-1.2.tar.gz\""`
	SHA256      string   `toml:"sha256" json:"sha256,omitempty" example:"\"9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\""`
	Git         string   `toml:"git" json:"git,omitempty" example:"\"https://code.saltmarsh.test/timetable.git\""`
	At          string   `toml:"at" json:"at,omitempty" default:"the repository's own branch" example:"\"v1.2\""`
	FetchSecret string   `toml:"fetch_secret" json:"fetch_secret,omitempty" example:"\"code-token\""`
	Folder      string   `toml:"folder" json:"folder,omitempty" default:"all of it" example:"\"site-1.2/public\""`
	LeftAlone   []string `toml:"left_alone" json:"left_alone,omitempty" example:"[\"uploads\", \"*.log\"]"`
	Undeclared  string   `toml:"undeclared_files" json:"undeclared_files,omitempty" enum:"kept,removed" default:"kept" example:"\"removed\""`
	Owner       string   `toml:"owner" json:"owner,omitempty" default:"root" example:"\"www-data\""`
	Group       string   `toml:"group" json:"group,omitempty" default:"the owner's name" example:"\"www-data\""`
	Modes       Modes    `toml:"modes" json:"modes,omitzero" example:"{ files = \"0640\", directories = \"0750\" }"`
}

var _ = Explain[Content](map[string]string{
	"dir":              "Directory beside the declaration whose files are published.",
	"archive":          "Archive beside the declaration whose files are published: .zip, .tar, .tar.gz, .tar.xz or .tar.zst.",
	"url":              "Where the service fetches what is published: an archive, or one file. Needs sha256.",
	"sha256":           "SHA-256 of what is fetched, in hex; anything else is refused.",
	"git":              "Git repository from which the service fetches what is published.",
	"at":               "Branch, tag or commit of the repository. A branch is looked up each time the declaration is given to the service.",
	"fetch_secret":     "Name of the secret with which a private URL or repository is fetched: USER:PASSWORD, or a token, or for a repository over SSH a private key.",
	"folder":           "Folder in the archive or repository whose files are published.",
	"left_alone":       "Patterns of paths below the root that are left alone, whatever lies there: a directory with all that is in it.",
	"undeclared_files": "What becomes of files there that nobody declared: they are kept, and reported as stray, or removed. The plan names each that goes, and they are confirmed by the name of the stake.",
	"owner":            "User that owns the files.",
	"group":            "Group of the files.",
	"modes":            "Modes of what is published.",
})

// Modes are those of a published tree, in octal.
type Modes struct {
	Files       string `toml:"files" json:"files,omitempty" default:"0644" example:"\"0640\""`
	Directories string `toml:"directories" json:"directories,omitempty" default:"0755" example:"\"0750\""`
}

var _ = Explain[Modes](map[string]string{
	"files":       "Mode of files in octal.",
	"directories": "Mode of directories in octal.",
})

// Place is where the files lie in the manifest. The files of an archive lie below
// its own path, as if it were a directory; what the service fetches, below a name
// that is made from where it comes from.
func (c *Content) Place() string {
	switch {
	case c.Archive != "":
		return path.Join(c.Archive, c.Folder)
	case c.Fetched() != "":
		return path.Join(c.Fetched(), c.Folder)
	}
	return c.Dir
}

// Fetched is the name below which the files that the service fetches lie in the
// manifest, with those of the folder and all others; "" for content that lies
// beside the declaration.
func (c *Content) Fetched() string {
	if c.URL == "" && c.Git == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{c.URL, c.SHA256, c.Git, c.At}, "\x00")))
	return ".fetched/" + hex.EncodeToString(sum[:8])
}

// Position is a place in a declaration's file.
type Position = wire.Position

// File is one content file beside the declaration.
type File = wire.File

type span struct {
	Position
	width int
}

const sep = "\x1f"

// theKey stands below the keys of a value for the key itself.
const theKey = "\x1e"

// KeyAt is where a key itself stands, rather than its value.
func KeyAt(keys ...string) []string { return append(slices.Clone(keys), theKey) }

// At is the position of the value with the given keys, or of the nearest
// enclosing thing that was written down.
func (d *Declaration) At(keys ...string) Position { return d.span(keys...).Position }

func (d *Declaration) span(keys ...string) span {
	for n := len(keys); n > 0; n-- {
		if s, ok := d.positions[strings.Join(keys[:n], sep)]; ok {
			return s
		}
	}
	return span{}
}

// Manifest lists what lies beside the declaration.
type Manifest struct {
	Files []File    `json:"files"`
	Dirs  []string  `json:"dirs,omitempty"`
	Odd   []OddFile `json:"odd,omitempty"`
}

// OddFile lies beside the declaration and cannot be published. Is says what it is.
type OddFile struct {
	Path string `json:"path"`
	Is   string `json:"is"`
}

// OddBelow are those below dir, with paths relative to it.
func (m *Manifest) OddBelow(dir string) []OddFile {
	var out []OddFile
	for _, o := range m.Odd {
		if rest, ok := strings.CutPrefix(o.Path, strings.TrimSuffix(dir, "/")+"/"); ok {
			out = append(out, OddFile{rest, o.Is})
		}
	}
	return out
}

// Below returns the files below dir, with paths relative to it, and whether
// there is such a directory.
func (m *Manifest) Below(dir string) ([]File, bool) {
	var out []File
	found := false
	prefix := strings.TrimSuffix(dir, "/") + "/"
	for _, f := range m.Files {
		if rest, ok := strings.CutPrefix(f.Path, prefix); ok {
			found = true
			f.Path, f.Text, f.Data = rest, nil, nil
			out = append(out, f)
		}
	}
	for _, d := range m.Dirs {
		found = found || d == strings.TrimSuffix(dir, "/")
	}
	return out, found
}

// EmptyBelow lists the directories below dir that hold no files, relative to it, sorted,
// each without those above it.
func (m *Manifest) EmptyBelow(dir string) []string {
	if m == nil {
		return nil
	}
	prefix := strings.TrimSuffix(dir, "/") + "/"
	filled := map[string]bool{}
	fill := func(p string) {
		for d := path.Dir(p); d != "." && !filled[d]; d = path.Dir(d) {
			filled[d] = true
		}
	}
	for _, f := range m.Files {
		if strings.HasPrefix(f.Path, prefix) {
			fill(f.Path)
		}
	}
	for _, d := range m.Dirs {
		fill(d)
	}
	var out []string
	for _, d := range m.Dirs {
		if rest, ok := strings.CutPrefix(d, prefix); ok && !filled[d] {
			out = append(out, rest)
		}
	}
	slices.Sort(out)
	return out
}

// OneOff is the name of the source that holds what is brought about once, besides
// what is declared.
const OneOff = "one-off.toml"

// Source is one TOML file of a declaration.
type Source struct {
	Name string `json:"name"`
	Text string `json:"text"`
}
