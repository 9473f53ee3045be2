// Package form says what names, paths and values may look like, wherever they are
// written: a declared value never becomes anything else than a value.
package form

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// What names may look like.
var (
	PlainName = pattern(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`) // of grounds, kits, sites, secrets, portions
	HostName  = pattern(`^[a-z0-9]([a-z0-9.-]{0,61}[a-z0-9])?$`)
	DNSName   = pattern(`^(\*\.)?([a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?)(\.[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?)*$`)
	Package   = pattern(`^[A-Za-z0-9][A-Za-z0-9+._-]{0,98}[A-Za-z0-9+.](:[a-z0-9-]{1,20})?$`)
	Service   = pattern(`^[A-Za-z0-9][A-Za-z0-9:_.@-]{0,99}$`)
	Account   = pattern(`^[a-z_]([a-z0-9_-]{0,31}|[a-z0-9_-]{0,30}\$)$`) // useradd(8): 32 characters
	Given     = pattern(`^[a-z][a-z0-9_]{0,39}$`)
	Mode      = pattern(`^0?[0-7]{3}$`) // in octal

	// DirectoryMode is one with what directories alone have: new files get their group (2), and only who
	// owns a file there takes it away (1).
	DirectoryMode = pattern(`^[0-3]?[0-7]{3}$`)
	PublicKey     = pattern(`^(ssh|ecdsa)-[a-z0-9-]+ [A-Za-z0-9+/]+=*( .*)?$`)
	Version       = pattern(`^[0-9A-Za-z][0-9A-Za-z.+:~^_-]{0,99}$`)             // of a package
	Suite         = pattern(`^[A-Za-z0-9][A-Za-z0-9._/-]{0,99}$`)                // of a source, and its parts
	SHA256        = pattern(`^[0-9a-f]{64}$`)                                    // in hex
	GitRef        = pattern(`^[A-Za-z0-9][A-Za-z0-9._/-]{0,199}$`)               // a branch, a tag or a commit
	Method        = pattern(`^[A-Z]{1,20}$`)                                     // of a request
	Header        = pattern(`^[A-Za-z][A-Za-z0-9-]{0,99}$`)                      // name of a header
	Charset       = pattern(`^[A-Za-z0-9][A-Za-z0-9_-]{0,39}$`)                  // name of a character set
	MediaType     = pattern(`^[a-z]+/[a-z0-9.+-]+(; ?charset=[A-Za-z0-9_-]+)?$`) // such as text/plain; charset=utf-8
	Visitor       = pattern(`^[A-Za-z0-9][A-Za-z0-9._@-]{0,63}$`)                // an account of visitors of a site
	Bcrypt        = pattern(`^\$2[aby]\$(0[4-9]|1[0-9]|2[0-9]|3[01])\$[./A-Za-z0-9]{53}$`)
	Container     = pattern(`^[a-zA-Z0-9][a-zA-Z0-9_.-]{0,62}$`) // by its name on an engine; networks, too
	Image         = pattern(`^[a-z0-9]([a-z0-9.-]{0,100}[a-z0-9])?(:[0-9]{1,5})?(/[a-z0-9]+([._-]+[a-z0-9]+)*){1,8}(:[A-Za-z0-9_][A-Za-z0-9_.-]{0,127}|@sha256:[0-9a-f]{64})$`)
	Variable      = pattern(`^[A-Za-z_][A-Za-z0-9_]{0,99}$`)
	Mark          = pattern(`^[A-Za-z0-9][A-Za-z0-9._/-]{0,127}$`)                                      // a label of a container
	GitSSH        = pattern(`^([a-z_][a-z0-9_-]*@)?[A-Za-z0-9.-]+:/?[A-Za-z0-9._~-][A-Za-z0-9._/~-]*$`) // host:path
)

// A Pattern is an expression that is made ready when it is first asked for: a
// command that asks for none starts without the work of reading them all.
type Pattern struct{ ready func() *regexp.Regexp }

func pattern(text string) Pattern {
	return Pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
}

// MatchString says whether v looks like it.
func (p Pattern) MatchString(v string) bool { return p.ready().MatchString(v) }

// SystemDirs are directories that belong to the system.
var SystemDirs = []string{"/", "/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/lib64", "/opt", "/proc", "/root", "/run", "/sbin", "/srv", "/sys", "/tmp", "/usr", "/var", "/var/lib", "/var/www", "/usr/share"}

// programPlaces are directories whose files belong to packages, to the kernel or to single users:
// whatever is published as a whole is not below them. /usr/share and /usr/local have room for it.
var programPlaces = []string{"/bin", "/boot", "/lib", "/lib32", "/lib64", "/libx32", "/lost+found", "/root", "/sbin", "/usr/bin", "/usr/include", "/usr/lib", "/usr/lib32", "/usr/lib64", "/usr/libexec", "/usr/sbin", "/usr/src",
	"/usr/local/bin", "/usr/local/sbin", "/usr/local/lib", "/usr/local/libexec", "/var/backups", "/var/lib/apt", "/var/lib/dpkg", "/var/lib/rpm", "/var/lib/dnf", "/var/lib/systemd", "/var/lib/containers", "/var/lib/docker", "/var/lock", "/var/log", "/var/run", "/var/spool"}

// accountFiles are those in which a system keeps its accounts: the account stakes are for these.
var accountFiles = []string{"/etc/passwd", "/etc/shadow", "/etc/group", "/etc/gshadow", "/etc/passwd-", "/etc/shadow-", "/etc/group-", "/etc/gshadow-", "/etc/subuid", "/etc/subgid"}

// below is the directory of a list that a path is or lies below, "" for none.
func below(p string, list []string) string {
	for _, dir := range list {
		if p == dir || strings.HasPrefix(p, dir+"/") {
			return dir
		}
	}
	return ""
}

// ownPlaces are directories in which nothing can be declared.
var ownPlaces = []string{"/proc", "/sys", "/dev", "/run", "/var/lib/northstake", "/etc/northstake"}

// Bad says what is wrong with text that lands in a server's configuration: control
// characters, and the marks that such files give a meaning; "" where nothing is.
func Bad(s string) string {
	for _, r := range s {
		if r < 0x20 || r == 0x7f {
			return "it has a control character"
		}
		if strings.ContainsRune("$\"'`\\;{}*?[]|<>&", r) {
			return fmt.Sprintf("it has %q, which has a meaning of its own in configuration files", string(r))
		}
	}
	return ""
}

// Control says whether text has a control character.
func Control(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r < 0x20 || r == 0x7f }) >= 0
}

