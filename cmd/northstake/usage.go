package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"northstake/core/near"
	"northstake/core/trade"
)

// usage is how a command's help ends: how it is written, the commands below it, and
// its options.
const usage = `{{if .Runnable}}Usage

  {{.UseLine}}
{{end}}{{if .HasAvailableSubCommands}}
{{$all := .Commands}}{{if .Groups}}{{range $g := .Groups}}{{$g.Title}}

{{range $all}}{{if and (eq .GroupID $g.ID) .IsAvailableCommand}}  {{rpad .Name .NamePadding}}  {{.Short}}
{{end}}{{end}}
{{end}}{{else}}Commands

{{range $all}}{{if .IsAvailableCommand}}  {{rpad .Name .NamePadding}}  {{.Short}}
{{end}}{{end}}
{{end}}{{.CommandPath}} COMMAND --help says more of one.
{{end}}{{if .HasAvailableLocalFlags}}
Options

{{.LocalFlags.FlagUsages | trimTrailingWhitespaces}}
{{end}}{{if .HasAvailableInheritedFlags}}
Options of every command

{{.InheritedFlags.FlagUsages | trimTrailingWhitespaces}}
{{end}}`

// sayHowWritten makes a command that is given too much or too little say how it is
// written, and one that only holds others which those are; and so those below it.
func sayHowWritten(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if check(c, args) == nil {
				return nil
			}
			given := "nothing"
			if len(args) > 0 {
				given = strings.Join(args, " ")
			}
			return fmt.Errorf("%s was given %s; it is written\n  %s", c.CommandPath(), given, c.UseLine())
		}
	}
	if c.HasSubCommands() && !c.Runnable() {
		c.Args = cobra.ArbitraryArgs
		c.Use += " COMMAND"
		c.DisableFlagsInUseLine = true
		c.RunE = func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			return noSuchCommand(c, args[0])
		}
	}
	for _, below := range c.Commands() {
		sayHowWritten(below)
	}
}

// guessedCommands says which commands a word of the trade means, "" where it means none.
func guessedCommands(c *cobra.Command, word string) string {
	if c.HasParent() {
		return ""
	}
	var out []string
	for _, name := range trade.GuessedCommand(word) {
		if below, _, err := c.Find([]string{name}); err == nil && below != c {
			out = append(out, fmt.Sprintf("northstake %s: %s", name, below.Short))
		}
	}
	return strings.Join(out, "\n  ")
}

// noSuchCommand says which commands there are below one.
func noSuchCommand(c *cobra.Command, word string) error {
	var names []string
	for _, below := range c.Commands() {
		if below.IsAvailableCommand() {
			names = append(names, below.Name())
		}
	}
	fix := "it has " + strings.Join(names, ", ")
	if guessed := guessedCommands(c, word); guessed != "" {
		fix = guessed
	} else if meant := near.One(word, names); meant != "" {
		fix = fmt.Sprintf("did you mean %q?", c.CommandPath()+" "+meant)
	}
	return fmt.Errorf("there is no command \"%s %s\"\n  %s", c.CommandPath(), word, fix)
}
