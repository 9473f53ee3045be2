package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"northstake/content/archive"
	"northstake/core/declare"
	"northstake/core/lint"
)

// readGround reads the TOML files of a directory and lists what lies beside
// them, dot files too; what a version control system keeps for itself is left out. A
// link is what it leads to, within the declaration's directory or another that was agreed to. Its program is
// run where it may.
func readGround(ctx context.Context, dir string, may programs) ([]declare.Source, *declare.Manifest, error) {
	sources, err := readSources(dir)
	if err != nil {
		return nil, nil, err
	}
	if program, hold := declare.MoreHosts(sources); program != "" {
		printed, err := moreHosts(ctx, dir, program, hold, may)
		if err != nil {
			return nil, nil, err
		}
		if printed != nil {
			sources = append(sources, *printed)
		}
	}
	m := &declare.Manifest{Files: []declare.File{}}
	return sources, m, listBeside(m, dir, "", append([]string{dir}, may.links...))
}

// listBeside adds what lies below a path of a declaration's directory to the manifest; within is where its
// links may lead to, that directory first.
func listBeside(m *declare.Manifest, dir, below string, within []string) error {
	odd := func(rel, is string) { m.Odd = append(m.Odd, declare.OddFile{Path: rel, Is: is}) }
	top, err := filepath.EvalSymlinks(filepath.Join(dir, below))
	if err != nil {
		return err
	}
	return filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		if err != nil || path == top {
			return err
		}
		rel, err := filepath.Rel(top, path)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(filepath.Join(below, rel))
		switch {
		case declare.OfVersionControl(e.Name()):
			if e.IsDir() {
				return filepath.SkipDir
			}
		case e.IsDir():
			m.Dirs = append(m.Dirs, rel)
		case strings.Contains(rel, "/") || !strings.HasSuffix(rel, ".toml"):
			info, err := os.Stat(path) // content may be a link to a file
			out := func(d string) bool { return leadsOut(d, path) }
			switch {
			case err != nil:
				odd(rel, "a link that leads nowhere")
			case !slices.ContainsFunc(within, func(d string) bool { return !out(d) }):
				odd(rel, "a link that leads out of the declaration's directory")
			case info.IsDir() && below == "" && out(dir): // what grounds share; no further, so that it has an end
				m.Dirs = append(m.Dirs, rel)
				return listBeside(m, dir, rel, within)
			case info.IsDir():
				odd(rel, "a link to a directory")
			case !info.Mode().IsRegular():
				odd(rel, "neither a file nor a directory")
			default:
				m.Files = append(m.Files, declare.File{Path: rel, Size: info.Size()})
			}
		}
		return nil
	})
}

// readSources reads the TOML files of a directory.
func readSources(dir string) ([]declare.Source, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var sources []declare.Source
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		if e.IsDir() || !strings.HasSuffix(e.Name(), ".toml") || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		if leadsOut(dir, path) {
			return nil, fmt.Errorf("%s is a link that leads out of the declaration's directory: put the file itself there", path)
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		sources = append(sources, declare.Source{Name: e.Name(), Text: string(b)})
	}
	return sources, nil
}

// leadsOut says whether a path in a directory is a link, or lies behind one, that leads out of it.
// What a checkout of somebody's holds cannot have other files of this machine published.
func leadsOut(dir, path string) bool {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return false // and it cannot be read
	}
	within, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return true
	}
	rel, err := filepath.Rel(within, real)
	return err != nil || !filepath.IsLocal(rel)
}

// readTexts reads the files that the declaration needs as text.
func readTexts(dir string, d *declare.Declaration, m *declare.Manifest) error {
	for _, path := range d.TextFiles() {
		for i := range m.Files {
			if m.Files[i].Path != path {
				continue
			}
			b, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(path)))
			if err != nil {
				return err
			}
			if text := string(b); utf8.ValidString(text) {
				m.Files[i].Text = &text
			} else {
				m.Files[i].Data = b
			}
		}
	}
	return nil
}

// openArchives unpacks the archives that content comes from, each below its own
// path in a directory, and lists their files in the manifest. An archive that is
// refused is a problem.
func openArchives(dir, to string, d *declare.Declaration, m *declare.Manifest) declare.Problems {
	var problems declare.Problems
	for _, a := range d.Archives() {
		root := filepath.Join(to, filepath.FromSlash(a.Path))
		before := len(m.Files)
		err := archive.Unpack(filepath.Join(dir, filepath.FromSlash(a.Path)), root, archive.Limits{})
		if err == nil {
			err = listBelow(to, root, m)
		}
		if err == nil && len(m.Files) == before {
			err = errors.New("there is no file in it")
		}
		if err != nil {
			p := declare.Problem{Position: a.From, Width: len(a.Path) + 2, Text: d.LineOf(a.From), What: fmt.Sprintf("%s: %v", a.Path, err), Fix: "make the archive anew"}
			var refused *archive.Refused
			if errors.As(err, &refused) {
				p.Fix = "make the archive anew without it"
			}
			problems = append(problems, p)
			continue
		}
	}
	return problems
}

// listBelow adds the files below a directory to the manifest, with paths relative
// to base.
func listBelow(base, dir string, m *declare.Manifest) error {
	return filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || path == dir {
			return err
		}
		rel, err := filepath.Rel(base, path)
		if err != nil {
			return err
		}
		if e.IsDir() {
			m.Dirs = append(m.Dirs, filepath.ToSlash(rel))
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		m.Files = append(m.Files, declare.File{Path: filepath.ToSlash(rel), Size: info.Size()})
		return err
	})
}

// groundHere is the name of the ground that a directory declares, "" for none. Nothing that lies there
// is run for that.
func groundHere(dir string) string {
	if files, err := filepath.Glob(filepath.Join(dir, "*.toml")); err != nil || len(files) == 0 {
		return ""
	}
	sources, err := readSources(dir)
	if err != nil {
		return ""
	}
	d, _ := lint.Parse(sources, &declare.Manifest{})
	return d.Ground.Name
}

func dirOf(args []string) string {
	if len(args) > 0 {
		return args[0]
	}
	return "."
}
