package wire

import (
	"encoding/json"
	"slices"
	"strings"
	"time"
)

// PackageWant is a package that should be installed, or gone. Of a version there
// is at most one of Version, exactly which, with or without the family's own
// revision behind it; AtLeast; and Newest, that no source offers a newer one.
type PackageWant struct {
	Name    string `json:"name"`
	Gone    bool   `json:"gone,omitempty"`
	Version string `json:"version,omitempty"`
	AtLeast string `json:"at_least,omitempty"`
	Newest  bool   `json:"newest,omitempty"`
	Whole   bool   `json:"whole,omitempty"` // of one that is gone, that what came along with it goes too
}

// PackageGone says whether a PackageWant wants a package to be gone.
func PackageGone(want json.RawMessage) bool {
	var w PackageWant
	return json.Unmarshal(want, &w) == nil && w.Gone
}

// States of packages that more than one room knows.
const (
	PackageInstalled  = "installed"
	PackageConfigured = "config-files" // taken off, and its configuration is left
	PackageAbsent     = "absent"
)

// PackageFound is what the package manager's records say. State is "installed",
// "absent", or another of dpkg's states such as "half-configured" (dpkg(1)). Of a
// package that is not as wanted, Candidate is the version that would be installed,
// "" where no source offers one; and of one that no source offers, Offered is what
// they offer instead, Near are names that are like it, and Here is what the host's
// family calls what others call that.
type PackageFound struct {
	State     string    `json:"state"`
	Version   string    `json:"version,omitempty"`
	Unmet     bool      `json:"unmet,omitempty"` // installed, in another version than is wanted
	Older     bool      `json:"older,omitempty"` // the candidate is older than what is installed
	Candidate string    `json:"candidate,omitempty"`
	Offered   []string  `json:"offered,omitempty"`
	Near      []string  `json:"near,omitempty"`
	Providers []string  `json:"providers,omitempty"` // packages that bring it, where it is no package's own name
	Here      string    `json:"here,omitempty"`
	Lacks     []string  `json:"lacks,omitempty"`    // programs, libraries and units of it that are not there any more
	ListsAt   time.Time `json:"lists_at,omitzero"`  // of when what the sources offer is known, where it was asked for
	Lists     string    `json:"lists,omitempty"`    // how old the sources' lists are, "" where that is no matter
	Disabled  []string  `json:"disabled,omitempty"` // sources that are switched off
	Short     *Short    `json:"short,omitempty"`    // where there may not be room enough to install it

	// With are the packages that would go with one that should be gone, because they need
	// it, or that would go for one that is installed. Refused is why the manager would do
	// neither, NeededBy who needs one that cannot go, and Services what goes with one that
	// goes. Orphans came along with one that should be gone, and nothing else needs them. Held
	// says that somebody keeps it at its version.
	With     []string `json:"with,omitempty"`
	Orphans  []string `json:"orphans,omitempty"`
	Refused  string   `json:"refused,omitempty"`
	NeededBy []string `json:"needed_by,omitempty"`
	Services []string `json:"services,omitempty"`
	Held     bool     `json:"held,omitempty"`
}

// Short is a file system with little room for the packages that are not as wanted,
// those of all stakes together. Takes is 0 where it cannot be known yet.
type Short struct {
	Path  string `json:"path"`
	Free  int64  `json:"free"`  // bytes
	Takes int64  `json:"takes"` // bytes
}

// How old the lists of what the sources offer are.
const (
	ListsFresh = "fresh"
	ListsOld   = "old"
	ListsNone  = "none"
)

// PackageGoal is a package that a step installs. Version is "" where the plan
// could not know it yet; then Exactly and AtLeast say which it may be.
type PackageGoal struct {
	Name    string `json:"name"`
	Version string `json:"version,omitempty"`
	From    string `json:"from,omitempty"` // the version that is there, of one that is changed
	Exactly string `json:"exactly,omitempty"`
	AtLeast string `json:"at_least,omitempty"`
}

// Pick is the version to be installed of those that the sources offer, the one
// that they would take first; "" where none will do.
func Pick(offered []string, exactly string) string {
	for _, v := range offered {
		if exactly == "" || MeetsExactly(v, exactly) {
			return v
		}
	}
	return ""
}

// PackageWork installs packages in one transaction, or removes one, or carries on with
// what was interrupted, or installs one again of which files are gone; both at Version, the one that is
// there where a source offers that. With are the packages that go along. Refresh says
// that the sources' lists are read anew first.
type PackageWork struct {
	Install   []PackageGoal `json:"install,omitempty"`
	Remove    string        `json:"remove,omitempty"`
	With      []string      `json:"with,omitempty"`
	Finish    string        `json:"finish,omitempty"`
	Reinstall string        `json:"again,omitempty"`
	Version   string        `json:"version,omitempty"`
	Refresh   bool          `json:"refresh,omitempty"`
}

// There says whether something of the package is on the host beside its
// configuration.
func (f PackageFound) There() bool { return f.State != PackageAbsent && f.State != PackageConfigured }

// MeetsExactly says whether a version that a family has is the one that is
// wanted: the same, or the same but for the family's own revision behind it and
// epoch before it ("1:1.22.1-9+deb12u2" is 1.22.1).
func MeetsExactly(version, wanted string) bool {
	if version == wanted {
		return true
	}
	_, bare, ok := strings.Cut(version, ":")
	if !ok {
		bare = version
	}
	for _, v := range []string{version, bare} {
		if i := strings.LastIndexByte(v, '-'); v == wanted || i > 0 && v[:i] == wanted {
			return true
		}
	}
	return false
}

// Names lists the packages that a step installs, once more or to the end as well.
func (w PackageWork) Names() []string {
	var out []string
	for _, g := range w.Install {
		out = append(out, g.Name)
	}
	for _, n := range []string{w.Finish, w.Reinstall} {
		if n != "" {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}
