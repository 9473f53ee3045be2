package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
)

// siteBefore is the site's file and link as they were.
type siteBefore struct {
	File keptFile `json:"file"`
	Link keptFile `json:"link"`
}

type siteWorker struct {
	typed[stake.SiteWant, stake.SiteWant, siteBefore]
}

var _ = register("site", siteWorker{typed[stake.SiteWant, stake.SiteWant, siteBefore]{
	read: each(readSite), before: beforeSite, do: doSite, back: backSite,
}})

func readSite(_ context.Context, m *platform.Machine, w stake.SiteWant) (any, error) {
	f := stake.SiteFound{}
	var err error
	if f.File, err = m.Entry(w.File); err != nil {
		return nil, err
	}
	if f.File.Kind == "file" {
		b, err := m.Read(w.File)
		if err != nil {
			return nil, err
		}
		f.Text = string(b)
	}
	if w.Link != "" {
		if f.Link, err = m.Entry(w.Link); err != nil {
			return nil, err
		}
	}
	if f.Loaded, err = loaded(m, w); err != nil {
		return nil, err
	}
	shut, err := m.ShutOut(w.Layout.User, w.Roots)
	if err != nil {
		return nil, err
	}
	for i, at := range shut {
		if at == "" {
			continue
		}
		e, err := m.Entry(at)
		if err != nil {
			return nil, err
		}
		f.Shut = append(f.Shut, stake.Shut{Root: w.Roots[i], At: at, Entry: e})
	}
	return f, nil
}

func beforeSite(_ context.Context, m *platform.Machine, _ Job, w stake.SiteWant) (b siteBefore, err error) {
	if b.File, err = keepFile(m, w.File); err != nil || w.Link == "" {
		return b, err
	}
	b.Link, err = keepFile(m, w.Link)
	return b, err
}

func doSite(ctx context.Context, m *platform.Machine, j Job, w stake.SiteWant, _ siteBefore) (rod.StepState, error) {
	if err := testCandidate(ctx, m, j, w); err != nil {
		return "", err
	}
	if err := writeAtomically(m.Path(w.File), []byte(w.Text), 0o644); err != nil {
		return "", err
	}
	if err := chown(m, w.File, "root", "root"); err != nil {
		return "", err
	}
	if w.Link != "" {
		if err := linkAtomically(w.File, m.Path(w.Link)); err != nil {
			return "", err
		}
	}
	return rod.Done, nil
}

func backSite(ctx context.Context, m *platform.Machine, j Job, w stake.SiteWant, b siteBefore) error {
	kept := []keptFile{b.File}
	if w.Link != "" {
		kept = []keptFile{b.Link, b.File}
	}
	changed := false
	for _, k := range kept {
		same, err := k.isThere(m)
		if err != nil {
			return err
		}
		if !same {
			changed = true
			if err := k.putBack(m); err != nil {
				return err
			}
		}
	}
	if !changed {
		return nil
	}
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	states, err := units.States(ctx, []string{w.Layout.Service})
	if err != nil {
		return err
	}
	if states[w.Layout.Service].Active != "active" {
		return nil
	}
	if err := act(ctx, m, units, w.Layout.Service, "reload"); err != nil {
		// Somebody else's file may be broken: the files are back, and the server
		// goes on with what it has read.
		j.Say("%s did not take the former configuration in: %v", w.Layout.Service, err)
	}
	return nil
}

// Preflight tests the candidate before the run's first step, where the server is
// installed already: a configuration that is refused then changes nothing at all.
func (siteWorker) Preflight(ctx context.Context, m *platform.Machine, j Job) error {
	var w stake.SiteWant
	if err := json.Unmarshal(j.Work, &w); err != nil {
		return fmt.Errorf("the step cannot be understood: %w", err)
	}
	if !m.Exists(w.Layout.Config) {
		return nil
	}
	return testCandidate(ctx, m, j, w)
}

