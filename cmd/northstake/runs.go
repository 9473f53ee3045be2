package main

import (
	"strconv"

	"github.com/spf13/cobra"
)

func runsCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "runs [GROUND]", Short: "List a ground's runs, the newest first", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			g, err := a.ground(cmd.Context(), args)
			if err != nil {
				return err
			}
			res, err := api.ListRunsWithResponse(cmd.Context(), g)
			if err := a.answered(res, err); err != nil {
				return err
			}
			if done, err := a.print(*res.JSON200); done {
				return err
			}
			var rows [][]string
			for _, r := range *res.JSON200 {
				rows = append(rows, []string{strconv.FormatInt(r.Id, 10), strconv.FormatInt(r.Plan, 10), string(r.State), r.By, ago(r.CreatedAt)})
			}
			a.out.list([]string{"run", "plan", "state", "by", "begun"}, rows, "nothing has been run there yet: northstake plan shows what would be")
			return nil
		},
	}
}
