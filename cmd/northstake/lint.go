package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/resolve"
	"northstake/host/family"
)

// lintGround reads and checks a directory; places in the problems begin with
// the directory as it was given. Archives are unpacked below the directory
// unpacked, which the caller removes.
func lintGround(may programs, dir, unpacked string) (*declare.Declaration, []declare.Source, *declare.Manifest, error) {
	sources, m, err := readGround(dir, may)
	if err != nil {
		return nil, nil, nil, err
	}
	d, problems := lint.Parse(sources, m)
	if len(problems) == 0 && len(d.TextFiles())+len(d.Archives()) > 0 {
		if err := readTexts(dir, d, m); err != nil {
			return nil, nil, nil, err
		}
		if problems = openArchives(dir, unpacked, d, m); len(problems) == 0 {
			d, problems = lint.Parse(sources, m)
		}
	}
	if len(problems) == 0 {
		problems = resolve.Clashes(d, family.AllLayouts())
	}
	if len(problems) > 0 {
		for i := range problems {
			if _, printed := declare.Printed(problems[i].File); !printed {
				problems[i].File = filepath.Join(dir, problems[i].File)
			}
		}
		return nil, nil, nil, problems
	}
	return d, sources, m, nil
}

// showProblems prints what is wrong with a declaration.
func (a *app) showProblems(err error) error {
	var problems declare.Problems
	if !errors.As(err, &problems) {
		return err
	}
	if done, err := a.print(map[string]any{"problems": problems}); done {
		if err != nil {
			return err
		}
		return status(trouble)
	}
	for _, p := range problems {
		fmt.Fprintln(os.Stderr, p.Draw())
	}
	fmt.Fprintln(os.Stderr, counted(len(problems), "thing is wrong", "things are wrong"))
	return status(trouble)
}

func lintCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "lint [DIR]", Short: "Check a declaration; needs no service", Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			unpacked, err := os.MkdirTemp("", "northstake-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(unpacked)
			d, _, m, err := lintGround(a.programs(), dirOf(args), unpacked)
			if err != nil {
				return a.showProblems(err)
			}
			cautions := lint.Cautions(d)
			if done, err := a.print(map[string]any{"problems": []declare.Problem{}, "cautions": cautions, "ground": d.Ground.Name}); done {
				return err
			}
			for _, c := range cautions {
				c.File = filepath.Join(dirOf(args), c.File)
				a.out.line("%s %s", a.out.attention("caution"), c.Draw())
			}
			files := 0
			for _, dir := range d.ContentDirs() {
				below, _ := m.Below(dir)
				files += len(below)
			}
			a.out.line("ground %s is sound: %s, %s, %s", d.Ground.Name, counted(len(d.Hosts), "host", "hosts"), counted(len(d.Sites), "site", "sites"), counted(files, "content file", "content files"))
			return nil
		},
	}
}
