package main

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/resolve"
	"northstake/host/family"
)

// lintGround reads and checks a directory; places in the problems begin with
// the directory as it was given. Archives are unpacked below the directory
// unpacked, which the caller removes.
func lintGround(ctx context.Context, may programs, dir, unpacked string) (*declare.Declaration, []declare.Source, *declare.Manifest, error) {
	sources, m, err := readGround(ctx, dir, may)
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
		fmt.Fprintln(stderr, p.Draw())
	}
	said := counted(len(problems), "mistake", "mistakes")
	if len(problems) >= declare.MostMistakes {
		said += ", and more that are told once these are mended"
	}
	fmt.Fprintln(stderr, said)
	if slices.ContainsFunc(problems, func(p declare.Problem) bool { return p.Former }) {
		fmt.Fprintln(stderr, "northstake lint --rewrite writes former words as they are written now")
	}
	return status(trouble)
}

func lintCommand(a *app) *cobra.Command {
	var rewrite, yes bool
	cmd := &cobra.Command{
		Use: "lint [DIR]", Short: "Check a declaration; needs no service", Args: cobra.MaximumNArgs(1),
		Long: "Check a declaration, and show each mistake in its line. No service is needed.\n\nKeys and values that were written otherwise in earlier releases are named with what\nis written now. --rewrite changes them in the files, keeps comments and layout, and\nshows the difference first.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if rewrite {
				return a.rewrite(dirOf(args), yes)
			}
			unpacked, remove, err := unpackedDir()
			if err != nil {
				return err
			}
			defer remove()
			d, _, m, err := lintGround(cmd.Context(), a.programs(), dirOf(args), unpacked)
			if err != nil {
				return a.showProblems(err)
			}
			cautions := lint.Cautions(d)
			if done, err := a.print(map[string]any{"problems": []declare.Problem{}, "cautions": cautions, "ground": d.Ground.Name}); done {
				return err
			}
			for _, c := range lint.Alike(cautions) {
				c.File = filepath.Join(dirOf(args), c.File)
				a.out.drawn(a.out.attention("caution") + " " + c.Draw())
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
	cmd.Flags().BoolVar(&rewrite, "rewrite", false, "write former words in the files as they are written now")
	cmd.Flags().BoolVar(&yes, "yes", false, "with --rewrite: do not ask")
	return cmd
}
