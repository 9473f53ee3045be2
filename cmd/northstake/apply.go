package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"northstake/core/form"
	"northstake/service/contract"
)

const removingHelp = "stakes whose steps may remove what people rely on, such as files that nobody declared, or the way in, by their names"

func applyCommand(a *app) *cobra.Command {
	var ground string
	var yes bool
	var removing []string
	cmd := &cobra.Command{
		Use: "apply PLAN", Short: "Carry out a plan, on all its hosts at once", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0], "plan")
			if err != nil {
				return err
			}
			g, err := a.groundOfPlan(cmd.Context(), ground, id)
			if err != nil {
				return err
			}
			return a.apply(cmd.Context(), g, id, yes, removing)
		},
	}
	cmd.Flags().StringVar(&ground, "ground", "", "ground of the plan")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().StringSliceVar(&removing, "removing", nil, removingHelp)
	return cmd
}

// apply runs a plan and shows its progress to the end.
func (a *app) apply(ctx context.Context, ground string, id int64, yes bool, removing []string) error {
	p, err := a.getPlan(ctx, ground, id)
	if err != nil {
		return err
	}
	var hosts []string
	for _, h := range p.Hosts {
		if len(h.Steps) == 0 {
			continue
		}
		if h.Machine != "" {
			h.Name += " (the service's own machine, " + h.Machine + ")"
		}
		hosts = append(hosts, h.Name)
	}
	if p.Steps == 0 && p.Blockers+p.Unread == 0 {
		a.out.line("plan %d has nothing to do", id)
		return nil
	}
	if len(hosts) == 0 {
		return a.nothingCanBeDone(ground, p, false)
	}
	if !yes {
		ok, err := confirm(fmt.Sprintf("do the %s of plan %d on %s?", counted(p.Steps, "step", "steps"), id, strings.Join(hosts, ", ")))
		if err != nil {
			return err
		}
		if !ok {
			a.out.line("nothing was done")
			return status(trouble)
		}
	}
	if !yes {
		if removing, err = confirmRemoving(p, removing); err != nil {
			return err
		}
	}
	api, err := a.api()
	if err != nil {
		return err
	}
	var r contract.Run
	err = withPasswords(func(p contract.SudoPasswords) error {
		res, err := api.CreateRunWithResponse(ctx, ground, contract.NewRun{Plan: id, Removing: removing, SudoPasswords: p})
		if err := a.answered(res, err); err != nil {
			return err
		}
		r = *res.JSON202
		return nil
	})
	if err != nil {
		return err
	}
	return a.watch(ctx, ground, r.Id, 0)
}

const mostRemoved = 40 // lines of what goes, before its name is asked for

// confirmRemoving shows what goes that holds somebody's content, and asks for each
// stake's name.
func confirmRemoving(p contract.Plan, named []string) ([]string, error) {
	for _, h := range p.Hosts {
		for _, s := range h.Steps {
			if len(s.Removes) == 0 || slices.Contains(named, s.Address) {
				continue
			}
			fmt.Fprintf(stderr, "step %d of %s would %s:\n", s.Number, h.Name, s.Text)
			for i, r := range s.Removes {
				if i == mostRemoved {
					fmt.Fprintf(stderr, "  and %d more: see the plan with --details\n", len(s.Removes)-i)
					break
				}
				fmt.Fprintln(stderr, "  "+form.Name(r))
			}
			line, err := ask(fmt.Sprintf("to remove it, type %s:", s.Address))
			if err != nil {
				return nil, err
			}
			if line != s.Address {
				return nil, fmt.Errorf("nothing was done: %s was not named", s.Address)
			}
			named = append(named, s.Address)
		}
	}
	return named, nil
}
