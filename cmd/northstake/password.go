package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/bcrypt"

	"northstake/core/form"
)

// passwordCost makes a hash take about a tenth of a second: a server checks one with every
// request.
const passwordCost = 10

// passwordLimit is the longest password that bcrypt tells from others, in bytes.
const passwordLimit = 72

func passwordCommand(a *app) *cobra.Command {
	var file, account string
	cmd := &cobra.Command{
		Use: "password", Short: "Make the hash of a visitor's password, for a site's passwords", Args: cobra.NoArgs,
		Long: `Makes the bcrypt hash of a password, which stands in a declaration in its place:

    [site.timetable.path."/crew"]
    passwords = { purser = "$2a$10$…" }

With --account it prints the line NAME:HASH of a secret that passwords_secret names:

    northstake password --account purser >> accounts
    northstake secret keep crew-accounts --file accounts

The password is asked for, or read from a file or what is piped in, and is kept nowhere.`,
		RunE: func(*cobra.Command, []string) error {
			if account != "" && !form.Visitor.MatchString(account) {
				return fmt.Errorf("%q cannot be the name of an account of visitors; use letters, digits and . _ @ -", account)
			}
			password, err := readSecret(file, "the password")
			if err != nil {
				return err
			}
			if len(password) > passwordLimit {
				return fmt.Errorf("the password has %d bytes, and bcrypt tells %d apart: choose a shorter one", len(password), passwordLimit)
			}
			hash, err := bcrypt.GenerateFromPassword([]byte(password), passwordCost)
			if err != nil {
				return errors.New("no hash could be made of this password")
			}
			if done, err := a.print(map[string]string{"hash": string(hash)}); done {
				return err
			}
			if account != "" {
				account += ":"
			}
			a.out.line("%s%s", account, hash)
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "file with the password; left out, or -, for what is piped in")
	cmd.Flags().StringVar(&account, "account", "", "name of the visitor's account, to be printed before the hash")
	return cmd
}
