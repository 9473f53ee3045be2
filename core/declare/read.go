package declare

import (
	"reflect"
	"sort"
	"sync"
)

// Read reads the files of a declaration, and gives sites what they take from their
// kits. It reports what cannot be read; whether what can is sound, it does not say.
func Read(sources []Source, m *Manifest) (*Declaration, Problems) {
	return ReadIn(Words, sources, m)
}

// ReadIn reads files that were written in the words of a number. Former words are problems in
// those of today, and are what they were in those of their own time.
func ReadIn(words int, sources []Source, m *Manifest) (*Declaration, Problems) {
	r := &reader{root: newTable(span{}), lines: map[string][]string{}}
	sorted := append([]Source{}, sources...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].Name < sorted[j].Name })
	for _, s := range sorted {
		r.file(s)
	}
	d := &Declaration{positions: map[string]span{}, lent: map[string]bool{}, overdone: &sync.Map{}, sources: r.lines, manifest: m}
	if len(sorted) == 0 {
		return d, Problems{{Position: Position{File: ".", Line: 1, Column: 1}, What: "there is no *.toml file here", Fix: "northstake new DIR writes a small ground to start from"}}
	}
	r.root.keyAt = span{Position: Position{File: sorted[0].Name, Line: 1, Column: 1}, width: 1}
	if len(r.problems) == 0 || len(r.root.keys) > 0 {
		for _, w := range r.modernise(r.root, reflect.TypeFor[Declaration]()) {
			if words >= Words || len(w.edits) == 0 {
				r.problems = append(r.problems, w.Problem)
			}
		}
		r.decode(d, r.root, reflect.ValueOf(d).Elem(), nil)
		for _, h := range d.Hosts {
			if _, way := h.Transport(); h.Address == "" {
				h.Address = way.Address
			}
		}
		d.readable = true
		d.miswritten, d.unground = r.miswritten, r.root.table["ground"] == nil
		d.index()
		d.inherit(&r.problems)
	}
	r.problems.Sort()
	return d, r.problems
}

// Named says whether a file says which ground this is.
func (d *Declaration) Named() bool { return !d.unground }

// Readable says whether anything of the files could be read.
func (d *Declaration) Readable() bool { return d.readable }
