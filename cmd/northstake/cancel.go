package main

import (
	"github.com/spf13/cobra"
)

func cancelCommand(a *app) *cobra.Command {
	var ground string
	cmd := &cobra.Command{
		Use: "cancel RUN", Short: "Stop a run, and take back what it has done on hosts where it has not ended", Args: cobra.ExactArgs(1),
		Long: `Stop a run.

On each host where it has not ended it stops before the next step, or ends the
command that is under way, and takes back what it has done there. Hosts that it
has not begun with are left as they are, and so are those where it has ended. A
host that does not answer is left after a minute: its own journal knows what is
there, and the next run clears up.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			g, id, err := a.runMeant(cmd.Context(), ground, args[0])
			if err != nil {
				return err
			}
			api, err := a.api()
			if err != nil {
				return err
			}
			res, err := api.CancelRunWithResponse(cmd.Context(), g, id)
			if err := a.answered(res, err); err != nil {
				return err
			}
			r := *res.JSON202
			return a.watch(cmd.Context(), g, id, r.ResumedAfter, r.Hosts...)
		},
	}
	cmd.Flags().StringVar(&ground, "ground", "", "ground of the run")
	return cmd
}
