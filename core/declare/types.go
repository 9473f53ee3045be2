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
	Ground Ground           `toml:"ground" json:"ground" doc:"What this declaration is about."`
	Reach  Reach            `toml:"reach" json:"reach" doc:"How hosts are reached unless a host says otherwise."`
	Kits   map[string]*Kit  `toml:"kit" json:"kits,omitempty" doc:"Named bundles of settings that hosts share."`
	Hosts  map[string]*Host `toml:"host" json:"hosts,omitempty" doc:"The machines and containers of this ground."`
	Sites  map[string]*Site `toml:"site" json:"sites,omitempty" doc:"The websites of this ground."`
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

// Ground names the declaration.
type Ground struct {
	Name  string `toml:"name" json:"name" doc:"Name of the ground: lower-case letters, digits and hyphens." required:"true" example:"\"saltmarsh\""`
	About string `toml:"about" json:"about,omitempty" doc:"One line for people." example:"\"Public sites of Saltmarsh Ferries\""`

	Givens           map[string]string `toml:"givens" json:"givens,omitempty" doc:"Named values for the text of every host." example:"{ office = \"the harbour office\" }"`
	NoLongerDeclared string            `toml:"no_longer_declared" json:"no_longer_declared,omitempty" doc:"What becomes of what runs brought about and nobody declares any more: it is kept, and every plan says so, or removed." enum:"kept,removed" default:"kept" example:"\"removed\""`
	UnknownNames     string            `toml:"unknown_names" json:"unknown_names,omitempty" doc:"What answers to names that no site has, on the ports of sites of which none is the catch_all: \"nothing\" (the connection is closed), a status such as \"404\", or a URL that visitors are sent to." default:"what the server does by itself" example:"\"404\""`
	More             *More             `toml:"more_hosts" json:"more_hosts,omitempty" doc:"A program beside the declaration that prints more hosts: [host.NAME] tables in TOML, and nothing else." example:"{ program = \"bin/hosts\", reuse_for = \"10m\" }"`
}

// More says which program lists more hosts.
type More struct {
	Program  string `toml:"program" json:"program" doc:"The program, by its path beside the declaration." required:"true" example:"\"bin/hosts\""`
	ReuseFor string `toml:"reuse_for" json:"reuse_for,omitempty" doc:"How long what it printed is used again, such as 10m." default:"it is asked each time" example:"\"10m\""`
}

// Reach says how a host is reached.
type Reach struct {
	User               string   `toml:"user" json:"user,omitempty" doc:"Login user on the host." default:"none: every host that is reached over SSH needs one" example:"\"keeper\""`
	Port               int      `toml:"port" json:"port,omitempty" doc:"TCP port of the SSH server." default:"22" example:"22"`
	KeySecret          string   `toml:"key_secret" json:"key_secret,omitempty" doc:"Name of the secret that holds the private SSH key." example:"\"keeper\""`
	PasswordSecret     string   `toml:"password_secret" json:"password_secret,omitempty" doc:"Name of the secret that holds the login password." example:"\"keeper-password\""`
	Sudo               *bool    `toml:"sudo" json:"sudo,omitempty" doc:"Whether the login user becomes root with sudo." default:"false" example:"true"`
	HostKeyAuthorities []string `toml:"host_key_authorities" json:"host_key_authorities,omitempty" doc:"Files beside the declaration with the public keys of authorities whose certificates hosts show; such a host needs no trust of its own." example:"[\"files/host-authority.pub\"]"`
	SudoSecret         string   `toml:"sudo_secret" json:"sudo_secret,omitempty" doc:"Name of the secret that holds the password for sudo." default:"sudo asks for none" example:"\"keeper-sudo\""`
	SudoAsks           *bool    `toml:"sudo_asks" json:"sudo_asks,omitempty" doc:"Whether the password for sudo is asked for at each run, and kept nowhere." default:"false" example:"true"`
	TakenBackAfter     string   `toml:"taken_back_after" json:"taken_back_after,omitempty" doc:"How long the line to a host may be gone in the middle of a run until the host takes that run back by itself." default:"10m" example:"\"30m\""`
}

// Kit is a named bundle of settings.
type Kit struct {
	Kits []string      `toml:"kits" json:"kits,omitempty" doc:"Kits that this one builds on: it takes their settings, in order, and its own go over them." example:"[\"base\"]"`
	Site *SiteSettings `toml:"site" json:"site,omitempty" doc:"Settings of the sites that take this kit. Text in them takes givens, and the site's name as {{ .site.name }}." example:"{ server = \"nginx\", names = [\"{{ .site.name }}.saltmarsh.test\"] }"`
	Settings
}

