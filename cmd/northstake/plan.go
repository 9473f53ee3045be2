package main

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
)

// plan makes a plan and waits for it.
func (a *app) plan(ctx context.Context, ground string, hosts []string, only contract.AskOnly) (contract.Plan, error) {
	return a.planFor(ctx, ground, contract.Ask{Hosts: hosts, Only: only})
}

// planFor makes a plan of what is asked for and waits for it.
func (a *app) planFor(ctx context.Context, ground string, ask contract.Ask) (contract.Plan, error) {
	var out contract.Plan
	api, err := a.api()
	if err != nil {
		return out, err
	}
	err = withPasswords(func(p contract.SudoPasswords) error {
		ask.SudoPasswords = p
		res, err := api.CreatePlanWithResponse(ctx, ground, &contract.CreatePlanParams{Prefer: shortly}, ask)
		if err := a.answered(res, err); err != nil {
			return err
		}
		out = *cmp.Or(res.JSON200, res.JSON202)
		return nil
	})
	if err != nil {
		return out, err
	}
	if out.State == "done" {
		return out, nil
	}
	if err := a.follow(ctx, fmt.Sprintf("/grounds/%s/plans/%d/events", ground, out.Id), func(contract.StreamEvent) error { return nil }); err != nil {
		return out, err
	}
	return a.getPlan(ctx, ground, out.Id)
}

func (a *app) getPlan(ctx context.Context, ground string, id int64) (contract.Plan, error) {
	api, err := a.api()
	if err != nil {
		return contract.Plan{}, err
	}
	res, err := api.GetPlanWithResponse(ctx, ground, id)
	if err := a.answered(res, err); err != nil {
		return contract.Plan{}, err
	}
	p := *res.JSON200
	switch p.State {
	case "failed":
		return p, fmt.Errorf("plan %d failed: %s", id, p.Error)
	case "queued", "running":
		return p, fmt.Errorf("plan %d is still being made; ask again in a moment", id)
	}
	return p, nil
}

func planStatus(p contract.Plan) status {
	switch {
	case p.Blockers+p.Unread > 0:
		return trouble
	case p.Steps > 0 || answersOtherwise(p) > 0:
		return differs
	}
	return asDeclared
}

// answersOtherwise is how many sites lie there as declared and answer otherwise.
func answersOtherwise(p contract.Plan) (n int) {
	for _, h := range p.Hosts {
		n += len(h.Otherwise)
	}
	return n
}

func planCommand(a *app) *cobra.Command {
	var s scope
	var details, clears bool
	var removing []string
	cmd := &cobra.Command{
		Use: "plan [GROUND]", Short: "Work out the steps that would make everything as declared; changes nothing on hosts",
		Long: "Work out the steps that would make everything as declared. Nothing changes on hosts.\n\nIn a directory with a declaration, and without an argument, the declaration is\ngiven to the service first. The plan is recorded there under a number.",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if s.dir == "" && len(args) == 0 && groundHere(".") != "" {
				s.dir = "."
			}
			if s.dir != "" {
				_, _, name, err := a.declare(ctx, s.dir)
				if err != nil {
					return a.showProblems(err)
				}
				if len(args) == 0 {
					args = []string{name}
				}
			}
			g, err := a.groundOn(ctx, args, s.hosts)
			if err != nil {
				return err
			}
			p, err := a.planFor(ctx, g, contract.Ask{Hosts: s.hosts, Clear: clears, Removing: removing})
			if err != nil {
				return err
			}
			if done, err := a.print(p); done {
				return orStatus(err, planStatus(p))
			}
			a.showPlan(g, p, details)
			return orStatus(nil, planStatus(p))
		},
	}
	s.flags(cmd)
	cmd.Flags().StringSliceVar(&removing, "removing", nil, "with --clear, content and accounts that go as well, by their names")
	cmd.Flags().BoolVar(&clears, "clear", false, "take away, too, what runs brought about and nothing declares any more")
	cmd.Flags().StringVar(&s.dir, "dir", "", "give this declaration to the service first")
	cmd.Flags().BoolVar(&details, "details", false, "show all of every difference")
	return cmd
}

const shortDetail = 14 // lines of a detail that are shown unless all are asked for

func (a *app) showPlan(ground string, p contract.Plan, details bool) {
	for _, h := range p.Hosts {
		if len(h.Steps)+len(h.Blockers)+len(h.NotRead)+len(h.Cautions)+len(h.Otherwise) > 0 || h.Unread != "" {
			a.showPlanHost(h, details)
		}
	}
	a.showPlanEnd(ground, p)
}

// showPlanHost shows what is planned for one host, with what is in its way before the steps.
func (a *app) showPlanHost(h contract.PlanPlace, details bool) {
	name := placeWord(h.Sort) + " " + h.Name
	if h.Machine != "" {
		name += ", the machine that the service runs on (" + h.Machine + ")"
	}
	a.out.rule(name, a.planHostWords(h))
	a.showPlanNotes(h)
	for _, group := range folded(h.Steps) {
		if len(group) > 1 && !details {
			a.out.line("%s", foldedLine(group))
			continue
		}
		for _, s := range group {
			a.showStep(s, details)
		}
	}
}

