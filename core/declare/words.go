package declare

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// Words is the number of the words that declarations are written in now. A declaration that
// is kept is kept with the number of its own, and is read by it for good: ReadIn.
const Words = 2

// written is how something is written now that was once written otherwise. A key that is not
// named stays, and a value that is not named stands as it does.
type written struct {
	key    string            // of today; one in a table below is written with a dot
	values map[string]string // in TOML, by the text of former values
	beside map[string]string // a line more, by the text of former values
	only   func(*node) bool  // whether it was meant; nil for always
	why    string            // what to say in place of "KEY is written … now"
}

// former is what was once written otherwise, by the type of its table and the former key.
var former = map[string]written{
	"Ground.hosts_from":  {key: "more_hosts.program", only: isText},
	"Ground.hosts_cache": {key: "more_hosts.reuse_for"},
	"Ground.former":      {key: "no_longer_declared"},
	"Ground.other_names": {key: "unknown_names"},
	"More.hold":          {key: "reuse_for"},

	"Reach.key":                 {key: "key_secret"},
	"Reach.password":            {key: "password_secret"},
	"Reach.authorities":         {key: "host_key_authorities"},
	"Reach.sudo_password":       {key: "sudo_asks", values: map[string]string{"ask": "true"}, only: func(n *node) bool { return n.text == "ask" }},
	"Host.via":                  {values: map[string]string{"local": `"service-machine"`}},
	"WebServerOwn.default_site": {values: map[string]string{"aside": `"off"`}},

	"Content.exact":     {key: "undeclared_files", values: map[string]string{"true": `"removed"`, "false": `"kept"`}},
	"Content.rest":      {key: "undeclared_files"},
	"Content.keep":      {key: "left_alone"},
	"Content.secret":    {key: "fetch_secret"},
	"Content.file_mode": {key: "modes.files"},
	"Content.dir_mode":  {key: "modes.directories"},

	"TextFile.block": {key: "portion"},
	"Link.to":        {key: "points_to"},

	"Log.errors": {key: "error"},
	"Probe.by":   {key: "resolver", values: map[string]string{"name": `"system"`}},

	"Path.to":     {key: "passed_to"},
	"Path.takes":  {key: "passing", values: map[string]string{"turns": `"round-robin"`, "first": `"failover"`}},
	"Path.prefix": {key: "passed_path", values: map[string]string{"kept": `"unchanged"`, "dropped": `"shortened"`}},
	"Path.tells":  {key: "visitor_headers"},

	"Container.starts_with":      {key: "command"},
	"Container.doors":            {key: "reached_at"},
	"Container.holds":            {key: "mounts"},
	"Container.secret_variables": {key: "variable_secrets"},
	"Container.as":               {key: "runs_as"},
	"Container.joins":            {key: "network"},
	"Container.most":             {key: "at_most"},
	"Container.marks":            {key: "engine_labels"},
	"Container.stays_up": {key: "restarts", values: map[string]string{"unless stopped": `"always"`, "no": `"never"`},
		beside: map[string]string{"unless stopped": "at_boot = false"}},
}

func init() {
	for _, table := range []string{"Site", "SiteSettings"} {
		former[table+".hidden"] = written{key: "serve_dot_files"}
		former[table+".first"] = written{key: "catch_all"}
		former[table+".sent_on"] = written{key: "redirected_names"}
		former[table+".errors"] = written{key: "error_pages"}
	}
	for _, table := range []string{"Site", "SiteSettings", "Path"} {
		former[table+".lists"] = written{key: "directory_listing"}
		former[table+".keep_for"] = written{key: "browser_cache"}
		former[table+".passwords_from"] = written{key: "passwords_secret"}
	}
	for _, table := range []string{"Kit", "Host"} {
		former[table+".services"] = written{key: "service", only: isTable, why: "services is a list of names now, and a table for each service is written service"}
	}
}

// otherwise is how a key is written now whose value was not the one that its first way of
// being written was for.
var otherwise = map[string]written{"Reach.sudo_password": {key: "sudo_secret"}}

