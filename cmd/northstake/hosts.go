package main

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
)

func groundsCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "grounds", Short: "List the grounds that the service holds", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			res, err := api.ListGroundsWithResponse(cmd.Context())
			if err := a.answered(res, err); err != nil {
				return err
			}
			if done, err := a.print(*res.JSON200); done {
				return err
			}
			var rows [][]string
			for _, g := range *res.JSON200 {
				rows = append(rows, []string{g.Name, strconv.Itoa(g.Revision), strconv.Itoa(g.Hosts), g.About})
			}
			a.out.list([]string{"ground", "revision", "hosts", "about"}, rows, "the service has no ground yet: northstake declare DIR sends one")
			return nil
		},
	}
}

func hostsCommand(a *app) *cobra.Command {
	var s scope
	cmd := &cobra.Command{
		Use: "hosts [GROUND]", Short: "List a ground's hosts as they were last seen", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			g, err := a.ground(cmd.Context(), args)
			if err != nil {
				return err
			}
			res, err := api.GetGroundWithResponse(cmd.Context(), g, &contract.GetGroundParams{On: s.hosts})
			if err := a.answered(res, err); err != nil {
				return err
			}
			if done, err := a.print(res.JSON200); done {
				return err
			}
			var rows [][]string
			for _, h := range res.JSON200.Hosts {
				state := countsWords(a.out, h.Counts)
				switch {
				case !h.Trusted:
					state = a.out.attention("not trusted yet")
				case h.Unread != "":
					state = a.out.attention("unread: " + firstLine(h.Unread))
				case h.SeenAt.IsZero():
					state = "not surveyed yet"
				}
				if h.RestartNeeded != "" {
					state += "  " + a.out.attention("needs a restart: "+h.RestartNeeded)
				}
				address := h.Address
				if h.Via == "service-machine" {
					address = "the service's machine"
				}
				if h.Container != "" {
					address = containerWords(h.Container, h.Engine)
				}
				if h.Sort != "" {
					address = h.Sort
				}
				rows = append(rows, []string{h.Name, address, strings.Join(h.Sites, ","), ago(h.SeenAt), state})
			}
			a.out.list([]string{"host", "address", "sites", "seen", "stakes"}, rows, "no host is declared in it yet: [host.NAME] declares one")
			return nil
		},
	}
	s.flags(cmd)
	return cmd
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// countsWords says how many stakes stand how, leaving out what there is none of.
func countsWords(p *paper, c contract.Counts) string {
	var parts []string
	for _, s := range []struct {
		n int
		s plan.Standing
	}{{c.Set, plan.Set}, {c.Due, plan.Due}, {c.Shifted, plan.Shifted}, {c.Stray, plan.Stray}, {c.Unread, plan.Unread}} {
		if s.n > 0 {
			parts = append(parts, p.counted(s.n, s.s))
		}
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, "  ")
}

func showCommand(a *app) *cobra.Command {
	var ground string
	var claims bool
	cmd := &cobra.Command{
		Use: "show HOST", Short: "Show what a host is, and how its stakes stood when it was last seen", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.api()
			if err != nil {
				return err
			}
			g, err := a.groundOfHosts(cmd.Context(), ground, args)
			if err != nil {
				return err
			}
			res, err := api.GetHostWithResponse(cmd.Context(), g, args[0])
			if err := a.answered(res, err); err != nil {
				return err
			}
			if done, err := a.print(res.JSON200); done {
				return err
			}
			if claims {
				return a.showClaims(*res.JSON200)
			}
			a.showHost(*res.JSON200)
			return nil
		},
	}
	cmd.Flags().StringVar(&ground, "ground", "", "ground of the host")
	cmd.Flags().BoolVar(&claims, "claims", false, "what the declaration needs to own, to find, or to have left alone there")
	return cmd
}

// showClaims prints what the declaration needs on a host.
func (a *app) showClaims(h contract.PlaceView) error {
	if h.Traits.System == "" {
		return fmt.Errorf("host %s has not been seen yet, and what is claimed there depends on what it is\n  northstake survey --on %s looks at it", h.Name, h.Name)
	}
	var rows [][]string
	for _, c := range h.Claims {
		rows = append(rows, []string{c.Need, c.Sort, c.What, c.By, fmt.Sprintf("%s:%d", c.From.File, c.From.Line)})
	}
	a.out.rule("host "+h.Name, counted(len(rows), "claim", "claims"))
	a.out.table([]string{"need", "type", "what", "for", "declared at"}, rows)
	return nil
}

