package main

import (
	"os"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"
)

func connectCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "connect [ADDRESS]", Short: "Remember where the service is, and the token for it",
		Long: "Remember where the service is, and the token for it.\n\nThe token is read from --token-file, or asked for; it is kept in a file that only you can read.",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				a.server = args[0]
			}
			var err error
			if a.tokenFile == "" && os.Getenv("NORTHSTAKE_TOKEN") == "" {
				if a.token, err = askPassword("token"); err != nil {
					return err
				}
				if err := os.Setenv("NORTHSTAKE_TOKEN", a.token); err != nil {
					return err
				}
			}
			api, err := a.api()
			if err != nil {
				return err
			}
			res, err := api.GetSessionWithResponse(cmd.Context())
			if err := a.answered(res, err); err != nil {
				return err
			}
			path, err := clientPath()
			if err != nil {
				return err
			}
			b, err := toml.Marshal(clientFile{a.server, a.token})
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
				return err
			}
			if err := os.WriteFile(path, b, 0o600); err != nil {
				return err
			}
			a.out.line("connected to %s as %s", a.server, res.JSON200.Name)
			return nil
		},
	}
}