func isText(n *node) bool  { return n.kind == unstable.String }
func isTable(n *node) bool { return n.kind == unstable.Table }

// now is how a key of a type with this value is written now; false where it always was so.
func now(typ, key string, value *node) (written, bool) {
	for _, table := range []map[string]written{former, otherwise} {
		w, was := table[typ+"."+key]
		if !was || w.only != nil && !w.only(value) {
			continue
		}
		if w.key != "" {
			return w, true
		}
		w.key = key
		_, was = w.values[value.text]
		return w, was && value.kind == unstable.String
	}
	return written{}, false
}

// FormerKeys lists what was once written otherwise, each behind the type of its table:
// "Link.to".
func FormerKeys() []string { return sortedKeys(former) }

// Rewording is one former word, with what is written for it now.
type Rewording struct {
	Problem        // as lint tells of it
	Was     string // the former key, behind the type of its table
	Key     string // of today

	edits []edit
}

// edit is what takes the place of a part of a line.
type edit struct {
	span
	text string
}

// modernise puts the words of today in the place of former ones in a table of type t and all
// below it, and says which there were. The table is changed.
func (r *reader) modernise(n *node, t reflect.Type) []Rewording {
	var out []Rewording
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case n.kind == unstable.Array && t.Kind() == reflect.Slice:
		for _, item := range n.items {
			out = append(out, r.modernise(item, t.Elem())...)
		}
	case n.kind != unstable.Table:
	case t.Kind() == reflect.Map:
		for _, k := range n.keys {
			out = append(out, r.modernise(n.table[k], t.Elem())...)
		}
	case t.Kind() == reflect.Struct:
		for _, k := range slices.Clone(n.keys) {
			if w, was := now(t.Name(), k, n.table[k]); was {
				told := r.reword(n, k, w)
				told.Was = t.Name() + "." + k
				out = append(out, told)
			}
		}
		fields := fieldsOf(t)
		for _, k := range n.keys {
			if i := slices.IndexFunc(fields, func(f field) bool { return f.name == k }); i >= 0 {
				out = append(out, r.modernise(n.table[k], fields[i].typ)...)
			}
		}
	}
	return out
}

// reword gives a value in a table its key and its words of today.
func (r *reader) reword(n *node, k string, w written) Rewording {
	child, out := n.table[k], Rewording{Key: w.key}
	stands := r.textAt(child.at)
	value, changed := w.values[child.text]
	if !changed {
		value = stands
	}
	what, fix := w.says(k, stands, value), fmt.Sprintf("write %s = %s", w.key, value)
	beside := w.beside[child.text]
	if beside != "" {
		fix += ", and " + beside + " beside it"
	}
	if child.kind == unstable.Table || child.isArray {
		fix = fmt.Sprintf("write %s in place of %s", w.key, k)
	}
	into, last := n, w.key
	table, below, nested := strings.Cut(w.key, ".")
	if nested {
		if n.table[table] == nil {
			n.set(table, newTable(child.keyAt))
		}
		into, last = n.table[table], below
	}
	if nested && (into.kind != unstable.Table || into.inline) {
		out.Problem = problemAt(r.lines, child.keyAt, what, fmt.Sprintf("write %s = %s in the braces of %s", below, value, table))
		n.drop(k)
		return out
	}
	if into.table[last] != nil && w.key != k {
		out.Problem = problemAt(r.lines, child.keyAt, what, fmt.Sprintf("%s stands there as well: keep one of the two", w.key))
		n.drop(k)
		return out
	}
	at := child.at
	if w.key != k {
		at = child.keyAt
		for _, at := range child.named {
			out.edits = append(out.edits, edit{at, w.key})
		}
		n.drop(k)
		into.set(last, child)
	}
	out.Problem = problemAt(r.lines, at, what, fix)
	out.Problem.Former = true
	if changed {
		out.edits = append(out.edits, edit{child.at, value + r.besideText(n, child, beside)})
		child.kind, child.text = valueIn(value)
	}
	if key, text, ok := strings.Cut(beside, " = "); ok && n.table[key] == nil {
		more := &node{at: child.at, keyAt: child.keyAt}
		more.kind, more.text = valueIn(text)
		n.set(key, more)
	}
	return out
}