// Place says what is wrong with the path of something that is to lie on a host, and
// what to do; "" where nothing is.
func Place(p string) (what, fix string) {
	switch {
	case !strings.HasPrefix(p, "/"):
		return fmt.Sprintf("%q is not an absolute path", p), "begin it with /"
	case p == "/":
		return "\"/\" is the whole host", "declare a path below it"
	case path.Clean(p) != p:
		return fmt.Sprintf("%q is not in its shortest form", p), fmt.Sprintf("write %q", path.Clean(p))
	case Control(p):
		return fmt.Sprintf("%q has a control character", p), "use a plainer name"
	case len(p) > 1000 || longestPart(p) > 200:
		return "this path is too long", "use one of at most 1000 characters, and at most 200 for each part"
	}
	if own := below(p, ownPlaces); own != "" {
		return fmt.Sprintf("%s is kept by the system or by North Stake", own), "declare a path elsewhere"
	}
	if slices.Contains(accountFiles, p) {
		return fmt.Sprintf("in %s the system keeps its accounts", p), "declare them as [….account.NAME]"
	}
	return "", ""
}

// Log says what is wrong with the path of a log, and what to do; "" where nothing is.
func Log(p string) (what, fix string) {
	if what, fix = Place(p); what != "" {
		return what, fix
	}
	if dir := below(p, append([]string{"/etc", "/usr"}, slices.DeleteFunc(slices.Clone(programPlaces), func(d string) bool { return d == "/var/log" })...)); dir != "" {
		return fmt.Sprintf("%s is no place for a log", dir), "write it below /var/log"
	}
	return "", ""
}

