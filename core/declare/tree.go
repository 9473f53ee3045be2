package declare

import (
	"bytes"
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"
)

// node is one value of a TOML file with its place.
type node struct {
	kind    unstable.Kind // Table stands for any table, Array for any array
	text    string
	items   []*node
	table   map[string]*node
	keys    []string
	at      span // the value
	keyAt   span // the key that names it
	defined bool // a table that has had a header or a value of its own

	repeated bool // a table that has had two headers
	isArray  bool // an array of tables
	inline   bool // a table in braces

	named []span // the key, each time that it is written
}

func newTable(at span) *node {
	return &node{kind: unstable.Table, table: map[string]*node{}, at: at, keyAt: at}
}

func (n *node) set(key string, child *node) {
	if _, ok := n.table[key]; !ok {
		n.keys = append(n.keys, key)
	}
	n.table[key] = child
}

// drop takes a key out of a table.
func (n *node) drop(key string) {
	delete(n.table, key)
	n.keys = slices.DeleteFunc(n.keys, func(k string) bool { return k == key })
}

// reader parses the files of one declaration into one tree.
type reader struct {
	root     *node
	problems Problems
	lines    map[string][]string

	miswritten map[string]bool // keys that another one is taken to stand for, by their paths
}

func (r *reader) problem(at span, what, fix string) {
	if r.many() {
		return
	}
	r.problems = append(r.problems, problemAt(r.lines, at, what, fix))
}

// MostMistakes is how many are told of at once: who has made more begins with these.
const MostMistakes = 200

// many says that no more mistakes are told of.
func (r *reader) many() bool { return len(r.problems) >= MostMistakes }

func problemAt(lines map[string][]string, at span, what, fix string) Problem {
	p := Problem{Position: at.Position, Width: at.width, What: brief(what), Fix: brief(fix)}
	if ls := lines[at.File]; at.Line > 0 && at.Line <= len(ls) {
		p.Text = ls[at.Line-1]
		if room := utf8.RuneCountInString(p.Text) - at.Column + 1; p.Width > room {
			p.Width = room
		}
	}
	return p
}

const mostSyntaxErrors = 20

// file parses one file. After a syntax error the line it stands on is blanked
// and the file is parsed again, so that one error does not hide the next.
func (r *reader) file(s Source) {
	s.Text = strings.TrimPrefix(s.Text, "\ufeff") // which some editors put in front of UTF-8
	r.lines[s.Name] = strings.Split(strings.ReplaceAll(s.Text, "\r\n", "\n"), "\n")
	data := []byte(s.Text)
	if i := strings.IndexByte(s.Text, 0); i >= 0 || !utf8.ValidString(s.Text) {
		r.problem(span{Position: Position{File: s.Name, Line: 1, Column: 1}}, "this is not a text file in UTF-8", "save it as UTF-8 text")
		return
	}
	before := len(r.problems)
	for range mostSyntaxErrors {
		tree, bad := r.parse(s.Name, data)
		if bad == nil {
			if _, printed := Printed(s.Name); printed {
				tree = r.hostsAlone(tree)
			}
			if s.Name == OneOff {
				over(r.root, tree, 0)
			} else {
				merge(r, r.root, tree)
			}
			break
		}
		if program, printed := Printed(s.Name); printed && bad.fix == "" {
			bad.fix = program + " prints [host.NAME] tables, in TOML like any file of the declaration"
		}
		r.problem(bad.at, bad.what, bad.fix)
		if !blankLine(data, bad.at.Line) {
			break
		}
	}
	sub := r.problems[before:]
	sub.Sort()
}

func blankLine(data []byte, line int) bool {
	n := 1
	changed := false
	for i := 0; i < len(data); i++ {
		if n == line && data[i] != '\n' && data[i] != '\r' && data[i] != ' ' {
			data[i] = ' '
			changed = true
		}
		if data[i] == '\n' {
			n++
		}
	}
	return changed
}

type syntaxError struct {
	at        span
	what, fix string
}

