package declare

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"northstake/core/form"
	"northstake/core/near"
)

// ReachOf is how a host is reached: its own settings over the ground's.
func (d *Declaration) ReachOf(host string) Reach {
	r := d.Reach
	h := d.Hosts[host]
	if h == nil {
		return r
	}
	o := h.Reach
	if o.User != "" {
		r.User = o.User
	}
	if o.Port != 0 {
		r.Port = o.Port
	}
	if o.KeySecret != "" || o.PasswordSecret != "" {
		r.KeySecret, r.PasswordSecret = o.KeySecret, o.PasswordSecret
	}
	if o.Sudo != nil {
		r.Sudo = o.Sudo
	}
	if o.SudoSecret != "" || o.SudoAsks != nil {
		r.SudoSecret, r.SudoAsks = o.SudoSecret, o.SudoAsks
	}
	if o.TakenBackAfter != "" {
		r.TakenBackAfter = o.TakenBackAfter
	}
	if len(o.HostKeyAuthorities) > 0 {
		r.HostKeyAuthorities = o.HostKeyAuthorities
	}
	if r.Port == 0 {
		r.Port = 22
	}
	return r
}

// LineGone is for how many seconds the line to a host may be gone until it takes a run back by itself.
func (r Reach) LineGone() int64 {
	if n, ok := form.Seconds(r.TakenBackAfter); ok {
		return n
	}
	return lineGone
}

const lineGone = 10 * 60

// AsksForSudo says whether the password for sudo is asked for at each run.
func (r Reach) AsksForSudo() bool { return r.SudoAsks != nil && *r.SudoAsks }

// AuthoritiesOf are the public keys of the authorities that vouch for a host, in
// the form of authorized_keys lines.
func (d *Declaration) AuthoritiesOf(host string) []string {
	var out []string
	for _, file := range d.ReachOf(host).HostKeyAuthorities {
		text, err := d.TextBeside(file)
		if err != nil {
			continue // a revision always has it
		}
		out = append(out, AuthorityKeys(text)...)
	}
	return out
}

// AuthorityKeys reads the keys in a file: a line each, with or without what stands
// before them in known_hosts ("@cert-authority *").
func AuthorityKeys(text string) []string {
	var out []string
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if rest, ok := strings.CutPrefix(line, "@cert-authority "); ok {
			_, line, _ = strings.Cut(strings.TrimSpace(rest), " ")
		}
		if line != "" && !strings.HasPrefix(line, "#") {
			out = append(out, strings.TrimSpace(line))
		}
	}
	return out
}

// index notes what is looked up often: which hosts there are, by label, and which
// of them serve each site.
func (d *Declaration) index() {
	d.names, d.labelled = sortedKeys(d.Hosts), map[string][]string{}
	for _, name := range d.names {
		for _, label := range d.Hosts[name].Labels {
			d.labelled[label] = append(d.labelled[label], name)
		}
	}
	d.sortOf, d.labelsOf = map[string]string{}, map[string][]string{}
	d.Places.each(func(sort, name string, is placed) { d.sortOf[name], d.labelsOf[name] = sort, is.labelled() })
	for _, name := range d.names {
		d.sortOf[name] = HostSort
	}
	d.places = sortedKeys(d.sortOf)
	d.hostsOf, d.sitesOn = map[string][]string{}, map[string][]string{}
	for _, site := range sortedKeys(d.Sites) {
		seen := map[string]bool{}
		for _, word := range d.Sites[site].On {
			hosts, err := d.Match(word)
			if err != nil {
				continue // lint says so
			}
			for _, h := range hosts {
				seen[h] = true
			}
		}
		d.hostsOf[site] = sortedKeys(seen)
		for _, h := range d.hostsOf[site] {
			d.sitesOn[h] = append(d.sitesOn[h], site)
		}
	}
}

// Without is the same declaration without a site.
func (d *Declaration) Without(site string) *Declaration {
	out := *d
	out.Sites = maps.Clone(d.Sites)
	delete(out.Sites, site)
	out.index()
	return &out
}

// Match returns the hosts that a word of a site's "on" means: a name, a
// pattern, or label:WORD.
func (d *Declaration) Match(word string) ([]string, error) {
	if label, ok := strings.CutPrefix(word, "label:"); ok {
		return d.labelled[label], nil
	}
	if d.Hosts[word] != nil {
		return []string{word}, nil
	}
	var out []string
	for _, name := range d.names {
		ok, err := path.Match(word, name)
		if err != nil {
			return nil, err
		}
		if ok {
			out = append(out, name)
		}
	}
	return out, nil
}

// choice is a way to say which places are meant, by the word before its colon.
var choices = map[string]func(d *Declaration, place, word string) bool{
	"label": func(d *Declaration, place, word string) bool { return slices.Contains(d.LabelsOf(place), word) },
	"kit": func(d *Declaration, place, word string) bool {
		h := d.Hosts[place]
		return h != nil && slices.Contains(d.Taken(h.Kits), word)
	},
	"site": func(d *Declaration, host, word string) bool { return slices.Contains(d.SitesOn(host), word) },
}

// UnknownHosts is a word that chooses no host. Near is what it could have meant.
type UnknownHosts struct{ Word, Near string }

func (u UnknownHosts) Error() string { return fmt.Sprintf("no host is meant by %q", u.Word) }

