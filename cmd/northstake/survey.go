package main

import (
	"cmp"
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"northstake/service/contract"
)

// shortly has a survey or plan that is soon made answered at once; what takes longer is followed.
const shortly = "wait=1"

// survey makes a survey and waits for it.
func (a *app) survey(ctx context.Context, ground string, hosts []string) (contract.Survey, error) {
	var out contract.Survey
	api, err := a.api()
	if err != nil {
		return out, err
	}
	err = withPasswords(func(p contract.SudoPasswords) error {
		res, err := api.CreateSurveyWithResponse(ctx, ground, &contract.CreateSurveyParams{Prefer: shortly}, contract.Ask{Hosts: hosts, SudoPasswords: p})
		if err := a.answered(res, err); err != nil {
			return err
		}
		out = *cmp.Or(res.JSON200, res.JSON202)
		return nil
	})
	if err != nil {
		return out, err
	}
	if out.State == "queued" || out.State == "running" {
		// What the survey found is in its record; its stream says only when that is whole.
		if err := a.follow(ctx, fmt.Sprintf("/grounds/%s/surveys/%d/events", ground, out.Id), func(contract.StreamEvent) error { return nil }); err != nil {
			return out, err
		}
		res, err := api.GetSurveyWithResponse(ctx, ground, out.Id)
		if err := a.answered(res, err); err != nil {
			return out, err
		}
		out = *res.JSON200
	}
	if out.State != "done" {
		return out, fmt.Errorf("survey %d failed: %s", out.Id, out.Error)
	}
	return out, nil
}

func surveyCommand(a *app) *cobra.Command {
	var s scope
	cmd := &cobra.Command{
		Use: "survey [GROUND]", Short: "Look at hosts and say how every stake stands; changes nothing", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			g, err := a.groundOn(cmd.Context(), args, s.hosts)
			if err != nil {
				return err
			}
			out, err := a.survey(cmd.Context(), g, s.hosts)
			if err != nil {
				return err
			}
			if done, err := a.print(out); done {
				return orStatus(err, surveyStatus(out, false))
			}
			for _, h := range out.Hosts {
				a.out.rule(placeWord(h.Sort)+" "+h.Place, fmt.Sprintf("%s  %.0f ms", countsWords(a.out, h.Counts), h.TookMs))
				if h.Unread != "" {
					a.out.line("%s", a.out.attention(h.Unread))
				}
				if h.Awaits != "" {
					a.out.line("%s", h.Awaits)
				}
				a.showRows(h.Rows, true)
			}
			return orStatus(nil, surveyStatus(out, false))
		},
	}
	s.flags(cmd)
	return cmd
}

func orStatus(err error, s status) error {
	if err == nil && s != asDeclared {
		return s
	}
	return err
}

// surveyStatus is the exit status of a survey: of drift alone, when that was
// asked for.
func surveyStatus(s contract.Survey, driftOnly bool) status {
	out := status(asDeclared)
	for _, h := range s.Hosts {
		if h.Unread != "" || h.Counts.Unread > 0 {
			return trouble
		}
		if h.Awaits != "" && !driftOnly {
			out = differs
		}
		if h.Counts.Shifted > 0 || (!driftOnly && h.Counts.Due+h.Counts.Stray > 0) {
			out = differs
		}
	}
	return out
}
