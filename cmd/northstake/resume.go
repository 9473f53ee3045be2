package main

import (
	"github.com/spf13/cobra"

	"northstake/service/contract"
)

func resumeCommand(a *app) *cobra.Command {
	var ground string
	var s scope
	cmd := &cobra.Command{
		Use: "resume RUN", Short: "Carry on with the hosts of a run that were cut off or failed", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			g, id, err := a.runMeant(cmd.Context(), ground, args[0])
			if err != nil {
				return err
			}
			api, err := a.api()
			if err != nil {
				return err
			}
			var r contract.Run
			err = withPasswords(func(p contract.SudoPasswords) error {
				res, err := api.ResumeRunWithResponse(cmd.Context(), g, id, contract.ResumeRunJSONRequestBody{Hosts: s.hosts, SudoPasswords: p})
				if err := a.answered(res, err); err != nil {
					return err
				}
				r = *res.JSON202
				return nil
			})
			if err != nil {
				return err
			}
			return a.watch(cmd.Context(), g, id, r.ResumedAfter, r.Hosts...) // what happens now, and not what did
		},
	}
	s.flags(cmd)
	cmd.Flags().StringVar(&ground, "ground", "", "ground of the run")
	return cmd
}