// Choose returns the places that words mean, sorted: names, patterns such as
// "quay*", "label:WORD", "kit:NAME" or "site:NAME"; all places where there is no
// word. The error is an UnknownHosts.
func (d *Declaration) Choose(words []string) ([]string, error) {
	if len(words) == 0 {
		return d.PlaceNames(), nil
	}
	seen := map[string]bool{}
	for _, word := range words {
		before := len(seen)
		again := false
		sort, rest, ok := strings.Cut(word, ":")
		means := choices[sort]
		for _, place := range d.PlaceNames() {
			var is bool
			if ok && means != nil {
				is = means(d, place, rest)
			} else {
				is, _ = path.Match(word, place) // a pattern that is none matches nothing
			}
			again = again || is && seen[place]
			if is {
				seen[place] = true
			}
		}
		if len(seen) == before && !again {
			return nil, UnknownHosts{word, cmp.Or(d.choosesBy(word), near.One(word, d.choosable()))}
		}
	}
	return sortedKeys(seen), nil
}

// choosesBy is what chooses the hosts of a site, or of a kit or label, that somebody calls by its name
// alone, or by one of the names under which visitors come; "" where nothing is called so.
func (d *Declaration) choosesBy(word string) string {
	for _, name := range sortedKeys(d.Sites) {
		if name == word || slices.Contains(slices.Concat(d.Sites[name].Names, d.Sites[name].RedirectedNames), word) {
			return "site:" + name
		}
	}
	for _, sort := range []string{"label:", "kit:"} {
		if slices.Contains(d.choosable(), sort+word) {
			return sort + word
		}
	}
	return ""
}

// choosable lists what places can be chosen by.
func (d *Declaration) choosable() []string {
	out := map[string]bool{}
	for _, name := range d.PlaceNames() {
		out[name] = true
		for _, l := range d.LabelsOf(name) {
			out["label:"+l] = true
		}
	}
	for _, h := range d.Hosts {
		for _, k := range d.Taken(h.Kits) {
			out["kit:"+k] = true
		}
	}
	for name := range d.Sites {
		out["site:"+name] = true
	}
	return sortedKeys(out)
}

// HostsOf returns the names of the hosts that serve a site, sorted.
func (d *Declaration) HostsOf(site string) []string { return d.hostsOf[site] }

// SitesOn returns the names of the sites that a host serves, sorted.
func (d *Declaration) SitesOn(host string) []string { return d.sitesOn[host] }

// HostNames returns the names of all hosts, sorted.
func (d *Declaration) HostNames() []string { return d.names }

// ContentDirs returns the directories beside the declaration whose files are
// published, sorted.
func (d *Declaration) ContentDirs() []string {
	seen := map[string]bool{}
	d.contents(func(c *Content, _ []string) { seen[c.Place()] = true })
	return sortedKeys(seen)
}

// ArchiveFor is an archive that content is declared to come from.
type ArchiveFor struct {
	Path string
	From Position
}

// Archives returns the archives beside the declaration, each once, by path.
func (d *Declaration) Archives() []ArchiveFor {
	seen := map[string]Position{}
	d.contents(func(c *Content, at []string) {
		if c.Archive != "" {
			seen[c.Archive] = d.At(append(at, "archive")...)
		}
	})
	var out []ArchiveFor
	for _, p := range sortedKeys(seen) {
		out = append(out, ArchiveFor{p, seen[p]})
	}
	return out
}

// FilesOf returns the content files of one published directory, with paths
// relative to it, sorted.
func (d *Declaration) FilesOf(dir string) []File {
	files, _ := d.manifest.Below(dir)
	sort.Slice(files, func(i, j int) bool { return files[i].Path < files[j].Path })
	return files
}

// LineOf is the text of one line of one of the declaration's files.
func (d *Declaration) LineOf(p Position) string {
	if ls := d.sources[p.File]; p.Line > 0 && p.Line <= len(ls) {
		return ls[p.Line-1]
	}
	return ""
}

// SiteNames returns the names of all sites, sorted.
func (d *Declaration) SiteNames() []string { return sortedKeys(d.Sites) }

// Roots are the directories that a site publishes into, with their keys.
func (s *Site) Roots(name string) map[string][]string {
	out := map[string][]string{}
	if s.Root != "" && s.Content != nil {
		out[s.Root] = keys("site", name, "root")
	}
	for u, p := range s.Paths {
		if p.Root != "" && p.Content != nil {
			out[p.Root] = keys("site", name, "path", u, "root")
		}
	}
	return out
}

// Written says whether a value stands under these keys.
func (d *Declaration) Written(keys ...string) bool {
	_, ok := d.positions[strings.Join(keys, sep)]
	return ok
}

// Lacks says that nothing stands under these keys, nor under others that were taken
// to stand for them.
func (d *Declaration) Lacks(keys ...string) bool {
	return !d.Written(keys...) && !d.miswritten[strings.Join(keys, sep)]
}

// Problem is one at the value with the given keys, or at the nearest enclosing thing
// that was written down.
func (d *Declaration) Problem(keys []string, what, fix string) Problem {
	p := problemAt(d.sources, d.span(keys...), what, fix)
	if len(keys) > 2 && keys[0] == "site" && d.lent[strings.Join(keys[:3], sep)] {
		p.site = keys[1] // which does not show where it stands, in the kit
	}
	return p
}

// First is the beginning of the first file.
func (d *Declaration) First() Position {
	if names := sortedKeys(d.sources); len(names) > 0 {
		return Position{File: names[0], Line: 1, Column: 1}
	}
	return Position{File: ".", Line: 1, Column: 1}
}

// ProblemAt is one at a place.
func (d *Declaration) ProblemAt(at Position, what, fix string) Problem {
	return problemAt(d.sources, span{at, 1}, what, fix)
}

// HasSource says whether a file of that name was read.
func (d *Declaration) HasSource(name string) bool { return d.sources[name] != nil }

// Beside lists what lies beside the declaration; nil where that is not known.
func (d *Declaration) Beside() *Manifest { return d.manifest }

func keys(k ...string) []string { return k }