// testCandidate lets the server test its whole configuration with the site in it,
// on a copy: the live tree never holds untested bytes.
func testCandidate(ctx context.Context, m *platform.Machine, j Job, w stake.SiteWant) error {
	live := w.Layout.Dir
	dir := m.State("candidate", j.Run+"-"+strconv.Itoa(j.Number))
	defer os.RemoveAll(dir)
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	c := configCopy{live: live, root: filepath.Join(dir, "conf"), pid: filepath.Join(dir, "server.pid")}
	if err := c.tree(m.Path(live), live, c.root); err != nil {
		return fmt.Errorf("copy the configuration for a test: %w", err)
	}
	in := func(p string) string { return filepath.Join(c.root, strings.TrimPrefix(p, live)) }
	if err := writeAtomically(in(w.File), []byte(w.Text), 0o644); err != nil {
		return err
	}
	if w.Link != "" {
		os.Remove(in(w.Link))
		if err := os.Symlink(in(w.File), in(w.Link)); err != nil {
			return err
		}
	}
	args := make([]string, len(w.Layout.Test))
	for i, a := range w.Layout.Test {
		args[i] = strings.ReplaceAll(a, "{dir}", c.root)
	}
	_, err := m.Run(ctx, nil, args[0], args[1:]...)
	var failed *platform.Failed
	if !errors.As(err, &failed) {
		return err
	}
	return candidateFault(w, strings.ReplaceAll(failed.Output, c.root, live))
}

// candidateFault turns what the server said into a fault that names the line of
// the declaration which the offending line was rendered from.
func candidateFault(w stake.SiteWant, output string) error {
	f := &rod.Fault{What: w.Layout.Program + " does not accept the configuration", Output: strings.TrimSpace(output),
		Fix: "nothing was changed on the host; correct what " + w.Layout.Program + " names"}
	if c, ok := complaints[w.Server](output); ok {
		f.What += ": " + c.what
		f.File, f.Line = c.file, c.line
	}
	ours := f.File != "" && (f.File == w.File || f.File == w.Link)
	if !ours {
		if f.File != "" {
			f.Fix = fmt.Sprintf("line %d of %s was on the host before; nothing was changed", f.Line, f.File)
		}
		return f
	}
	f.File = w.File
	lines := strings.Split(w.Text, "\n")
	if f.Line >= 1 && f.Line <= len(lines) {
		f.Rendered = strings.TrimSpace(lines[f.Line-1])
	}
	if f.Line >= 1 && f.Line <= len(w.Lines) {
		f.From = &w.Lines[f.Line-1]
		f.Fix = fmt.Sprintf("nothing was changed on the host; correct %s:%d", f.From.File, f.From.Line)
	}
	return f
}

const configLimit = 4 << 20 // bytes of one configuration file

// configCopy copies a configuration tree. The tree's own absolute paths, in files
// and in links, come to point into the copy, links that lead out of it still lead
// where they did, and the pid file lies beside the copy.
type configCopy struct{ live, root, pid string }

// tree copies the directory that lies at from for this process, and at path on
// the machine.
func (c configCopy) tree(from, path, to string) error {
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	for _, e := range entries {
		src, dst := filepath.Join(from, e.Name()), filepath.Join(to, e.Name())
		switch {
		case e.IsDir():
			err = c.tree(src, filepath.Join(path, e.Name()), dst)
		case e.Type()&fs.ModeSymlink != 0:
			var target string
			if target, err = os.Readlink(src); err == nil {
				err = os.Symlink(c.target(path, target), dst)
			}
		case e.Type().IsRegular():
			err = c.file(src, dst)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// target is where a link in the directory at path leads from the copy.
func (c configCopy) target(path, target string) string {
	full := target
	if !filepath.IsAbs(full) {
		full = filepath.Join(path, target)
	}
	if full == c.live || strings.HasPrefix(full, c.live+"/") {
		return c.root + strings.TrimPrefix(full, c.live)
	}
	return full
}

var pidLine = regexp.MustCompile(`(?m)^(\s*)pid\s+[^;]*;`)

func (c configCopy) file(src, dst string) error {
	s, err := os.Stat(src)
	if err != nil || s.Size() > configLimit {
		return err
	}
	b, err := os.ReadFile(src)
	if err != nil {
		return err
	}
	text := strings.ReplaceAll(string(b), c.live+"/", c.root+"/")
	text = strings.ReplaceAll(text, `"`+c.live+`"`, `"`+c.root+`"`)
	text = pidLine.ReplaceAllString(text, "${1}pid "+c.pid+";")
	return os.WriteFile(dst, []byte(text), 0o600)
}
