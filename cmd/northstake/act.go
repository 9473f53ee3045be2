package main

import (
	"context"
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
)

func actCommand(a *app) *cobra.Command {
	var s scope
	var ground, secret string
	var yes, details bool
	cmd := &cobra.Command{
		Use: "act {restart SERVICE | reload SERVICE | refresh-lists | upgrade | reboot | make-image IMAGE}", Short: "Do something once, now, such as a restart: planned, shown, recorded and run like the rest",
		Long: `Do something once, now, on the hosts that are chosen. No state is declared by it:

  restart SERVICE, reload SERVICE   the service, on hosts where it runs
  refresh-lists                     the lists of what package sources offer, read anew
  upgrade                           all packages, to the newest that the sources offer
  reboot                            restart the host, wait for it, and check its sites
  make-image IMAGE                  of a container that is a host; the image says which revision it
                                    holds, and is pushed to its registry (--image-secret)

What would be done is shown first. Sites are checked afterwards; an upgrade after
which one does not answer as before is taken back.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(s.hosts) == 0 {
				return errors.New("say on which hosts: --on HOST, or --on '*' for all")
			}
			g, err := a.groundOfHosts(cmd.Context(), ground, s.hosts)
			if err != nil {
				return err
			}
			act := wire.ActWant{Do: wire.Act(args[0])}
			switch {
			case len(args) > 1 && act.Do == wire.MakeImage:
				act.Image, act.ImageSecret = args[1], secret
			case len(args) > 1:
				act.Service = args[1]
			}
			_, err = a.planAndApply(cmd.Context(), g, contract.Ask{Hosts: s.hosts, Act: act}, yes, details)
			return err
		},
	}
	s.flags(cmd)
	cmd.Flags().StringVar(&ground, "ground", "", "ground of the hosts")
	cmd.Flags().StringVar(&secret, "image-secret", "", "name of the secret with which the image's registry lets in: USER:PASSWORD")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&details, "details", false, "show all of every difference")
	return cmd
}

// planAndApply plans what was asked for, shows it, and does it on a yes; false says
// that there was nothing to do.
func (a *app) planAndApply(ctx context.Context, ground string, ask contract.Ask, yes, details bool) (bool, error) {
	p, err := a.planFor(ctx, ground, ask)
	if err != nil {
		return false, a.showProblems(err)
	}
	if p.Steps == 0 && p.Blockers+p.Unread == 0 {
		if done, err := a.print(p); done {
			return false, err
		}
		stays := slices.ContainsFunc(p.Hosts, func(h plan.Place) bool { return len(h.Cautions) > 0 })
		switch {
		case ask.Retire == "":
			a.out.line("there is nothing to do")
		case stays:
			a.showPlan(ground, p, details)
		default:
			a.out.line("nothing that runs brought about is left of it")
		}
		return false, nil
	}
	if p.Steps == 0 {
		return false, a.nothingCanBeDone(ground, p, details)
	}
	if !a.json {
		a.showPlan(ground, p, details)
	}
	if err := a.apply(ctx, ground, p.Id, yes, ask.Removing); err != nil {
		return false, err
	}
	return true, nil
}

// nothingCanBeDone shows a plan whose every step is blocked.
func (a *app) nothingCanBeDone(ground string, p contract.Plan, details bool) error {
	done, err := a.print(p)
	if !done {
		a.showPlan(ground, p, details)
	}
	return orStatus(err, trouble)
}