// parse reads one file into a tree of its own.
func (r *reader) parse(name string, data []byte) (root *node, bad *syntaxError) {
	p := &unstable.Parser{}
	p.Reset(data)
	root = newTable(span{Position: Position{File: name, Line: 1, Column: 1}})
	current := root
	starts := lineStarts(data)
	counted := struct{ line, from, runes int }{} // how many characters stand before the place that was last asked for
	place := func(raw unstable.Range) span {
		from, end := int(raw.Offset), int(raw.Offset+raw.Length)
		line := sort.SearchInts(starts, from+1)
		if i := bytes.IndexByte(data[from:end], '\n'); i >= 0 {
			end = from + i
		}
		if counted.line != line || counted.from > from {
			counted.line, counted.from, counted.runes = line, starts[line-1], 0
		}
		counted.runes, counted.from = counted.runes+utf8.RuneCount(data[counted.from:from]), from
		return span{Position{File: name, Line: line, Column: counted.runes + 1}, utf8.RuneCount(data[from:end])}
	}
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			current = r.header(root, e, place)
		case unstable.KeyValue:
			r.keyValue(current, e, place)
		}
	}
	if err := p.Error(); err != nil {
		return nil, explain(name, data, p, err)
	}
	return root, nil
}

// lineStarts lists where each line begins.
func lineStarts(data []byte) []int {
	starts := []int{0}
	for i, c := range data {
		if c == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}

func lineStart(data []byte, offset int) int {
	for offset > 0 && data[offset-1] != '\n' {
		offset--
	}
	return offset
}

// header makes or finds the table that a [a.b] or [[a.b]] line opens.
func (r *reader) header(root *node, e *unstable.Node, place func(unstable.Range) span) *node {
	n := root
	var path []string
	if r.tooDeep(e, place) {
		return newTable(span{})
	}
	it := e.Key()
	for it.Next() {
		k := it.Node()
		at := place(k.Raw)
		key := string(k.Data)
		path = append(path, key)
		child := n.table[key]
		last := it.IsLast()
		if child != nil && child.kind != unstable.Table && !child.isArray {
			r.problem(at, fmt.Sprintf("%q is a value above, at line %d, and cannot be a table as well", key, child.keyAt.Line), "")
			return newTable(at)
		}
		switch {
		case last && e.Kind == unstable.ArrayTable:
			if child == nil {
				child = &node{kind: unstable.Array, isArray: true, at: at, keyAt: at}
				n.set(key, child)
			}
			if !child.isArray {
				r.problem(at, fmt.Sprintf("%q is a single table above, at line %d", key, child.keyAt.Line), fmt.Sprintf("write [%s] at line %d as well, or put its keys together there", TableName(path), child.keyAt.Line))
				return newTable(at)
			}
			item := newTable(at)
			child.items = append(child.items, item)
			child.named = append(child.named, at)
			return item
		case child == nil:
			child = newTable(at)
			n.set(key, child)
		}
		child.named = append(child.named, at)
		if child.isArray {
			child = child.items[len(child.items)-1]
		}
		if last {
			if child.defined {
				r.problem(at, fmt.Sprintf("table %q is written twice; the first is at %s", key, firstAt(child.keyAt, at)), "put its keys together under one header")
				child.repeated = true
			}
			child.defined = true
			child.keyAt, child.at = at, at
		}
		n = child
	}
	return n
}

// firstAt names the place of what is written again elsewhere.
func firstAt(first, again span) string {
	if first.File != again.File {
		return fmt.Sprintf("%s:%d", first.File, first.Line)
	}
	return fmt.Sprintf("line %d", first.Line)
}

// deepest is how many parts a key may have; the deepest that leads somewhere has eight.
const deepest = 20

// tooDeep says that a key has more parts than any that leads somewhere.
func (r *reader) tooDeep(e *unstable.Node, place func(unstable.Range) span) bool {
	parts := 0
	for it := e.Key(); it.Next(); {
		if parts++; parts == 1 {
			continue
		}
		if parts > deepest {
			it = e.Key()
			it.Next()
			r.problem(place(it.Node().Raw), fmt.Sprintf("this key has more than %d parts", deepest), "no key of a declaration is as deep: northstake help lists them")
			return true
		}
	}
	return false
}

func (r *reader) keyValue(n *node, e *unstable.Node, place func(unstable.Range) span) {
	if r.tooDeep(e, place) {
		return
	}
	it := e.Key()
	for it.Next() {
		k := it.Node()
		at := place(k.Raw)
		key := string(k.Data)
		child := n.table[key]
		if it.IsLast() {
			if child != nil {
				if !n.repeated { // else the table has been told of, which is the mistake
					r.problem(at, fmt.Sprintf("key %q is written twice; the first is at %s", key, firstAt(child.keyAt, at)), "keep one of the two")
				}
				return
			}
			v := r.value(e.Value(), at, place)
			v.keyAt, v.named = at, []span{at}
			n.set(key, v)
			return
		}
		if child == nil {
			child = newTable(at)
			n.set(key, child)
		}
		if child.kind != unstable.Table {
			r.problem(at, fmt.Sprintf("%q is a value above, at line %d, and cannot be a table as well", key, child.keyAt.Line), "")
			return
		}
		child.named = append(child.named, at)
		n = child
	}
}

func (r *reader) value(v *unstable.Node, key span, place func(unstable.Range) span) *node {
	out := &node{kind: v.Kind, text: string(v.Data), at: key}
	if v.Raw.Length > 0 {
		out.at = place(v.Raw)
	}
	switch v.Kind {
	case unstable.Array:
		it := v.Children()
		for it.Next() {
			if it.Node().Kind == unstable.Comment {
				continue
			}
			out.items = append(out.items, r.value(it.Node(), out.at, place))
		}
	case unstable.InlineTable:
		out.kind, out.table, out.defined, out.inline = unstable.Table, map[string]*node{}, true, true
		it := v.Children()
		for it.Next() {
			if it.Node().Kind == unstable.KeyValue {
				r.keyValue(out, it.Node(), place)
			}
		}
	}
	return out
}

// merge adds the tables of one file to those of the files before it.
func merge(r *reader, into, from *node) {
	for _, k := range from.keys {
		src := from.table[k]
		dst := into.table[k]
		switch {
		case dst == nil:
			into.set(k, src)
		case dst.kind == unstable.Table && src.kind == unstable.Table && !(dst.defined && src.defined && len(dst.keys) > 0 && leafy(dst) && leafy(src)):
			if src.defined && !(dst.defined && leafy(dst)) {
				dst.keyAt, dst.at = src.keyAt, src.at // so far there were only tables below it
			}
			dst.defined, dst.named = dst.defined || src.defined, append(dst.named, src.named...)
			merge(r, dst, src)
		case dst.isArray && src.isArray:
			dst.named = append(dst.named, src.named...)
			dst.items = append(dst.items, src.items...)
		default:
			r.problem(src.keyAt, fmt.Sprintf("%q is declared twice; the first is at %s:%d", k, dst.keyAt.File, dst.keyAt.Line), "keep one of the two, or give one another name")
		}
	}
}

// over puts what is brought about once in the place of what a host declares of the same thing: below
// [host.NAME], each thing of each kind is one, whether its host has a table of it or has it in a list.
func over(into, from *node, depth int) {
	const thing = 3 // host, its name, the kind
	for _, k := range from.keys {
		src, dst := from.table[k], into.table[k]
		if depth == thing-1 {
			if list := into.table[k+"s"]; list != nil && src.kind == unstable.Table {
				list.items = slices.DeleteFunc(slices.Clone(list.items), func(item *node) bool { return src.table[item.text] != nil })
			}
		}
		if dst == nil || depth == thing || dst.kind != unstable.Table || src.kind != unstable.Table {
			into.set(k, src)
			continue
		}
		over(dst, src, depth+1)
	}
}

// leafy says whether a table holds values, not tables alone.
func leafy(n *node) bool {
	for _, c := range n.table {
		if c.kind != unstable.Table {
			return true
		}
	}
	return false
}