// says is what is said of a former key, where this stands and that value is meant.
func (w written) says(former, stands, value string) string {
	switch {
	case w.why != "":
		return w.why
	case w.key == former:
		return fmt.Sprintf("%s = %s is written %s now", former, stands, value)
	}
	return fmt.Sprintf("%s is written %s now", former, w.key)
}

// besideText is what is written behind a value for another key to stand beside it: in the braces, or in
// a line of its own.
func (r *reader) besideText(n, child *node, beside string) string {
	switch {
	case beside == "":
		return ""
	case n.inline:
		return ", " + beside
	}
	line := r.lines[child.keyAt.File][child.keyAt.Line-1]
	return "\n" + line[:len(line)-len(strings.TrimLeft(line, " \t"))] + beside
}

// valueIn is the kind and the text of a value in TOML, which is text in quotes, true or false.
func valueIn(toml string) (unstable.Kind, string) {
	if text, err := strconv.Unquote(toml); err == nil {
		return unstable.String, text
	}
	return unstable.Bool, toml
}

// textAt is what stands at a place, in its line.
func (r *reader) textAt(at span) string {
	lines := r.lines[at.File]
	if at.Line < 1 || at.Line > len(lines) {
		return ""
	}
	line := []rune(lines[at.Line-1])
	from := min(at.Column-1, len(line))
	return string(line[from:min(from+at.width, len(line))])
}

// Rewrite writes the former words in the files of a declaration as they are written now,
// comments and layout kept. Files in which there were none come back as they are. The
// problems are of files that cannot be read, and of keys that stand there in both ways.
func Rewrite(sources []Source) ([]Source, []Rewording, Problems) {
	var problems Problems
	var told []Rewording
	out := slices.Clone(sources)
	for i, s := range sources {
		r := &reader{root: newTable(span{}), lines: map[string][]string{}}
		r.file(s)
		if len(r.problems) > 0 {
			problems = append(problems, r.problems...)
			continue
		}
		words := r.modernise(r.root, reflect.TypeFor[Declaration]())
		var edits []edit
		for _, w := range words {
			edits = append(edits, w.edits...)
			if len(w.edits) == 0 {
				problems = append(problems, w.Problem)
			}
		}
		told = append(told, words...)
		out[i].Text = edited(s.Text, edits)
	}
	problems.Sort()
	return out, told, problems
}

// edited puts texts in their places. Where a longer key stands in a column of values, the
// blanks behind it make room.
func edited(text string, edits []edit) string {
	lines := strings.Split(text, "\n")
	slices.SortFunc(edits, func(a, b edit) int { return cmp.Or(b.Line-a.Line, b.Column-a.Column) })
	for _, e := range edits {
		line := []rune(lines[e.Line-1])
		before, was, after := string(line[:e.Column-1]), string(line[e.Column-1:e.Column-1+e.width]), string(line[e.Column-1+e.width:])
		blanks := len(after) - len(strings.TrimLeft(after, " "))
		if room := len(e.text) - len(was); strings.HasPrefix(after[blanks:], "=") && (blanks > 1 || aligned(lines, e.Line-1)) {
			after = strings.Repeat(" ", max(1, blanks-room)) + after[blanks:]
		}
		lines[e.Line-1] = before + e.text + after
	}
	return strings.Join(lines, "\n")
}

// aligned says whether a line's equals sign stands below or above that of its neighbour.
func aligned(lines []string, n int) bool {
	at := strings.Index(lines[n], " =")
	return at > 0 && (n > 0 && strings.Index(lines[n-1], " =") == at || n+1 < len(lines) && strings.Index(lines[n+1], " =") == at)
}
