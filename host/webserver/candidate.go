package webserver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

// Test lets the server test its whole configuration with some of its sites in it, on a copy:
// the live tree never holds untested bytes. Step names the copy.
func Test(ctx context.Context, m *system.Machine, step string, l wire.Layout, sites ...wire.SiteWant) error {
	if len(sites) == 0 {
		return nil
	}
	dir := m.Scratch("candidate", step)
	return TestIn(m, dir, filepath.Join(dir, "server.pid"), l, func(command []string) (string, error) {
		_, err := m.Run(ctx, nil, command[0], command[1:]...)
		var failed *system.Failed
		if !errors.As(err, &failed) {
			return "", err
		}
		return failed.Output, nil
	}, sites...)
}

// TestIn makes the copy in a directory, which is no other's and goes afterwards, and has a
// command test it: what that says of a configuration that the server refuses, "" where it is
// sound. Pid is a file that the command may write.
func TestIn(m *system.Machine, dir, pid string, l wire.Layout, test func(command []string) (complaint string, err error), sites ...wire.SiteWant) error {
	server := sites[0].Server
	if _, ok := servers[server]; !ok {
		return fmt.Errorf("nothing is known of a web server called %q", server)
	}
	live := l.Dir
	defer os.RemoveAll(dir)
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	c := candidate{server: server, live: string(live), root: filepath.Join(dir, "conf"), pid: pid}
	if err := c.tree(m.Path(live), string(live), c.root); err != nil {
		return fmt.Errorf("copy the configuration for a test: %w", err)
	}
	for _, w := range sites {
		if err := c.put(w); err != nil {
			return err
		}
	}
	args := make([]string, len(l.Test))
	for i, a := range l.Test {
		args[i] = strings.ReplaceAll(a, "{dir}", c.root)
	}
	complaint, err := test(args)
	if err != nil || complaint == "" {
		return err
	}
	return candidateFault(strings.ReplaceAll(complaint, c.root, string(live)), sites...)
}

// in is where a path of the live tree lies in the copy.
func (c candidate) in(p string) string { return filepath.Join(c.root, strings.TrimPrefix(p, c.live)) }

// put puts a site into the copy, and what its server's own configuration is to be by then.
func (c candidate) put(w wire.SiteWant) error {
	if w.Own != nil {
		if err := c.edit(*w.Own); err != nil {
			return err
		}
	}
	write := func(path, text string) error {
		if err := os.MkdirAll(filepath.Dir(c.in(path)), 0o700); err != nil {
			return err
		}
		return os.WriteFile(c.in(path), []byte(c.apart(text)), 0o600)
	}
	for _, b := range w.Beside {
		text, err := b.Holds()
		if err != nil {
			return err
		}
		if err := write(string(b.Path), text); err != nil {
			return err
		}
	}
	if w.File == "" {
		return nil
	}
	if err := write(strings.TrimSuffix(string(w.File), ".off"), w.Text); err != nil || w.Link == "" {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(c.in(string(w.Link))), 0o700); err != nil {
		return err
	}
	if err := os.Remove(c.in(string(w.Link))); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Symlink(c.in(string(w.File)), c.in(string(w.Link))) // of one that is switched off as well: what is kept is sound
}

