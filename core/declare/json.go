package declare

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"
)

// jsonFile parses a list of hosts: an object with one key, "hosts", which holds an
// object for each host by its name, with the keys that a host has in TOML.
func (r *reader) jsonFile(s Source) {
	p := &jsonReader{name: s.Name, data: []byte(s.Text), dec: json.NewDecoder(strings.NewReader(s.Text)), starts: lineStarts([]byte(s.Text))}
	p.dec.UseNumber()
	whole := p.span(0, 1)
	n, err := p.value(whole)
	if err == nil {
		if _, e := p.dec.Token(); !errors.Is(e, io.EOF) {
			err = errors.New("there is more after the list")
		}
	}
	if err != nil {
		at := p.next()
		r.problem(p.span(min(at, max(len(p.data)-1, 0)), 0), "this is not JSON: "+err.Error(), `a list of hosts is {"hosts": {"NAME": {"address": "…"}}}`)
		return
	}
	if n.kind != unstable.Table {
		r.problem(n.at, "a list of hosts is an object", `write {"hosts": {"NAME": {"address": "…"}}}`)
		return
	}
	for _, k := range n.keys {
		if k != "hosts" {
			r.problem(n.table[k].keyAt, fmt.Sprintf("there is no key %q in a list of hosts", k), `it has one, "hosts"`)
		}
	}
	hosts := n.table["hosts"]
	switch {
	case hosts == nil:
		r.problem(n.at, `the list has no key "hosts"`, `write {"hosts": {"NAME": {"address": "…"}}}`)
	case hosts.kind != unstable.Table:
		r.problem(hosts.at, "hosts holds an object with one key for each host", `write {"hosts": {"NAME": {"address": "…"}}}`)
	default:
		root := newTable(whole)
		root.set("host", hosts)
		merge(r, r.root, root)
	}
}

// jsonReader makes nodes with their places of JSON.
type jsonReader struct {
	name   string
	data   []byte
	dec    *json.Decoder
	starts []int
}

func (p *jsonReader) span(from, to int) span {
	from = max(0, min(from, len(p.data)))
	to = max(from, min(to, len(p.data)))
	line := sort.SearchInts(p.starts, from+1)
	start := p.starts[line-1]
	return span{Position{p.name, line, utf8.RuneCount(p.data[start:from]) + 1}, max(1, utf8.RuneCount(p.data[from:to]))}
}

// next is where the next token begins.
func (p *jsonReader) next() int {
	from := int(p.dec.InputOffset())
	for from < len(p.data) && bytes.IndexByte([]byte(" \t\r\n,:"), p.data[from]) >= 0 {
		from++
	}
	return from
}

// token reads the next token with its place.
func (p *jsonReader) token() (json.Token, span, error) {
	from := p.next()
	t, err := p.dec.Token()
	return t, p.span(from, int(p.dec.InputOffset())), err
}

func (p *jsonReader) value(key span) (*node, error) {
	t, at, err := p.token()
	if err != nil {
		return nil, err
	}
	return p.valueOf(t, at, key)
}

func (p *jsonReader) valueOf(t json.Token, at, key span) (*node, error) {
	n := &node{at: at, keyAt: key}
	switch v := t.(type) {
	case string:
		n.kind, n.text = unstable.String, v
	case bool:
		n.kind, n.text = unstable.Bool, fmt.Sprint(v)
	case json.Number:
		n.kind, n.text = unstable.Integer, v.String()
		if strings.ContainsAny(n.text, ".eE") {
			n.kind = unstable.Float
		}
	case nil:
		return nil, errors.New("null is no value here; leave the key out")
	case json.Delim:
		if v == '{' {
			return n, p.object(n)
		}
		n.kind = unstable.Array
		for p.dec.More() {
			item, err := p.value(at)
			if err != nil {
				return nil, err
			}
			n.items = append(n.items, item)
		}
		_, _, err := p.token()
		return n, err
	}
	return n, nil
}

func (p *jsonReader) object(n *node) error {
	n.kind, n.table, n.defined = unstable.Table, map[string]*node{}, true
	for p.dec.More() {
		t, at, err := p.token()
		if err != nil {
			return err
		}
		key, ok := t.(string)
		if !ok {
			return errors.New("a key stands in quotes")
		}
		if n.table[key] != nil {
			return fmt.Errorf("key %q is written twice", key)
		}
		child, err := p.value(at)
		if err != nil {
			return err
		}
		n.set(key, child)
	}
	_, _, err := p.token()
	return err
}
