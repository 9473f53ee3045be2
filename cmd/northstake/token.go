package main

import (
	"github.com/spf13/cobra"

	"northstake/service/contract"
)

func tokenCommand(a *app) *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Tokens that let people and programs in"}
	create := &cobra.Command{
		Use: "create NAME", Short: "Make a token; it is shown this once", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			res, err := api.CreateTokenWithResponse(cmd.Context(), contract.CreateTokenJSONRequestBody{Name: args[0]})
			if err := a.answered(res, err); err != nil {
				return err
			}
			if done, err := a.print(res.JSON201); done {
				return err
			}
			a.out.line("%s", res.JSON201.Token)
			return nil
		},
	}
	list := &cobra.Command{
		Use: "list", Short: "List the tokens' names", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			res, err := api.ListTokensWithResponse(cmd.Context())
			if err := a.answered(res, err); err != nil {
				return err
			}
			if done, err := a.print(*res.JSON200); done {
				return err
			}
			var rows [][]string
			for _, t := range *res.JSON200 {
				rows = append(rows, []string{t.Name, ago(t.CreatedAt), ago(t.UsedAt)})
			}
			a.out.table([]string{"token", "made", "last sign-in"}, rows)
			return nil
		},
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "End a token and its sessions", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			res, err := api.DeleteTokenWithResponse(cmd.Context(), args[0])
			if err := a.answered(res, err); err != nil {
				return err
			}
			a.out.line("token %s has ended", args[0])
			return nil
		},
	}
	cmd.AddCommand(create, list, remove)
	return cmd
}
