package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"northstake/core/wire"
	"northstake/host/probe"
	"northstake/service/contract"
)

// probing is what the command is asked for.
type probing struct {
	scope
	ground  string
	once    probe.Once
	headers []string
	watch   bool
	every   time.Duration
}

func probeCommand(a *app) *cobra.Command {
	var p probing
	cmd := &cobra.Command{
		Use: "probe [SITE|GROUND]", Short: "Fetch sites as their visitors do, from inside their hosts, from outside, and from other hosts; changes nothing", Args: cobra.MaximumNArgs(1),
		Long: `Makes the probes that sites declare, from where they say: inside the host, outside of it,
and on other hosts of the ground. Each says what it saw: what answered, after how long, where
it was sent on, and whether the name, the connection or the answer was wrong.

With --url it is one request that nobody declares, made by the service or on hosts:

    northstake probe --url http://timetable.saltmarsh.test/freight --from quay2 --contains Freight`,
		Example: "northstake probe timetable --watch",
		RunE: func(cmd *cobra.Command, args []string) error {
			g, site, err := a.probed(cmd.Context(), args, p.ground)
			if err != nil {
				return err
			}
			if site != "" && p.once.URL != "" {
				return errors.New("a site's own probes, or one --url: not both")
			}
			if p.once.Headers, err = headersOf(p.headers); err != nil {
				return err
			}
			if p.watch {
				return a.watchProbes(cmd.Context(), g, site, p)
			}
			list, err := a.probes(cmd.Context(), g, site, p)
			if err != nil {
				return err
			}
			var bad error
			if slices.ContainsFunc(list, func(r contract.ProbeResult) bool { return !r.OK }) {
				bad = status(differs)
			}
			if slices.ContainsFunc(list, func(r contract.ProbeResult) bool { return !r.Made() }) {
				bad = status(trouble) // nobody knows what would be answered there
			}
			if done, err := a.print(list); done {
				return errors.Join(err, bad)
			}
			a.showProbes(list)
			return bad
		},
	}
	p.flags(cmd)
	f := cmd.Flags()
	f.StringVar(&p.ground, "ground", "", "ground of the site, or of the hosts that --from names")
	f.BoolVar(&p.watch, "watch", false, "again and again, until it is interrupted; what changes is printed")
	f.DurationVar(&p.every, "every", 2*time.Second, "how often, with --watch")
	f.StringVar(&p.once.URL, "url", "", "one request that nobody declares")
	f.StringSliceVar(&p.once.From, "from", nil, "of --url: outside, or hosts of the ground (outside where it is left out)")
	f.StringVar(&p.once.At, "at", "", "of --url: the address that is asked, whatever the name resolves to")
	f.StringVar(&p.once.Resolver, "resolver", "", "of --url: what looks up the name: system, or the address of a DNS server (system where it is left out)")
	f.StringVar(&p.once.Method, "method", "", "of --url: GET where it is left out")
	f.StringArrayVar(&p.headers, "header", nil, "of --url: a header of the request, such as \"Accept: text/html\"")
	f.StringVar(&p.once.Body, "body", "", "of --url: the body of the request")
	f.BoolVar(&p.once.Follows, "follow", false, "of --url: follow redirects")
	f.StringVar(&p.once.Within, "within", "", "of --url: how long it may take, such as 10s")
	f.IntVar(&p.once.Status, "status", 0, "of --url: the status that is wanted (200)")
	f.StringVar(&p.once.Contains, "contains", "", "of --url: text that is wanted")
	f.StringVar(&p.once.Matches, "matches", "", "of --url: a regular expression that has to match")
	return cmd
}

// probed tells a site from a ground: a ground by that name is meant where there is one.
func (a *app) probed(ctx context.Context, args []string, ground string) (g, site string, err error) {
	named := args
	if ground != "" {
		named = []string{ground}
	}
	if len(args) == 1 {
		if ground == "" {
			names, err := a.grounds(ctx)
			if err != nil {
				return "", "", err
			}
			if slices.Contains(names, args[0]) {
				return args[0], "", nil
			}
			g, err := a.groundOfSite(ctx, "", args[0])
			return g, args[0], err
		}
		return ground, args[0], nil
	}
	g, err = a.ground(ctx, named)
	return g, "", err
}

func headersOf(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, h := range list {
		name, value, ok := strings.Cut(h, ":")
		if !ok {
			return nil, fmt.Errorf("%q is not a header: write \"NAME: VALUE\"", h)
		}
		out[strings.TrimSpace(name)] = strings.TrimSpace(value)
	}
	return out, nil
}

func (a *app) probes(ctx context.Context, g, site string, p probing) (list []contract.ProbeResult, err error) {
	api, err := a.api()
	if err != nil {
		return nil, err
	}
	err = withPasswords(func(passwords contract.SudoPasswords) error {
		res, err := api.RunProbesWithResponse(ctx, g, contract.ProbeAsk{Hosts: p.hosts, Site: site, Once: p.once, SudoPasswords: passwords})
		if err := a.answered(res, err); err != nil {
			return err
		}
		list = *res.JSON200
		return nil
	})
	return list, err
}

// watchProbes makes them again and again, and prints what has changed.
func (a *app) watchProbes(ctx context.Context, g, site string, p probing) error {
	former := map[string]string{}
	for {
		list, err := a.probes(ctx, g, site, p)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		var changed []contract.ProbeResult
		for _, r := range list {
			key := strings.Join([]string{r.Host, r.Site, urlOf(r), r.From}, " ")
			if word := fmt.Sprint(r.OK, r.Words()); former[key] != word {
				former[key] = word
				changed = append(changed, r)
			}
		}
		if len(changed) > 0 {
			a.out.line("%s", a.out.faint(time.Now().Format(time.TimeOnly)))
			a.showProbes(changed)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(p.every):
		}
	}
}

// urlOf is what a probe asked for.
func urlOf(r contract.ProbeResult) string {
	url := r.URL(r.Path)
	if r.Method != "" && r.Method != "GET" {
		url = r.Method + " " + url
	}
	return url
}

func (a *app) showProbes(list []contract.ProbeResult) {
	if len(list) == 0 {
		fmt.Fprintln(stderr, "no site of this ground declares a probe")
		return
	}
	var rows [][]string
	for _, r := range list {
		word := r.Words()
		if !r.OK {
			word = a.out.attention(word)
		}
		from := r.From
		if from != wire.ProbeInside && from != wire.ProbeOutside {
			from = "from " + from
		}
		first := "-"
		if r.First > 0 {
			first = fmt.Sprintf("%d ms", r.First.Milliseconds())
		}
		rows = append(rows, []string{r.Host, r.Site, urlOf(r), from, cmp.Or(r.Answered, "-"), first, fmt.Sprintf("%d ms", r.Took.Milliseconds()), word})
	}
	heads := []string{"host", "site", "url", "from", "at", "first byte", "took", "answer"}
	if list[0].Host == "" { // of one URL
		heads = heads[2:]
		for i := range rows {
			rows[i] = rows[i][2:]
		}
	}
	a.out.table(heads, rows)
	for _, why := range probe.Culprits(list) {
		host, rest, _ := strings.Cut(why, ": ")
		a.out.line("%s: %s", a.out.attention(host), rest)
	}
}