func (a *app) showHost(h contract.PlaceView) {
	at := h.Address
	if h.Container != "" {
		at = containerWords(h.Container, h.Engine)
	}
	a.out.rule(placeWord(h.Sort)+" "+h.Name, at)
	switch {
	case !h.Trusted:
		a.out.line("%s", a.out.attention("its key is not trusted yet: northstake trust "+h.Name))
	case h.Unread != "":
		a.out.line("%s", a.out.attention("it could not be read: "+h.Unread))
	}
	switch t := h.Traits; {
	case h.Sort != "":
		a.out.table([]string{"trait", ""}, [][]string{{"chosen by", chosenBy(h)}})
		a.out.line("")
	case t.System != "":
		var disks []string
		for _, d := range t.Disks {
			disks = append(disks, fmt.Sprintf("%s %s free of %s", d.Mount, wire.Bytes(d.Free), wire.Bytes(d.Size)))
		}
		a.out.table([]string{"trait", ""}, [][]string{
			{"system", t.System + ", family " + t.Family}, {"kernel", t.Kernel + ", " + t.Architecture},
			{"memory", fmt.Sprintf("%s, %s", wire.Bytes(t.Memory), counted(t.CPUs, "processor", "processors"))},
			{"disks", strings.Join(disks, "; ")}, {"addresses", strings.Join(t.Addresses, ", ")},
			{"managers", t.PackageManager + ", " + t.ServiceManager + ", firewall " + t.Firewall + ", confinement " + t.Confinement},
			{"web servers", webServers(t.WebServers)}, {"clock", clockWords(t.ClockSkew)},
			{"restart", restartWords(a.out, t.RestartNeeded)}, {"chosen by", chosenBy(h)}, {"reached", reachedBy(h)},
		})
		a.out.line("")
		var rows [][]string
		for _, l := range t.Listeners {
			rows = append(rows, []string{fmt.Sprintf("%d/%s", l.Port, l.Protocol), l.Address, l.Program, strconv.Itoa(l.PID)})
		}
		a.out.table([]string{"listens", "on", "program", "process"}, rows)
		a.out.line("")
		if len(t.Containers) > 0 {
			rows = nil
			for _, c := range t.Containers {
				by := "ground " + c.By
				if c.By == "" {
					by = "others"
				}
				rows = append(rows, []string{c.Name, c.Image, c.State, by})
			}
			a.out.table([]string{"container", "image", "state", "made by"}, rows)
			a.out.line("")
		}
	}
	if len(h.Givens) > 0 {
		var rows [][]string
		for _, g := range h.Givens {
			rows = append(rows, []string{g.Name, g.Value, fmt.Sprintf("%s:%d", g.From.File, g.From.Line)})
		}
		a.out.table([]string{"given", "value", "from"}, rows)
		a.out.line("")
	}
	a.showRows(h.Rows, true)
	if !h.SeenAt.IsZero() {
		a.out.line("%s", a.out.faint("seen "+ago(h.SeenAt)+", revision "+strconv.Itoa(h.Revision)))
	}
}

func webServers(list []wire.WebServer) string {
	if len(list) == 0 {
		return "none"
	}
	words := make([]string, len(list))
	for i, s := range list {
		words[i] = fmt.Sprintf("%s (%s %s)", s.Name, s.Package, s.Version)
	}
	return strings.Join(words, ", ")
}

func clockWords(skew string) string {
	switch {
	case skew == "":
		return "right"
	case strings.HasPrefix(skew, "-"):
		return skew[1:] + " behind the service's"
	}
	return skew + " ahead of the service's"
}

func restartWords(p *paper, needed string) string {
	if needed == "" {
		return "not needed"
	}
	return p.attention("needed: " + needed)
}

// reachedBy says how the service gets to the host.
func reachedBy(h contract.PlaceView) string {
	if h.Via == "service-machine" {
		return "without SSH: it is the machine that the service runs on, " + h.Traits.Hostname
	}
	if h.Container != "" {
		return "through its engine: it is " + containerWords(h.Container, h.Engine)
	}
	return "over SSH, at " + h.Address
}

// containerWords names a container and where it runs.
func containerWords(container, engine string) string {
	if engine == "" {
		return "container " + container + " on the service's machine"
	}
	return "container " + container + " on " + engine
}

// chosenBy lists the words by which --on chooses the host.
func chosenBy(h contract.PlaceView) string {
	words := []string{h.Name}
	for _, l := range h.Labels {
		words = append(words, "label:"+l)
	}
	for _, k := range h.Kits {
		words = append(words, "kit:"+k)
	}
	return strings.Join(words, ", ")
}

// showRows prints stakes with their standing, wanted beside found.
func (a *app) showRows(list []plan.Row, withSet bool) {
	var rows [][]string
	for _, r := range list {
		if r.Standing == plan.Set && !withSet && r.Soon == "" {
			continue
		}
		name := a.out.standing(r.Standing)
		if r.Soon != "" {
			rows = append(rows, []string{name, r.Address, "", "", a.out.attention(r.Soon)})
		}
		switch {
		case r.Reason != "":
			rows = append(rows, []string{name, r.Address, "", "", firstLine(r.Reason)})
		case len(r.Differences) == 0 && r.Soon == "":
			rows = append(rows, []string{name, r.Address, "", "", ""})
		}
		for i, d := range r.Differences {
			if i == 8 && len(r.Differences) > 9 {
				rows = append(rows, []string{"", "", fmt.Sprintf("and %d more", len(r.Differences)-8), "", ""})
				break
			}
			lead, address := name, r.Address
			if i > 0 && a.out.terminal {
				lead, address = "", ""
			}
			rows = append(rows, []string{lead, address, d.Attribute, d.Wanted, d.Found})
		}
	}
	if len(rows) > 0 {
		a.out.table([]string{"standing", "stake", "what", "wanted", "found"}, rows)
	}
}
