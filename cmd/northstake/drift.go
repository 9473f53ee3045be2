package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"northstake/core/form"
	"northstake/core/plan"
	"northstake/service/contract"
)

func driftCommand(a *app) *cobra.Command {
	var s scope
	cmd := &cobra.Command{
		Use: "drift [GROUND]", Short: "Survey again and list what has shifted since it was applied; changes nothing", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			g, err := a.groundOn(cmd.Context(), args, s.hosts)
			if err != nil {
				return err
			}
			out, err := a.survey(cmd.Context(), g, s.hosts)
			if err != nil {
				return err
			}
			if done, err := a.print(driftOf(out)); done {
				return orStatus(err, surveyStatus(out, true))
			}
			a.showDrift(g, out)
			return orStatus(nil, surveyStatus(out, true))
		},
	}
	s.flags(cmd)
	return cmd
}

// driftOf leaves only what has shifted, is stray, ends soon, or could not be read.
func driftOf(s contract.Survey) contract.Survey {
	hosts := make([]contract.SurveyPlace, len(s.Hosts))
	for i, h := range s.Hosts {
		rows := []plan.Row{}
		for _, r := range h.Rows {
			if r.InDrift() {
				rows = append(rows, r)
			}
		}
		h.Rows = rows
		hosts[i] = h
	}
	s.Hosts = hosts
	return s
}

func (a *app) showDrift(ground string, s contract.Survey) {
	var on, read, silent places // on which something has shifted, that were read, and that were not
	shifted, due, unread := 0, 0, 0
	for _, h := range driftOf(s).Hosts {
		due += h.Counts.Due
		if h.Unread != "" {
			a.out.rule(placeWord(h.Sort)+" "+h.Place, a.out.standing(plan.Unread))
			a.out.line("%s", a.out.attention(h.Unread))
			silent = append(silent, h.Sort)
			continue
		}
		if h.Awaits != "" {
			a.out.rule(placeWord(h.Sort)+" "+h.Place, "")
			a.out.line("%s", h.Awaits)
			continue
		}
		read = append(read, h.Sort)
		unread += h.Counts.Unread
		if len(h.Rows) == 0 {
			continue
		}
		a.out.rule(placeWord(h.Sort)+" "+h.Place, countsWords(a.out, h.Counts))
		a.showRows(h.Rows, false)
		for _, r := range h.Rows {
			if r.Standing == plan.Shifted {
				a.out.line("%s", a.out.faint(sinceWords(r)))
			}
		}
		shifted += h.Counts.Shifted
		if h.Counts.Shifted > 0 {
			on = append(on, h.Sort)
		}
	}
	if len(silent)+unread > 0 {
		a.out.line("%s", a.out.attention(unreadWords(silent, unread)+" could not be read: nobody knows whether anything has shifted there"))
	}
	switch {
	case len(read) == 0:
	case shifted == 0 && len(silent)+unread > 0:
		a.out.line("nothing else has shifted on %s of ground %s", read.words(), ground)
	case shifted == 0:
		a.out.line("nothing has shifted on %s of ground %s", read.words(), ground)
	default:
		verb, it := "have", "them"
		if shifted == 1 {
			verb, it = "has", "it"
		}
		a.out.line("%s %s shifted on %s; to put %s back: northstake restore %s", counted(shifted, "stake", "stakes"), verb, on.words(), it, ground)
	}
	if due > 0 {
		a.out.line("%s not applied yet: northstake plan %s", counted(due, "declared stake is", "declared stakes are"), ground)
	}
}

// unreadWords says how many places, and how many stakes of others, could not be read.
func unreadWords(silent places, stakes int) string {
	switch {
	case stakes == 0:
		return silent.words()
	case len(silent) == 0:
		return counted(stakes, "stake", "stakes")
	}
	return silent.words() + " and " + counted(stakes, "stake", "stakes") + " of others"
}

// sinceWords says since when a stake differs, and what is known about who.
func sinceWords(r plan.Row) string {
	text := fmt.Sprintf("%s: seen to differ %s; until then it was as declared, from %s on", r.Address, ago(r.ShiftedAt), ago(r.SetAt))
	if !r.Touched.At.IsZero() {
		what := "it"
		if r.Touched.What != "" {
			what = form.Name(r.Touched.What)
		}
		text += fmt.Sprintf("; %s was changed %s and belongs to %s", what, ago(r.Touched.At), r.Touched.Owner)
	}
	if r.NewlyDeclared {
		text += "; something else is wanted by now, by the declaration or by what the host has become, which is due"
	}
	return text
}
