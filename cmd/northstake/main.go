// Command northstake is the command-line client.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"
)

// version is set when the program is built.
var version = "dev"

// Exit statuses, as those of diff and grep.
const (
	asDeclared = 0
	differs    = 1
	trouble    = 2
)

// status ends the program with a status and nothing more to say.
type status int

func (s status) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	go func() {
		<-ctx.Done()
		time.Sleep(grace) // for what ends by itself, and has more to say
		leave()
		fmt.Fprintln(stderr, stoppedWords)
		os.Exit(trouble)
	}()
	os.Exit(run(ctx, os.Args[1:]))
}

// grace is how long a command may take to end by itself once it was told to.
const grace = 700 * time.Millisecond

const stoppedWords = "northstake: stopped; what the service has begun goes on there, and northstake cancel ends a run"

func run(ctx context.Context, args []string) int {
	root := command()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	var s status
	switch {
	case err == nil:
		return asDeclared
	case errors.As(err, &s):
		return int(s)
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(stderr, stoppedWords)
		return trouble
	}
	newPaper(os.Stderr).line("northstake: %v", err)
	return trouble
}

func command() *cobra.Command {
	app := &app{out: newPaper(os.Stdout)}
	root := &cobra.Command{
		Use:   "northstake",
		Short: "Declare web server hosts, plan what would change, apply it, and check for drift",
		Long: `North Stake holds web server hosts to what you declare.

Write a declaration (northstake new), check it (lint), tell the service who the
hosts are (trust), see what would change (plan), carry that out (apply), and
find out later what has changed by hand (drift).

Exit status: 0 all is as declared, 1 something differs, 2 trouble.`,
		Version: version, SilenceUsage: true, SilenceErrors: true,
	}
	root.SetOut(stdout)
	root.SetErr(stderr)
	root.SetHelpCommand(helpCommand(app))
	root.SetHelpCommandGroupID("declare")
	root.SetCompletionCommandGroupID("service")
	f := root.PersistentFlags()
	f.StringVar(&app.server, "server", os.Getenv("NORTHSTAKE_SERVER"), "address of the service (NORTHSTAKE_SERVER)")
	f.StringVar(&app.tokenFile, "token-file", os.Getenv("NORTHSTAKE_TOKEN_FILE"), "file with the token (NORTHSTAKE_TOKEN_FILE)")
	f.BoolVar(&app.allowProgram, "allow-program", false, "run the program of a declaration's more_hosts without asking")
	f.StringArrayVar(&app.allowLinks, "allow-links", nil, "`DIR` that links among a declaration's content may lead to, such as what several grounds share; may be given again")
	f.BoolVar(&app.json, "json", false, "print records as JSON")
	root.AddGroup(&cobra.Group{ID: "declare", Title: "Declaring"}, &cobra.Group{ID: "hosts", Title: "Hosts"}, &cobra.Group{ID: "work", Title: "Planning and applying"}, &cobra.Group{ID: "service", Title: "The service"})
	for group, list := range map[string][]*cobra.Command{
		"declare": {newCommand(app), lintCommand(app), schemaCommand(app), passwordCommand(app), declareCommand(app)},
		"hosts":   {groundsCommand(app), hostsCommand(app), showCommand(app), trustCommand(app), addressesCommand(app), certificatesCommand(app)},
		"work":    {surveyCommand(app), planCommand(app), applyCommand(app), resumeCommand(app), watchCommand(app), runsCommand(app), driftCommand(app), restoreCommand(app), cancelCommand(app), journalCommand(app), probeCommand(app), actCommand(app), bringCommand(app), retireCommand(app)},
		"service": {connectCommand(app), secretCommand(app), tokenCommand(app), forgetCommand(app)},
	} {
		for _, c := range list {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return fmt.Errorf("%w\n  %s --help says which there are", err, c.CommandPath())
	})
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		if c.Name() == "completion" {
			c.Short = "Print what makes a shell complete the commands"
		}
	}
	root.SetUsageTemplate(usage)
	sayHowWritten(root)
	return root
}
