package declare

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"text/template"
)

// Given is a named value that a host's text can use, with the place that it comes
// from.
type Given struct {
	Name  string   `json:"name"`
	Value string   `json:"value"`
	From  Position `json:"from"`
}

// GivensOf returns the givens of a host by name: the ground's, over them those of
// its kits in their order, over them its own. The nearest wins.
func (d *Declaration) GivensOf(host string) []Given {
	all := map[string]Given{}
	take := d.taker(all)
	take(d.Ground.Givens, "ground")
	if h := d.Hosts[host]; h != nil {
		for _, k := range d.Taken(h.Kits) {
			if kit := d.Kits[k]; kit != nil {
				take(kit.Givens, "kit", k)
			}
		}
		take(h.Givens, "host", host)
	}
	return sortedGivens(all)
}

// taker puts givens over those that are there already.
func (d *Declaration) taker(all map[string]Given) func(givens map[string]string, at ...string) {
	return func(givens map[string]string, at ...string) {
		for name, v := range givens {
			all[name] = Given{name, v, d.At(append(append([]string{}, at...), "givens", name)...)}
		}
	}
}

func sortedGivens(all map[string]Given) []Given {
	out := make([]Given, 0, len(all))
	for _, name := range sortedKeys(all) {
		out = append(out, all[name])
	}
	return out
}

// textData is what a template sees: the ground's name, the host that the text is
// for and its givens, and all hosts and sites by name.
func (d *Declaration) textData(host string) map[string]any {
	hosts := map[string]any{}
	for _, name := range d.HostNames() {
		hosts[name] = d.hostData(name)
	}
	sites := map[string]any{}
	for _, name := range d.SiteNames() {
		s := d.Sites[name]
		sites[name] = map[string]any{"name": name, "names": s.Names, "listen": s.ListenOn(), "root": s.Root, "hosts": d.HostsOf(name), "givens": d.siteData(name)["givens"]}
	}
	return map[string]any{"ground": d.Ground.Name, "host": hosts[host], "givens": d.givenData(host), "hosts": hosts, "sites": sites}
}

func (d *Declaration) hostData(name string) map[string]any {
	h := d.Hosts[name]
	return map[string]any{"name": name, "address": h.Address, "labels": h.Labels, "givens": d.givenData(name)}
}

func (d *Declaration) givenData(host string) map[string]string {
	out := map[string]string{}
	for _, g := range d.GivensOf(host) {
		out[g.Name] = g.Value
	}
	return out
}

// Fill makes a template's text for one host. The error is a *TextError.
func (d *Declaration) Fill(name, text, host string) (string, error) {
	key := [2]string{name, text}
	if e, known := d.overdone.Load(key); known {
		return "", e.(error) // for another host, and no host takes it further
	}
	made, err := makeText(name, text, d.textData(host))
	if o, is := isOverdone(err); is {
		e := o.placed(name, text)
		d.overdone.Store(key, e)
		return "", e
	}
	if err != nil {
		return "", textError(name, err)
	}
	return made, nil
}

// AtHand says whether the text of a file beside the declaration is.
func (d *Declaration) AtHand(path string) bool {
	_, err := d.TextBeside(path)
	return err == nil
}

// TextBeside is the text of a file beside the declaration, or its bytes where they are none.
func (d *Declaration) TextBeside(path string) (string, error) {
	if d.manifest != nil {
		for _, f := range d.manifest.Files {
			switch {
			case f.Path == path && f.Text != nil:
				return *f.Text, nil
			case f.Path == path && f.Data != nil:
				return string(f.Data), nil
			}
		}
	}
	return "", fmt.Errorf("the text of %s is not at hand", path)
}

// TextFiles returns the files beside the declaration whose text is needed, sorted.
func (d *Declaration) TextFiles() []string {
	seen := map[string]bool{}
	note := func(list []string) {
		for _, p := range list {
			if p != "" {
				seen[p] = true
			}
		}
	}
	note(d.Reach.HostKeyAuthorities)
	for _, h := range d.Hosts {
		note(h.Reach.HostKeyAuthorities)
	}
	for _, c := range d.Certificates {
		note([]string{c.File, c.Bundle})
	}
	d.EachTable(func(s Settings, _ []string) {
		for _, value := range s.values {
			elements(value, func(_ string, v any) {
				if n, ok := v.(NeedsText); ok {
					note(n.TextFiles())
				}
			})
		}
	})
	return sortedKeys(seen)
}

// WithoutText returns the files that are needed as text and whose text is not at
// hand, sorted.
func (d *Declaration) WithoutText() []string {
	var out []string
	for _, p := range d.TextFiles() {
		if !d.AtHand(p) {
			out = append(out, p)
		}
	}
	return out
}

// TextError is what is wrong in a template, with its place there.
type TextError struct {
	Position
	What string
}

func (e *TextError) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.What)
}

// templatePlace is how text/template begins an error: "template: NAME:LINE:COLUMN:
// executing …" or "template: NAME:LINE: …".
var templatePlace = regexp.MustCompile(`^template: .*?:(\d+)(?::(\d+))?: (?:executing ".*?" at (<.*?>): )?(.*)$`)

func textError(file string, err error) *TextError {
	e := &TextError{Position{File: file, Line: 1, Column: 1}, err.Error()}
	var exec template.ExecError
	text := err.Error()
	if errors.As(err, &exec) {
		text = exec.Error()
	}
	if m := templatePlace.FindStringSubmatch(text); m != nil {
		e.Line, _ = strconv.Atoi(m[1])
		if n, err := strconv.Atoi(m[2]); err == nil {
			e.Column = n + 1
		}
		e.What = m[4]
		if m[3] != "" {
			e.What = strings.Trim(m[3], "<>") + ": " + m[4]
		}
	}
	return e
}
