package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"northstake/core/declare"
	"northstake/service/contract"
)

func addressesCommand(a *app) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "addresses [DIR]", Short: "Find by their keys which hosts are where, and correct addresses in the declaration",
		Long: `Ask every address of a declaration for its key, and find the hosts that answer at
another's address: after two machines swapped theirs, say. On a yes the addresses
are corrected in the declaration, which becomes a new revision; trust stays with
each host.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return a.addresses(cmd.Context(), dirOf(args), yes) },
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// moved is a host that answers at another address than the declared one.
type moved struct {
	Host     string `json:"host"`
	Declared string `json:"declared"`
	Found    string `json:"found"`
}

func (a *app) addresses(ctx context.Context, dir string, yes bool) error {
	unpacked, remove, err := unpackedDir()
	if err != nil {
		return err
	}
	defer remove()
	d, _, _, err := lintGround(ctx, a.programs(), dir, unpacked)
	if err != nil {
		return a.showProblems(err)
	}
	if _, err := a.api(); err != nil {
		return err
	}
	list, silent := a.whereHostsAre(ctx, d)
	for _, why := range silent {
		fmt.Fprintln(stderr, a.out.attention(why))
	}
	if a.json {
		if _, err := a.print(list); err != nil || len(list) == 0 {
			return err
		}
	} else if len(list) == 0 {
		a.out.line("every host that answers does so at its own address")
		return nil
	} else {
		var rows [][]string
		for _, m := range list {
			rows = append(rows, []string{m.Host, m.Declared, m.Found})
		}
		a.out.table([]string{"host", "declared at", "answers at"}, rows)
	}
	if !yes {
		ok, err := confirm(fmt.Sprintf("correct %s in the declaration?", counted(len(list), "address", "addresses")))
		if err != nil {
			return err
		}
		if !ok {
			return status(differs)
		}
	}
	if err := correct(dir, d, list); err != nil {
		return err
	}
	r, _, name, err := a.declare(ctx, dir)
	if err != nil {
		return a.showProblems(err)
	}
	if !a.json {
		a.out.line("corrected; ground %s, revision %d", name, r.Number)
	}
	return nil
}

// whereHostsAre asks all addresses for their keys. Silent says of hosts why they
// could not be asked.
func (a *app) whereHostsAre(ctx context.Context, d *declare.Declaration) (list []moved, silent []string) {
	names := d.HostNames()
	keys := make([]*contract.HostKeys, len(names))
	errs := make([]error, len(names))
	gate := make(chan struct{}, atOnce)
	var wg sync.WaitGroup
	for i, name := range names {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			res, err := a.client.GetHostKeysWithResponse(ctx, d.Ground.Name, name)
			if errs[i] = a.answered(res, err); errs[i] == nil {
				keys[i] = res.JSON200
			}
		})
	}
	wg.Wait()
	for i := range names {
		switch {
		case errs[i] != nil:
			silent = append(silent, names[i]+": "+firstLine(errs[i].Error()))
		case keys[i].Owner != "" && d.Hosts[keys[i].Owner] != nil:
			owner := keys[i].Owner
			list = append(list, moved{owner, d.Hosts[owner].Address, keys[i].Address})
		}
	}
	return list, silent
}

// correct writes the addresses at which hosts were found into the declaration's
// files, and nothing else.
func correct(dir string, d *declare.Declaration, list []moved) error {
	lines := map[string][]string{}
	for _, m := range list {
		at := d.At("host", m.Host, "address")
		if program, printed := declare.Printed(at.File); printed {
			return fmt.Errorf("host %s is printed by %s: make it print the address %q", m.Host, program, m.Found)
		}
		file := filepath.Join(dir, at.File)
		if lines[file] == nil {
			b, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			lines[file] = strings.SplitAfter(string(b), "\n")
		}
		line := []rune(lines[file][at.Line-1])
		before, rest := string(line[:at.Column-1]), string(line[at.Column-1:])
		written := strconv.Quote(m.Declared)
		if !strings.HasPrefix(rest, written) && !strings.HasPrefix(rest, "'"+m.Declared+"'") {
			return fmt.Errorf("%s:%d: the address of %s is not written there as text: correct it to %q by hand", at.File, at.Line, m.Host, m.Found)
		}
		lines[file][at.Line-1] = before + strconv.Quote(m.Found) + rest[len(written):]
	}
	for file, text := range lines {
		if err := replaceFile(file, strings.Join(text, "")); err != nil {
			return err
		}
	}
	return nil
}
