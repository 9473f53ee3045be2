package main

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"northstake/core/wire"
	"northstake/service/contract"
)

func journalCommand(a *app) *cobra.Command {
	var ground, dismissed, reason string
	var all bool
	cmd := &cobra.Command{
		Use: "journal HOST", Short: "What a host's own journal has: steps that were cut off, or could not be taken back", Args: cobra.ExactArgs(1),
		Long: `List what a host's own journal has of the steps of runs.

A step that could not be taken back is tried again with each run, and holds up
the steps that have to do with the same things, until it can be, or until it is
dismissed by hand with a reason: --dismiss RUN/STEP --reason TEXT.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			g, err := a.groundOfHosts(cmd.Context(), ground, args[:1])
			if err != nil {
				return err
			}
			api, err := a.api()
			if err != nil {
				return err
			}
			var steps []wire.JournalStep
			var given contract.SudoPasswords
			err = withPasswords(func(p contract.SudoPasswords) error {
				if given = p; p == nil {
					res, err := api.GetJournalWithResponse(cmd.Context(), g, args[0])
					if err := a.answered(res, err); err != nil {
						return err
					}
					steps = *res.JSON200
					return nil
				}
				res, err := api.AskJournalWithResponse(cmd.Context(), g, args[0], contract.AskJournalJSONRequestBody{SudoPasswords: p})
				if err := a.answered(res, err); err != nil {
					return err
				}
				steps = *res.JSON200
				return nil
			})
			if err != nil {
				return err
			}
			if dismissed == "" {
				if done, err := a.print(steps); done {
					return err
				}
				a.showJournal(args[0], steps, all)
				return nil
			}
			run, number, err := stepOf(steps, dismissed)
			if err != nil {
				return err
			}
			put, err := api.DismissStepWithResponse(cmd.Context(), g, args[0], contract.Dismissal{Run: run, Number: number, Reason: reason, SudoPasswords: given})
			if err := a.answered(put, err); err != nil {
				return err
			}
			a.out.line("step %d of run %s holds up nothing on %s any more", number, runWords(run, false), args[0])
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&ground, "ground", "", "ground of the host")
	f.BoolVar(&all, "all", false, "those that are done or taken back, too")
	f.StringVar(&dismissed, "dismiss", "", "a step that could not be taken back, as RUN/STEP, that is to hold up nothing any more")
	f.StringVar(&reason, "reason", "", "with --dismiss: what you found and did on the host")
	cmd.MarkFlagsRequiredTogether("dismiss", "reason")
	return cmd
}

// stepOf finds a step of a journal by the number of its run, or that run's whole name, and its own.
func stepOf(steps []wire.JournalStep, words string) (run string, number int, err error) {
	name, n, ok := strings.Cut(words, "/")
	number, err = strconv.Atoi(n)
	if !ok || err != nil {
		return "", 0, fmt.Errorf("%q is not a step: write RUN/STEP, such as 7/2", words)
	}
	var runs []string
	for _, s := range steps {
		is, _ := wire.ParseRun(s.Run)
		if s.Number == number && (s.Run == name || !s.Foreign && strconv.FormatInt(is.Number, 10) == name) {
			runs = append(runs, s.Run)
		}
	}
	switch len(runs) {
	case 0:
		return "", 0, fmt.Errorf("the journal has no step %s; northstake journal HOST lists what it has", words)
	case 1:
		return runs[0], number, nil
	}
	return "", 0, fmt.Errorf("the journal has %d runs of that number; name one in whole: %s", len(runs), strings.Join(runs, ", "))
}

// runWords names a run of a journal.
func runWords(name string, foreign bool) string {
	run, ok := wire.ParseRun(name)
	switch {
	case !ok:
		return name
	case foreign:
		return name + ", of another service"
	}
	return strconv.FormatInt(run.Number, 10)
}

// journalWords says how a step stands in a journal.
var journalWords = map[wire.StepState]string{"begun": "cut off", "held": "not confirmed", "done": "done", "back": "taken back", "stuck": "could not be taken back", "dismissed": "dismissed", "": "unreadable"}

func (a *app) showJournal(host string, steps []wire.JournalStep, all bool) {
	over := []wire.StepState{wire.Done, wire.Back}
	var rows [][]string
	var why []string
	counts := map[wire.StepState]int{}
	for _, s := range steps {
		counts[s.State]++
		if !all && slices.Contains(over, s.State) {
			continue
		}
		state := journalWords[s.State]
		if s.State == wire.Stuck || s.State == "" {
			state = a.out.alarm(state)
		}
		number := strconv.Itoa(s.Number)
		if s.Number == 0 {
			number = ""
		}
		rows = append(rows, []string{runWords(s.Run, s.Foreign), number, state, ago(s.At), s.Text})
		if s.Why != "" {
			why = append(why, fmt.Sprintf("%s/%d: %s", runWords(s.Run, s.Foreign), s.Number, s.Why))
		}
	}
	if len(rows) > 0 {
		a.out.table([]string{"run", "step", "how it stands", "since", "what it does"}, rows)
	}
	for _, w := range why {
		a.out.line("%s", a.out.attention(w))
	}
	a.out.line("%s", journalCounts(host, counts[wire.Done], counts[wire.Back]))
	if n := counts[wire.Stuck]; n > 0 {
		a.out.line("what %s in the way of is held up; to let it go on: northstake journal %s --dismiss RUN/STEP --reason TEXT", isAre(n), host)
	}
}

// journalCounts says how many steps of a host's journal are over.
func journalCounts(host string, done, back int) string {
	switch {
	case done+back == 0:
		return "no step in the journal of " + host + " is done"
	case back == 0:
		return fmt.Sprintf("in the journal of %s %s %s done", host, counted(done, "step", "steps"), isAre(done))
	case done == 0:
		return fmt.Sprintf("in the journal of %s %s %s taken back", host, counted(back, "step", "steps"), isAre(back))
	}
	return fmt.Sprintf("in the journal of %s %s %s done, and %d %s taken back", host, counted(done, "step", "steps"), isAre(done), back, isAre(back))
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}