// edit makes the server's own configuration in the copy what it is to be.
func (c candidate) edit(own wire.ServerWant) error {
	for _, p := range own.Paths() {
		b, err := os.ReadFile(c.in(string(p)))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if err := os.WriteFile(c.in(string(p)), []byte(own.Edit(p, string(b))), 0o600); err != nil {
			return err
		}
	}
	if own.Default == wire.DefaultKept {
		return nil
	}
	for _, l := range own.Links {
		if err := os.Remove(c.in(string(l))); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// TestOwn lets the server test its configuration with its own part edited.
func TestOwn(ctx context.Context, m *system.Machine, step string, l wire.Layout, own wire.ServerWant) error {
	return Test(ctx, m, step, l, wire.SiteWant{Server: own.Server, Program: l.Program, Own: &own})
}

// TestLive lets the server test its configuration as it lies there, which is what it is
// about to take in.
func TestLive(ctx context.Context, m *system.Machine, name string, l wire.Layout) error {
	if s, ok := servers[name]; !ok || len(l.Test) == 0 || s.reloadTests {
		return nil
	}
	args := make([]string, len(l.Test))
	for i, a := range l.Test {
		args[i] = strings.ReplaceAll(a, "{dir}", m.Path(l.Dir))
	}
	_, err := m.Run(ctx, nil, args[0], args[1:]...)
	var failed *system.Failed
	if !errors.As(err, &failed) {
		return err
	}
	f := &wire.Fault{What: l.Program + " does not accept its configuration as it lies there", Output: strings.TrimSpace(failed.Output),
		Fix: fmt.Sprintf("%s goes on with the one that it has; correct what it names", l.Service)}
	if c, ok := complaintOf(name, failed.Output); ok {
		f.What += ": " + c.What
		f.File, f.Line = c.File, c.Line
	}
	return f
}

// candidateFault turns what the server said into a fault that names the line of
// the declaration which the offending line was rendered from, of whichever site that is.
func candidateFault(output string, sites ...wire.SiteWant) error {
	w := sites[0]
	if c, ok := complaintOf(w.Server, output); ok {
		for _, s := range sites {
			if s.LiesAt(c.File) {
				w = s
			}
		}
	}
	f := &wire.Fault{What: w.Program + " does not accept the configuration", Output: strings.TrimSpace(output),
		Fix: "nothing was changed on the host; correct what " + w.Program + " names"}
	if c, ok := complaintOf(w.Server, output); ok {
		f.What += ": " + c.What
		f.File, f.Line = c.File, c.Line
	}
	ours := w.LiesAt(f.File)
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
	if places := w.Lines.All(); f.Line >= 1 && f.Line <= len(places) {
		f.From = &places[f.Line-1]
		f.Fix = fmt.Sprintf("nothing was changed on the host; correct %s:%d", f.From.File, f.From.Line)
	}
	return f
}

// configLimit is how many bytes of one configuration file are read to be written anew.
const configLimit = 4 << 20

// candidate copies a configuration tree. The tree's own absolute paths, in files
// and in links, come to point into the copy, links that lead out of it still lead
// where they did, and the pid file lies beside the copy. A file over configLimit, a table of addresses
// perhaps, is copied as it is.
type candidate struct{ server, live, root, pid string }

// tree copies the directory that lies at from for this process, and at path on
// the machine.
func (c candidate) tree(from, path, to string) error {
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
		case strings.HasPrefix(c.root, src+"/"): // the copy lies in it
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
func (c candidate) target(path, target string) string {
	full := target
	if !filepath.IsAbs(full) {
		full = filepath.Join(path, target)
	}
	if full == c.live || strings.HasPrefix(full, c.live+"/") {
		return c.root + strings.TrimPrefix(full, c.live)
	}
	return full
}

func (c candidate) file(src, dst string) error {
	s, err := os.Stat(src)
	if err != nil {
		return err
	}
	if s.Size() > configLimit {
		return copyAsIs(src, dst)
	}
	b, err := os.ReadFile(src)
	if err != nil {
		return err
	}
	return os.WriteFile(dst, []byte(c.apart(string(b))), 0o600)
}

func copyAsIs(src, dst string) error {
	in, err := os.Open(src)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(dst, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// apart has text of the configuration speak of the copy.
func (c candidate) apart(text string) string {
	text = strings.ReplaceAll(text, c.live+"/", c.root+"/")
	text = strings.ReplaceAll(text, `"`+c.live+`"`, `"`+c.root+`"`)
	return servers[c.server].alone(text, c)
}
