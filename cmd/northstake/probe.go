package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"northstake/host/probe"
	"northstake/service/contract"
)

func probeCommand(a *app) *cobra.Command {
	var s scope
	cmd := &cobra.Command{
		Use: "probe [GROUND]", Short: "Fetch every site from inside its hosts and from outside; changes nothing", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			g, err := a.ground(cmd.Context(), args)
			if err != nil {
				return err
			}
			var list []contract.ProbeResult
			err = withPasswords(func(p contract.SudoPasswords) error {
				res, err := api.RunProbesWithResponse(cmd.Context(), g, contract.Ask{Hosts: s.hosts, SudoPasswords: p})
				if err := a.answered(res, err); err != nil {
					return err
				}
				list = *res.JSON200
				return nil
			})
			if err != nil {
				return err
			}
			var bad error
			for _, r := range list {
				if !r.OK {
					bad = status(differs)
				}
			}
			if done, err := a.print(list); done {
				return errors.Join(err, bad)
			}
			a.showProbes(list)
			return bad
		},
	}
	s.flags(cmd)
	return cmd
}

func (a *app) showProbes(list []contract.ProbeResult) {
	if len(list) == 0 {
		fmt.Fprintln(os.Stderr, "no site of this ground declares a probe")
		return
	}
	var rows [][]string
	for _, r := range list {
		word := r.Words()
		if !r.OK {
			word = a.out.attention(word)
		}
		rows = append(rows, []string{r.Host, r.Site, fmt.Sprintf("http://%s:%d%s", r.Name, r.Port, r.Path), r.From, fmt.Sprintf("%d ms", r.Took.Milliseconds()), word})
	}
	a.out.table([]string{"host", "site", "url", "from", "took", "answer"}, rows)
	for i := 0; i+1 < len(list); i += 2 {
		if why := probe.Culprit(list[i], list[i+1]); why != "" {
			a.out.line("%s: %s", a.out.attention(list[i].Host), why)
		}
	}
}