// planHostWords say how much is planned for a host, or why nothing is.
func (a *app) planHostWords(h contract.PlanPlace) string {
	steps := counted(len(h.Steps), "step", "steps")
	switch {
	case h.Unread != "", len(h.NotRead) > 0 && len(h.Steps)+len(h.Blockers) == 0:
		return a.out.standing(plan.Unread)
	case len(h.Blockers) > 0 && len(h.Steps) == 0:
		return "blocked"
	case len(h.Blockers) > 0:
		return fmt.Sprintf("%s, %s blocked", steps, counted(len(h.Blockers)+len(h.Left), "stake", "stakes"))
	}
	return steps
}

// showPlanNotes shows what could not be read of a host, what is in the way there, and what to be careful of.
func (a *app) showPlanNotes(h contract.PlanPlace) {
	note := func(word, name, what, fix string) {
		a.out.line("     %s %s: %s", word, name, what)
		if fix != "" {
			a.out.line("     %s", fix)
		}
	}
	if h.Unread != "" {
		a.out.line("     %s", a.out.attention("it could not be read: "+strings.ReplaceAll(h.Unread, "\n", "\n     ")))
	}
	for _, n := range h.NotRead {
		note(a.out.attention("not read"), n.Address, strings.ReplaceAll(n.Why, "\n", "\n     "), "")
	}
	for _, o := range h.Otherwise {
		note(a.out.attention("answers otherwise"), o.Address, o.What, o.Fix)
	}
	for _, b := range h.Blockers {
		note(a.out.alarm("blocked"), b.Address, b.What, b.Fix)
	}
	for _, l := range h.Left {
		a.out.line("     %s", a.out.faint(l.Address+" waits for "+l.Behind))
	}
	for _, c := range sameNotes(h.Cautions) {
		note(a.out.attention("caution"), c.Address, c.What, c.Fix)
	}
}

// showPlanEnd says what all of a plan comes to.
func (a *app) showPlanEnd(ground string, p contract.Plan) {
	var working []string
	var on, silent places
	for _, h := range p.Hosts {
		if len(h.Steps) > 0 {
			working, on = append(working, h.Name), append(on, h.Sort)
		}
		if h.Unread != "" {
			silent = append(silent, h.Sort)
		}
	}
	if p.Unread > 0 && len(silent) == len(p.Hosts) {
		a.out.line("%s", a.out.attention(silent.words()+" could not be read: nothing is planned"))
		return
	}
	unread := ""
	if p.Unread > 0 {
		unread = a.out.attention(unreadWords(silent, p.Unread-len(silent)) + " could not be read")
	}
	switch {
	case p.Steps+p.Blockers == 0:
		a.showNothingToDo(ground, p, unread)
	case len(working) == 0:
		a.out.line("plan %d can do nothing until what is in the way is cleared", p.Id)
	default:
		where := on.words()
		if len(working) == 1 {
			where = working[0]
		}
		if unread != "" {
			a.out.line("%s, and nothing is planned for %s", unread, map[bool]string{true: "it", false: "them"}[p.Unread == 1])
		}
		a.out.line("%s on %s, kept as plan %d. Next: northstake apply %d", counted(p.Steps, "step", "steps"), where, p.Id, p.Id)
	}
}

// showNothingToDo says of a plan without steps whether that means that all is as declared.
func (a *app) showNothingToDo(ground string, p contract.Plan, unread string) {
	otherwise := answersOtherwise(p)
	switch {
	case unread != "":
		a.out.line("%s; as far as the rest goes there is nothing to do", unread)
	case strings.HasPrefix(p.Only, "retire "):
		a.out.line("there is nothing else to take away")
	case otherwise > 0:
		a.out.line("there is nothing to do, and not all is as declared: %s otherwise", a.out.attention(map[bool]string{true: "1 site answers", false: fmt.Sprintf("%d sites answer", otherwise)}[otherwise == 1]))
	default:
		a.out.line("there is nothing to do: all is as revision %d of ground %s declares", p.Revision, ground)
	}
}

func (a *app) showStep(s wire.Step, details bool) {
	because := ""
	if s.Because != "" {
		because = a.out.faint(", because " + s.Because)
	}
	a.out.line("%3d  %s%s", s.Number, s.Text, because)
	shown := s.Details
	if !details && len(shown) >= foldFrom {
		shown = shown[:2]
	}
	for _, d := range shown {
		a.showDetail(d.Text, d.Diff, details)
	}
	if more := len(s.Details) - len(shown); more > 0 {
		a.out.line("        %s", a.out.faint(fmt.Sprintf("%d more differences: --details", more)))
	}
}

func (a *app) showDetail(text string, diff, all bool) {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	shown := lines
	if !all && len(lines) > shortDetail {
		shown = lines[:shortDetail]
	}
	for _, l := range shown {
		if diff && strings.HasPrefix(l, "+") && !strings.HasPrefix(l, "+++ ") {
			l = a.out.strong(l)
		} else {
			l = a.out.faint(l)
		}
		a.out.line("        %s", l)
	}
	if more := len(lines) - len(shown); more > 0 {
		a.out.line("        %s", a.out.faint(fmt.Sprintf("%d more lines: --details", more)))
	}
}