// Host is a machine or container that North Stake reaches.
type Host struct {
	Address string   `toml:"address" json:"address" doc:"IP address or DNS name of the host." default:"required over SSH; else it is found by itself" example:"\"192.0.2.11\""`
	Via     string   `toml:"via" json:"via,omitempty" doc:"How the host is reached: over SSH, or without it, as the machine that the service itself runs on, or as a container, through its engine." default:"ssh" example:"\"container\""`
	Engine  string   `toml:"engine" json:"engine,omitempty" doc:"Host on whose engine the container runs that this host is." default:"the machine that the service runs on" example:"\"quay1\""`
	Inside  string   `toml:"inside" json:"inside,omitempty" doc:"Container that this host is, by its name on the engine." default:"the host's own name" example:"\"tides\""`
	Kits    []string `toml:"kits" json:"kits,omitempty" doc:"Kits whose settings this host takes, in order." example:"[\"base\"]"`
	Labels  []string `toml:"labels" json:"labels,omitempty" doc:"Words to choose hosts by." example:"[\"web\"]"`
	Reach   Reach    `toml:"reach" json:"reach,omitzero" doc:"How this host is reached, where it differs from the ground." default:"as [reach] says" example:"{ port = 2222 }"`
	Settings
}

// Content says what is published in a document root. It comes from one of Dir,
// Archive, URL and Git.
type Content struct {
	Dir         string   `toml:"dir" json:"dir,omitempty" doc:"Directory beside the declaration whose files are published." example:"\"content/timetable\""`
	Archive     string   `toml:"archive" json:"archive,omitempty" doc:"Archive beside the declaration whose files are published: .zip, .tar, .tar.gz, .tar.xz or .tar.zst." example:"\"files/site.tar.gz\""`
	URL         string   `toml:"url" json:"url,omitempty" doc:"Where the service fetches what is published: an archive, or one file. Needs sha256." example:"\"https://downloads.saltmarsh.test/site-1.2.tar.gz\""`
	SHA256      string   `toml:"sha256" json:"sha256,omitempty" doc:"SHA-256 of what is fetched, in hex; anything else is refused." example:"\"9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\""`
	Git         string   `toml:"git" json:"git,omitempty" doc:"Git repository from which the service fetches what is published." example:"\"https://code.saltmarsh.test/timetable.git\""`
	At          string   `toml:"at" json:"at,omitempty" doc:"Branch, tag or commit of the repository. A branch is looked up each time the declaration is given to the service." default:"the repository's own branch" example:"\"v1.2\""`
	FetchSecret string   `toml:"fetch_secret" json:"fetch_secret,omitempty" doc:"Name of the secret with which a private URL or repository is fetched: USER:PASSWORD, or a token, or for a repository over SSH a private key." example:"\"code-token\""`
	Folder      string   `toml:"folder" json:"folder,omitempty" doc:"Folder in the archive or repository whose files are published." default:"all of it" example:"\"site-1.2/public\""`
	LeftAlone   []string `toml:"left_alone" json:"left_alone,omitempty" doc:"Patterns of paths below the root that are left alone, whatever lies there: a directory with all that is in it." example:"[\"uploads\", \"*.log\"]"`
	Undeclared  string   `toml:"undeclared_files" json:"undeclared_files,omitempty" doc:"What becomes of files there that nobody declared: they are kept, and reported as stray, or removed. The plan names each that goes, and they are confirmed by the name of the stake." enum:"kept,removed" default:"kept" example:"\"removed\""`
	Owner       string   `toml:"owner" json:"owner,omitempty" doc:"User that owns the files." default:"root" example:"\"www-data\""`
	Group       string   `toml:"group" json:"group,omitempty" doc:"Group of the files." default:"the owner's name" example:"\"www-data\""`
	Modes       Modes    `toml:"modes" json:"modes,omitzero" doc:"Modes of what is published." example:"{ files = \"0640\", directories = \"0750\" }"`
}

// Modes are those of a published tree, in octal.
type Modes struct {
	Files       string `toml:"files" json:"files,omitempty" doc:"Mode of files in octal." default:"0644" example:"\"0640\""`
	Directories string `toml:"directories" json:"directories,omitempty" doc:"Mode of directories in octal." default:"0755" example:"\"0750\""`
}

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
