package main

import (
	"errors"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"northstake/service/contract"
)

func secretCommand(a *app) *cobra.Command {
	cmd := &cobra.Command{Use: "secret", Short: "Keys and passwords that the service keeps encrypted"}
	var file string
	keep := &cobra.Command{
		Use: "keep NAME", Short: "Keep a secret, from a file, standard input, or a prompt; never from an argument", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			value, err := readSecret(file, args[0])
			if err != nil {
				return err
			}
			api, err := a.api()
			if err != nil {
				return err
			}
			var former time.Time // when a secret of this name was kept, which nobody gets back
			if kept, err := api.ListSecretsWithResponse(cmd.Context()); err == nil && kept.JSON200 != nil {
				for _, s := range *kept.JSON200 {
					if s.Name == args[0] {
						former = s.UpdatedAt
					}
				}
			}
			res, err := api.KeepSecretWithResponse(cmd.Context(), args[0], contract.KeepSecretJSONRequestBody{Value: value})
			if err := a.answered(res, err); err != nil {
				return err
			}
			if former.IsZero() {
				a.out.line("secret %s is kept", args[0])
			} else {
				a.out.line("secret %s is kept, in place of the one of this name that was kept %s", args[0], ago(former))
			}
			return nil
		},
	}
	keep.Flags().StringVar(&file, "file", "", "file with the secret; left out, or -, for what is piped in")
	list := &cobra.Command{
		Use: "list", Short: "List the secrets' names", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			res, err := api.ListSecretsWithResponse(cmd.Context())
			if err := a.answered(res, err); err != nil {
				return err
			}
			if done, err := a.print(*res.JSON200); done {
				return err
			}
			var rows [][]string
			for _, s := range *res.JSON200 {
				rows = append(rows, []string{s.Name, ago(s.UpdatedAt)})
			}
			a.out.list([]string{"secret", "kept"}, rows, "the service keeps no secret yet: northstake secret keep NAME takes one")
			return nil
		},
	}
	forget := &cobra.Command{
		Use: "forget NAME", Short: "Forget a secret", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			res, err := api.ForgetSecretWithResponse(cmd.Context(), args[0])
			if err := a.answered(res, err); err != nil {
				return err
			}
			a.out.line("secret %s is forgotten", args[0])
			return nil
		},
	}
	cmd.AddCommand(keep, list, forget)
	return cmd
}

// readSecret reads a secret from a file, or where none is named from a prompt, or
// from what is piped in.
func readSecret(file, name string) (v string, err error) {
	var b []byte
	switch {
	case file == "" && term.IsTerminal(int(os.Stdin.Fd())):
		v, err = askPassword("secret " + name)
	case file == "" || file == "-":
		b, err = io.ReadAll(io.LimitReader(os.Stdin, 1<<20))
	default:
		b, err = os.ReadFile(file)
	}
	if b != nil {
		v = secretText(b)
	}
	if err == nil && v == "" {
		err = errors.New("the secret is empty: nothing was kept")
	}
	return v, err
}

// secretText takes the line break from the end of a password; a key keeps its
// own.
func secretText(b []byte) string {
	s := string(b)
	if strings.HasPrefix(s, "-----BEGIN") {
		return s
	}
	return strings.TrimRight(s, "\r\n")
}
