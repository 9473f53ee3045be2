package main

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"northstake/service/contract"
)

func retireCommand(a *app) *cobra.Command {
	var s scope
	var ground string
	var all, yes, details bool
	var removing []string
	cmd := &cobra.Command{
		Use: "retire {SITE | HOST | --all}", Short: "Take away all that runs made of a site, on a host, or of a ground",
		Long: `Take away all that runs made of a site, on a host, or of a ground: virtual hosts,
services, ports, packages that nothing else needs, files and links. What was there
before, and what somebody else has put there, stays. Content and accounts go when
they are named with --removing.

What would go is shown first; a last look says what is left. Where a site and a host
have the same name, write site:NAME or host:NAME.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if all == (len(args) == 1) {
				return errors.New("name a site or a host, or give --all")
			}
			ask := contract.Ask{Hosts: s.hosts, Removing: removing, Retire: contract.All}
			if len(args) == 1 {
				ask.Retire = args[0]
			}
			var g string
			var err error
			switch {
			case ground != "":
				g, err = a.ground(cmd.Context(), []string{ground})
			case all:
				g, err = a.groundOn(cmd.Context(), nil, s.hosts)
			default:
				g, err = a.groundOfSite(cmd.Context(), "", args[0])
			}
			if err != nil {
				return err
			}
			_, err = a.planAndApply(cmd.Context(), g, ask, yes, details)
			return err
		},
	}
	s.flags(cmd)
	cmd.Flags().StringVar(&ground, "ground", "", "its ground")
	cmd.Flags().BoolVar(&all, "all", false, "all that runs made on the hosts of the ground")
	cmd.Flags().StringSliceVar(&removing, "removing", nil, "content and accounts that go as well, by their names")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&details, "details", false, "show all of every difference")
	return cmd
}

func forgetCommand(a *app) *cobra.Command {
	var regardless bool
	cmd := &cobra.Command{
		Use: "forget GROUND [HOST...]", Short: "Forget the record of a ground, or of hosts that are not declared any more",
		Long: `Forget the record of a ground: its revisions, plans, runs, and what is known of its
hosts, their keys among it. With hosts, only what is known of those. Nothing changes
on hosts: retire them first.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			params := contract.ForgetGroundParams{Regardless: regardless}
			if len(args) > 1 {
				params.Host = args[1:]
			}
			res, err := api.ForgetGroundWithResponse(cmd.Context(), args[0], &params)
			if err := a.answered(res, err); err != nil {
				return err
			}
			what := "ground " + args[0] + " is forgotten"
			if len(args) > 1 {
				what = "of ground " + args[0] + " is forgotten: " + strings.Join(args[1:], ", ")
			}
			a.out.line("%s", what)
			return nil
		},
	}
	cmd.Flags().BoolVar(&regardless, "regardless", false, "forget them although something that runs brought about is still there")
	return cmd
}