// Root says what is wrong with the path of a document root, and what to do; ""
// where nothing is.
func Root(p string) (what, fix string) {
	switch {
	case !strings.HasPrefix(p, "/"):
		return fmt.Sprintf("%q is not an absolute path", p), "begin it with /"
	case path.Clean(p) != p:
		return fmt.Sprintf("%q is not in its shortest form", p), fmt.Sprintf("write %q", path.Clean(p))
	case Bad(p) != "":
		return fmt.Sprintf("%q cannot be a directory here: %s", p, Bad(p)), "use a plainer name"
	case slices.Contains(SystemDirs, p) && below(p, programPlaces) == "" && below(p, ownPlaces) == "":
		return fmt.Sprintf("%s belongs to the system and cannot be a document root", p), "use a directory of the site's own below it"
	case below(p, ownPlaces) != "":
		return fmt.Sprintf("%s is kept by the system or by North Stake", below(p, ownPlaces)), "publish below /srv or /var/www"
	case below(p, programPlaces) != "":
		return fmt.Sprintf("%s holds what packages, the system or its administrator keep there, and nothing is published in it", below(p, programPlaces)), "publish below /srv or /var/www"
	case strings.HasPrefix(p, "/home/") && strings.Count(p, "/") == 2:
		return fmt.Sprintf("%s is all that a user has", p), "use a directory below it"
	case slices.ContainsFunc(strings.Split(p, "/"), func(part string) bool { return part == ".ssh" || part == ".gnupg" }):
		return fmt.Sprintf("%s is where keys are kept", p), "publish below /srv or /var/www"
	case len(p) > 1000:
		return "this path is longer than 1000 characters", "use a shorter one"
	case longestPart(p) > 200:
		return "a part of this path is longer than 200 characters", "use a shorter one"
	}
	return "", ""
}

func longestPart(p string) int {
	n := 0
	for _, part := range strings.Split(p, "/") {
		n = max(n, len(part))
	}
	return n
}

// Beside says whether a path lies beside the declaration or below.
func Beside(p string) bool {
	return p != "" && p != "." && !path.IsAbs(p) && path.Clean(p) == p && p != ".." && !strings.HasPrefix(p, "../")
}

// Folder says whether a path can be a folder in an archive or a repository.
func Folder(p string) bool {
	return !path.IsAbs(p) && path.Clean(p) == strings.TrimSuffix(p, "/") && !strings.HasPrefix(p, "..") && p != "."
}

// URLPath says what to do about a URL path that cannot be one, "" where it can.
func URLPath(p string) string {
	switch {
	case !strings.HasPrefix(p, "/"):
		return "begin it with /"
	case Bad(strings.ReplaceAll(strings.ReplaceAll(p, "?", ""), "&", "")) != "":
		return Bad(p)
	case strings.Contains(p, "//") || strings.Contains(p+"/", "/../") || strings.Contains(p+"/", "/./"):
		return "write it in its shortest form"
	case len(p) > 1000:
		return "use a shorter one"
	case strings.ContainsAny(p, " \t#%"):
		return "it cannot have spaces, # or %"
	}
	return ""
}

// Socket says what to do about the path of a socket that cannot be one, "" where it can.
func Socket(p string) string {
	switch {
	case !strings.HasPrefix(p, "/") || path.Clean(p) != p || p == "/":
		return "write its absolute path, such as \"unix:/run/tides.sock\""
	case Bad(p) != "":
		return Bad(p)
	case strings.ContainsAny(p, " #%:"):
		return "it cannot have spaces, #, % or :"
	case len(p) > 100:
		return "use a shorter one: a socket's path has 107 characters at most"
	}
	return ""
}

// FileName says whether a name is that of a plain file.
func FileName(f string) bool {
	return f != "" && !strings.Contains(f, "/") && Bad(f) == "" && f != "." && f != ".." && len(f) <= 200 && !strings.ContainsAny(f, " #")
}

var ports = pattern(`^([0-9]{1,5})(?:-([0-9]{1,5}))?/(tcp|udp)$`)

// Ports says what is wrong with ports such as "443/tcp" or "8000-8100/udp", and what
// to do; "" where nothing is.
func Ports(p string) (what, fix string) {
	m := ports.ready().FindStringSubmatch(p)
	if m == nil {
		return fmt.Sprintf("%q is not a port", p), "write a number from 1 to 65535 and a protocol, such as \"443/tcp\", or two numbers for a range, such as \"8000-8100/udp\""
	}
	first, _ := strconv.Atoi(m[1])
	last, _ := strconv.Atoi(m[2])
	switch {
	case first < 1 || first > 65535 || last > 65535 || strings.HasPrefix(m[1], "0") || strings.HasPrefix(m[2], "0"):
		return fmt.Sprintf("%q is not a port", p), "write a number from 1 to 65535 and a protocol, such as \"443/tcp\""
	case m[2] != "" && last <= first:
		return fmt.Sprintf("the range %q does not go up", p), "write the lower number first"
	}
	return "", ""
}

// Numeric says whether text looks like an IPv4 address.
func Numeric(s string) bool { return s != "" && strings.Trim(s, "0123456789.") == "" }
