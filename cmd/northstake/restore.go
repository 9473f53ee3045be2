package main

import "github.com/spf13/cobra"

func restoreCommand(a *app) *cobra.Command {
	var s scope
	var yes, details bool
	var removing []string
	cmd := &cobra.Command{
		Use: "restore [GROUND]", Short: "Plan only what has shifted, show it, and put it back on a yes", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			g, err := a.groundOn(cmd.Context(), args, s.hosts)
			if err != nil {
				return err
			}
			p, err := a.plan(cmd.Context(), g, s.hosts, "shifted")
			if err != nil {
				return err
			}
			if p.Steps == 0 && p.Blockers+p.Unread == 0 {
				if done, err := a.print(p); done {
					return err
				}
				a.out.line("nothing has shifted on ground %s", g)
				return nil
			}
			if p.Steps == 0 {
				return a.nothingCanBeDone(g, p, details)
			}
			if !a.json {
				a.showPlan(g, p, details)
			}
			return a.apply(cmd.Context(), g, p.Id, yes, removing)
		},
	}
	s.flags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().StringSliceVar(&removing, "removing", nil, removingHelp)
	cmd.Flags().BoolVar(&details, "details", false, "show all of every difference")
	return cmd
}
