package main

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"northstake/service/contract"
)

func watchCommand(a *app) *cobra.Command {
	var ground string
	cmd := &cobra.Command{
		Use: "watch RUN", Short: "Show a run from its beginning to its end", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			g, id, err := a.runMeant(cmd.Context(), ground, args[0])
			if err != nil {
				return err
			}
			return a.watch(cmd.Context(), g, id, 0)
		},
	}
	cmd.Flags().StringVar(&ground, "ground", "", "ground of the run")
	return cmd
}

// runMeant is the run of a number, with its ground.
func (a *app) runMeant(ctx context.Context, ground, word string) (g string, id int64, err error) {
	if id, err = number(word, "run"); err == nil {
		g, err = a.groundOfRun(ctx, ground, id)
	}
	return g, id, err
}

// watch prints a run's progress, a line for everything that ends, in its order and once,
// and how it ended. With after it begins behind that event, and what the hosts had
// done before is not told again.
func (a *app) watch(ctx context.Context, ground string, id, after int64, before ...contract.RunPlace) error {
	api, err := a.api()
	if err != nil {
		return err
	}
	printed := map[string]bool{}
	once := func(key, format string, args ...any) {
		if !printed[key] && !a.json {
			printed[key] = true
			a.out.line(format, args...)
		}
	}
	for _, h := range before {
		for _, s := range h.Steps {
			printed[fmt.Sprintf("%s %d done", h.Place, s.Number)] = s.State == "done"
		}
		for i := range h.Notes {
			printed[fmt.Sprintf("%s note %d", h.Place, i)] = true
		}
	}
	err = a.followAfter(ctx, fmt.Sprintf("/grounds/%s/runs/%d/events", ground, id), after, func(e contract.StreamEvent) error {
		if e.Kind != "host" {
			return nil
		}
		var h contract.RunPlace
		if err := json.Unmarshal(e.Data, &h); err != nil {
			return err
		}
		for _, s := range h.Steps {
			key := fmt.Sprintf("%s %d %s", h.Place, s.Number, s.State)
			switch s.State {
			case "done":
				once(key, "%-12s %2d  %s  %s", h.Place, s.Number, s.Text, a.out.faint(fmt.Sprintf("%.1f s", s.TookMs/1000)))
			case "cancelled":
				once(key, "%-12s %2d  %s  %s", h.Place, s.Number, s.Text, a.out.attention("ended by the cancel"))
			case "failed":
				once(key, "%-12s %2d  %s  %s", h.Place, s.Number, s.Text, a.out.alarm("failed"))
			}
		}
		for i, n := range h.Notes { // among them each step that is taken back, in that order
			once(fmt.Sprintf("%s note %d", h.Place, h.NotesFrom+i), "%-12s     %s", h.Place, a.out.faint(n))
		}
		return nil
	})
	if err != nil {
		return err
	}
	res, err := api.GetRunWithResponse(ctx, ground, id)
	if err := a.answered(res, err); err != nil {
		return err
	}
	r := *res.JSON200
	if done, err := a.print(r); !done {
		a.showRunEnd(r)
	} else if err != nil {
		return err
	}
	switch r.State {
	case "done":
	case "unmet":
		return status(differs)
	default:
		return status(trouble)
	}
	return nil
}

func (a *app) showRunEnd(r contract.Run) {
	resumable := 0
	if r.Error != "" {
		a.out.line("%s", a.out.alarm(r.Error))
	}
	for _, h := range r.Hosts {
		for _, p := range h.Probes {
			word := p.Words()
			if !p.OK {
				word = a.out.alarm(word)
			}
			a.out.line("%-12s     probe %s from %s: %s", h.Place, p.InFull(p.Path), p.From, word)
		}
		if h.Fault.What != "" {
			a.out.line("%-12s     %s: %s", h.Place, a.out.alarm(string(h.State)), h.Fault.What)
			if h.Fault.Rendered != "" {
				a.out.line("%17s%s:%d: %s", "", h.Fault.File, h.Fault.Line, h.Fault.Rendered)
			}
			if h.Fault.From != nil {
				a.out.line("%17sfrom %s:%d", "", h.Fault.From.File, h.Fault.From.Line)
			}
			if h.Fault.Fix != "" {
				a.out.line("%17s%s", "", h.Fault.Fix)
			}
			if h.Fault.Output != "" {
				a.out.line("%17s%s", "", a.out.faint(strings.ReplaceAll(h.Fault.Output, "\n", "\n"+strings.Repeat(" ", 17))))
			}
		}
		switch h.State {
		case "interrupted", "failed", "back", "cancelled":
			if len(h.Steps) > 0 { // of a host that could not be read nothing was planned
				resumable++
			}
		}
	}
	counts := map[contract.RunPlaceState]places{}
	var order []contract.RunPlaceState
	for _, h := range r.Hosts {
		if counts[h.State] == nil {
			order = append(order, h.State)
		}
		counts[h.State] = append(counts[h.State], h.Sort)
	}
	var parts []string
	for _, s := range order {
		parts = append(parts, fmt.Sprintf("%s %s", counts[s].words(), placeStateWords[s]))
	}
	a.out.line("run %d: %s", r.Id, strings.Join(parts, ", "))
	if resumable > 0 {
		a.out.line("to carry on there: northstake resume %d", r.Id)
	}
}

// placeStateWords says how a place's part of a run stands.
var placeStateWords = map[contract.RunPlaceState]string{
	"waiting": "waiting", "running": "under way", "done": "done", "unmet": "done, and still not as declared", "partly": "done but for what is blocked", "nothing": "with nothing to do", "blocked": "blocked and left as it was",
	"moved": "changed since the plan and left as it was", "failed": "failed", "back": "taken back to what it was", "interrupted": "cut off", "cancelled": "cancelled, and left as it was before",
}
