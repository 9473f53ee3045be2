package main

import (
	"fmt"
	"path/filepath"
	"slices"

	"github.com/aymanbagabas/go-udiff"

	"northstake/core/declare"
)

// rewrite writes the former words in the files of a declaration as they are written now. What
// would change is shown first, and nothing is written without a yes.
func (a *app) rewrite(dir string, yes bool) error {
	sources, err := readSources(dir)
	if err != nil {
		return err
	}
	now, words, problems := declare.Rewrite(sources)
	if len(problems) > 0 {
		for i := range problems {
			problems[i].File = filepath.Join(dir, problems[i].File)
		}
		return a.showProblems(problems)
	}
	var changed []declare.Source
	for i, s := range now {
		if s.Text == sources[i].Text {
			continue
		}
		changed = append(changed, s)
		if !a.json {
			a.out.rule(filepath.Join(dir, s.Name), "")
			a.showDetail(udiff.Unified("now", "then", sources[i].Text, s.Text), true, true)
		}
	}
	if len(changed) == 0 {
		if done, err := a.print(map[string]any{"words": 0, "files": []string{}}); done {
			return err
		}
		a.out.line("there are no former words here; nothing was changed")
		return nil
	}
	if !yes {
		ok, err := confirm(fmt.Sprintf("write %s in %s?", counted(len(words), "word", "words"), counted(len(changed), "file", "files")))
		if err != nil {
			return err
		}
		if !ok {
			a.out.line("nothing was changed")
			return status(differs)
		}
	}
	if err := unchanged(dir, sources); err != nil {
		return err
	}
	var names []string
	for _, s := range changed {
		path := filepath.Join(dir, s.Name)
		if err := replaceFile(path, s.Text); err != nil {
			return fmt.Errorf("write %s: %w", path, err)
		}
		names = append(names, s.Name)
	}
	if done, err := a.print(map[string]any{"words": len(words), "files": names}); done {
		return err
	}
	a.out.line("wrote %s in %s", counted(len(words), "word", "words"), counted(len(changed), "file", "files"))
	return nil
}

// unchanged says whether the files of a declaration are as they were read: who edits one while
// a question stands keeps what they wrote.
func unchanged(dir string, sources []declare.Source) error {
	now, err := readSources(dir)
	if err == nil && !slices.Equal(now, sources) {
		err = fmt.Errorf("the files in %s have changed meanwhile, and none was written\n  northstake lint --rewrite %[1]s shows it anew", dir)
	}
	return err
}
