package declare

import (
	"errors"
	"fmt"
	"html/template"
	"regexp"
	"strings"
	text "text/template"
	"text/template/parse"
)

// Bounds of the text that is made from one template. A declaration of 2,000 hosts, each of which
// lists all others with a line or two, stays below them.
const (
	mostRounds = 1_000_000 // of all its loops, and of templates that name others
	mostMade   = 4 << 20   // bytes that come out, and that its functions make, each
)

// overdone is a template that goes beyond its bounds, at a place of its text.
type overdone struct {
	what   string
	offset int
}

func (o *overdone) Error() string { return o.what }

// stepName is the function that counts rounds. It stands at the beginning of every loop and of every
// template that is named.
const stepName = "northstake_round"

// made is a text being made.
type made struct {
	rounds, bytes int
	out           strings.Builder
}

// Write takes what comes out.
func (m *made) Write(p []byte) (int, error) {
	if m.out.Len()+len(p) > mostMade {
		return 0, &overdone{fmt.Sprintf("it makes a text of more than %d MB", mostMade>>20), -1}
	}
	return m.out.Write(p)
}

func (m *made) round(offset int) (string, error) {
	if m.rounds++; m.rounds > mostRounds {
		return "", &overdone{fmt.Sprintf("it goes round more than %d times", mostRounds), offset}
	}
	return "", nil
}

// wide is a verb of printf whose width or precision would fill pages, or is not known from the text.
var wide = regexp.MustCompile(`%[^a-zA-Z%]*(\*|[0-9]{4})`)

func (m *made) whole(s string) (string, error) {
	if m.bytes += len(s); m.bytes > mostMade {
		return "", &overdone{fmt.Sprintf("its functions make more than %d MB of text", mostMade>>20), -1}
	}
	return s, nil
}

// functions are those of text/template that make text, within bounds.
func (m *made) functions() text.FuncMap {
	return text.FuncMap{
		stepName: m.round,
		"print":  func(args ...any) (string, error) { return m.whole(fmt.Sprint(args...)) },
		"println": func(args ...any) (string, error) {
			return m.whole(fmt.Sprintln(args...))
		},
		"printf": func(format string, args ...any) (string, error) {
			if wide.MatchString(format) {
				return "", &overdone{"printf makes text of at most 999 characters for a value, by a number in its format", -1}
			}
			return m.whole(fmt.Sprintf(format, args...))
		},
		"html":     func(args ...any) (string, error) { return m.whole(template.HTMLEscaper(args...)) },
		"js":       func(args ...any) (string, error) { return m.whole(template.JSEscaper(args...)) },
		"urlquery": func(args ...any) (string, error) { return m.whole(template.URLQueryEscaper(args...)) },
	}
}

// errUnread is a text that is not in the form of a template at all.
type errUnread struct{ error }

// makeText makes the text of a template. The error is an errUnread, an *overdone, or one of
// text/template.
func makeText(name, from string, data any) (string, error) {
	m := &made{}
	t, err := text.New(name).Option("missingkey=error").Funcs(m.functions()).Parse(from)
	if err != nil {
		return "", errUnread{err}
	}
	for _, one := range t.Templates() {
		if one.Tree != nil && one.Root != nil {
			count(one.Root)
			if one.Name() != name {
				prepend(one.Root)
			}
		}
	}
	if err := t.Execute(m, data); err != nil {
		return "", err
	}
	return m.out.String(), nil
}

// count has every loop below a list of nodes count its rounds.
func count(list *parse.ListNode) {
	if list == nil {
		return
	}
	for _, n := range list.Nodes {
		switch n := n.(type) {
		case *parse.RangeNode:
			count(n.List)
			count(n.ElseList)
			prepend(n.List)
		case *parse.IfNode:
			count(n.List)
			count(n.ElseList)
		case *parse.WithNode:
			count(n.List)
			count(n.ElseList)
		}
	}
}

// prepend puts the counting in front of a list, with the place of the list.
func prepend(list *parse.ListNode) {
	step, err := parse.Parse("round", fmt.Sprintf("{{%s %d}}", stepName, int(list.Pos)), "", "", map[string]any{stepName: true})
	if err != nil {
		panic(err) // the text is this function's own
	}
	list.Nodes = append([]parse.Node{step["round"].Root.Nodes[0]}, list.Nodes...)
}

// placed is where a template of a file goes beyond its bounds, as a TextError.
func (o *overdone) placed(file, from string) *TextError {
	e := &TextError{Position{File: file, Line: 1, Column: 1}, o.what}
	if o.offset >= 0 && o.offset <= len(from) {
		before := from[:o.offset]
		e.Line = strings.Count(before, "\n") + 1
		e.Column = len([]rune(before[strings.LastIndexByte(before, '\n')+1:])) + 1
	}
	return e
}

func isOverdone(err error) (*overdone, bool) {
	var o *overdone
	return o, errors.As(err, &o)
}
