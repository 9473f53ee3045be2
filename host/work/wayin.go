package work

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/system"
)

// WayIn lists the places that getting in to this host rests on as it is set up: what opens the home of
// the user that the service logs in as, and the paths that the SSH server, sudo and PAM are told of,
// wherever they lead (sshd_config(5), sudoers(5), pam.conf(5)). They are read again once one of those
// files has changed.
func (h *Host) WayIn(listeners []wire.Listener) ([]wire.Path, error) {
	kept, err := system.Cached(h.Machine, "way in", "once", func() (*wayIn, error) { return &wayIn{}, nil })
	if err != nil {
		return nil, err
	}
	kept.mu.Lock()
	defer kept.mu.Unlock()
	if config := h.sshdConfig(listeners); config != kept.config || kept.key == "" || kept.key != h.FileKey(kept.files...) {
		kept.config = config
		kept.files, kept.paths = readWayIn(h.Machine, h.Login, config)
		kept.key = h.FileKey(kept.files...)
	}
	return kept.paths, nil
}

// sshdConfig is the configuration of the SSH server that the connection came in by.
func (h *Host) sshdConfig(listeners []wire.Listener) string {
	for _, l := range listeners {
		if l.Port != h.SSHPort || l.Program != "sshd" {
			continue
		}
		words := strings.FieldsFunc(h.CommandLine(l.PID), func(r rune) bool { return r == 0 || r == ' ' }) // it writes its title over its arguments
		if at := slices.Index(words, "-f"); at >= 0 && at+1 < len(words) {
			return words[at+1]
		}
	}
	return "/etc/ssh/sshd_config"
}

// wayIn is what was read, of which files.
type wayIn struct {
	mu           sync.Mutex
	config, key  string
	files, paths []wire.Path
}

// The most that is read and kept, however the files lead on to one another.
const (
	wayFiles = 100
	wayPaths = 200
)

// startup are the files of a home that a login opens, or that a shell reads which runs a command.
var startup = []string{".ssh", ".profile", ".bashrc", ".bash_profile", ".bash_login", ".zshenv", ".zprofile", ".zshrc", ".cshrc", ".tcshrc", ".login", ".pam_environment", ".k5login"}

func readWayIn(m *system.Machine, login, config string) (files, paths []wire.Path) {
	r := &wayReader{m: m, login: login, found: map[wire.Path]bool{}, read: map[wire.Path]bool{}}
	if a, known, err := family.AccountOf(m, login); err == nil && known {
		r.home, r.shell, r.uid = a.Home, a.Shell, strconv.Itoa(a.ID)
	}
	if r.home != "" {
		for _, name := range startup {
			r.note(path.Join(r.home, name))
		}
	}
	r.note(r.shell)
	r.note(config)
	r.file(wire.Path(config), r.sshd)
	r.file("/etc/sudoers", r.sudoers)
	for _, service := range []string{"sshd", "sudo"} {
		r.file(wire.Path("/etc/pam.d/"+service), r.pam)
	}
	for p := range maps.Clone(r.found) {
		r.note(string(r.leads(p)))
	}
	files = append(slices.Sorted(maps.Keys(r.read)), "/etc/passwd")
	for _, dir := range []wire.Path{"/etc/ssh", "/etc/pam.d"} { // what is not there yet
		if m.Exists(dir) {
			files = append(files, dir)
		}
	}
	return files, slices.Sorted(maps.Keys(r.found))
}

// wayReader follows the files from one to another.
type wayReader struct {
	m                       *system.Machine
	login, home, shell, uid string
	found, read             map[wire.Path]bool
}

// note keeps what is written somewhere, where it is a path.
func (r *wayReader) note(written string) {
	if !path.IsAbs(written) || len(written) > 4000 || len(r.found) >= wayPaths {
		return
	}
	p := wire.Path(path.Clean(written))
	if p == "/" || slices.ContainsFunc([]wire.Path{"/dev", "/proc", "/sys"}, p.Within) {
		return
	}
	r.found[p] = true
}

// leads is where a path leads through links, "" where it leads nowhere.
func (r *wayReader) leads(p wire.Path) wire.Path {
	at, err := filepath.EvalSymlinks(r.m.Path(p))
	if err != nil {
		return ""
	}
	return r.m.Own(at)
}

// file reads a file, once, or each in a directory; one that is not there says nothing.
func (r *wayReader) file(name wire.Path, line func(words []string)) {
	at := r.leads(name)
	if at == "" || len(r.read) >= wayFiles || r.read[name] {
		return
	}
	r.read[name] = true
	if at != name {
		r.note(string(at))
		r.read[at] = true
	}
	s, err := os.Stat(r.m.Path(at))
	if err != nil {
		return
	}
	if s.IsDir() {
		entries, err := os.ReadDir(r.m.Path(at))
		if err != nil {
			return
		}
		for _, e := range entries {
			r.file(name.Join(e.Name()), line)
		}
		return
	}
	text, err := r.m.ReadText(at)
	if err != nil {
		return
	}
	for l := range strings.Lines(text) {
		words := strings.FieldsFunc(l, func(c rune) bool { return strings.ContainsRune(" \t\r\n=,\"'", c) })
		if len(words) > 0 {
			line(words)
		}
	}
}

// sshd takes the paths of a line of sshd_config(5), and follows what it includes.
func (r *wayReader) sshd(words []string) {
	if strings.HasPrefix(words[0], "#") {
		return
	}
	for _, w := range words[1:] {
		w = r.expand(w)
		if strings.EqualFold(words[0], "Include") {
			r.included(w, "/etc/ssh", r.sshd)
			continue
		}
		if strings.HasPrefix(words[0], "AuthorizedKeysFile") && !path.IsAbs(w) && r.home != "" {
			w = path.Join(r.home, w)
		}
		r.note(w)
	}
}

// expand puts in what sshd_config(5) calls tokens; of others what is before them is kept.
func (r *wayReader) expand(w string) string {
	w = strings.NewReplacer("%%", "%", "%h", r.home, "%u", r.login, "%U", r.uid).Replace(w)
	return before(w, "%")
}

// before is the directory that a path begins with, before one of some signs.
func before(w, signs string) string {
	if at := strings.IndexAny(w, signs); at >= 0 {
		return path.Dir(w[:at] + "x")
	}
	return w
}

// sudoers follows what sudoers(5) includes: what it allows to whom is no way in.
func (r *wayReader) sudoers(words []string) {
	if slices.Contains([]string{"@include", "@includedir", "#include", "#includedir"}, words[0]) && len(words) > 1 {
		r.included(before(words[1], "%"), "/etc", r.sudoers)
	}
}

// pam takes the paths of a line of pam.conf(5), and follows what it includes.
func (r *wayReader) pam(words []string) {
	if strings.HasPrefix(words[0], "#") {
		return
	}
	for i, w := range words {
		if path.IsAbs(w) {
			r.note(w)
		}
		if (w == "@include" || i > 0 && (w == "include" || w == "substack")) && i+1 < len(words) {
			r.file(wire.Path(path.Join("/etc/pam.d", words[i+1])), r.pam)
		}
	}
}

// included follows a path that may have the signs of glob(7), below dir unless it says otherwise.
func (r *wayReader) included(w, dir string, line func([]string)) {
	if !path.IsAbs(w) {
		w = path.Join(dir, w)
	}
	at := before(w, "*?[")
	r.note(at)
	r.file(wire.Path(at), line)
}
