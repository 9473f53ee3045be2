package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"northstake/service/contract"
)

type trustOptions struct {
	ground      string
	fingerprint string
	knownHosts  string
	list        string
	yes         bool
}

func trustCommand(a *app) *cobra.Command {
	var o trustOptions
	cmd := &cobra.Command{
		Use: "trust [HOST...]", Short: "Show hosts' key fingerprints, and trust them on a yes, or by a list",
		Long: `Show the fingerprints of hosts' keys, and trust them on a yes.

Nothing but the key exchange happens with a host that is not trusted. Compare a
fingerprint with what the host's owner says (ssh-keygen -lf on the host).

Many hosts are trusted at once, and none of them blindly, by what is known of them
already: a known_hosts file, or a list of lines "HOST FINGERPRINT". Hosts are named,
or chosen by patterns, label:WORD, kit:NAME or site:NAME; where a list is given and no
host, all hosts of the ground are meant.

Hosts that show certificates need no trust of their own: declare who signs them
(northstake help reach.host_key_authorities).`,
		RunE: func(cmd *cobra.Command, args []string) error { return a.trust(cmd.Context(), args, o) },
	}
	f := cmd.Flags()
	f.StringVar(&o.ground, "ground", "", "ground of the hosts")
	f.StringVar(&o.fingerprint, "fingerprint", "", "trust only a host that offers this fingerprint (SHA256:…)")
	f.StringVar(&o.knownHosts, "known-hosts", "", "trust the hosts whose key is in this known_hosts file")
	f.StringVar(&o.list, "fingerprints", "", "trust the hosts whose fingerprint is in this file, by lines \"HOST FINGERPRINT\"")
	f.BoolVar(&o.yes, "yes", false, "do not ask; needs --fingerprint")
	return cmd
}

func (a *app) trust(ctx context.Context, words []string, o trustOptions) error {
	if o.yes && o.fingerprint == "" {
		return errors.New("--yes trusts nobody blindly: give the --fingerprint that was compared")
	}
	api, err := a.api()
	if err != nil {
		return err
	}
	if len(words) == 0 {
		words = nil // all, where a list says whom to trust
	}
	if words == nil && o.list == "" && o.knownHosts == "" {
		return errors.New("say which hosts, by name or by a pattern such as 'quay*'; or give the list that their keys are in: --fingerprints or --known-hosts")
	}
	g, err := a.groundOfHosts(ctx, o.ground, words)
	if err != nil {
		return err
	}
	res, err := api.GetGroundWithResponse(ctx, g, &contract.GetGroundParams{On: words})
	if err := a.answered(res, err); err != nil {
		return err
	}
	hosts := res.JSON200.Hosts
	if o.fingerprint != "" && len(hosts) > 1 {
		return fmt.Errorf("a fingerprint is that of one host, and %d are meant", len(hosts))
	}
	known, err := vouchersOf(o)
	if err != nil {
		return err
	}
	if known != nil {
		return a.trustMany(ctx, g, hosts, known)
	}
	for _, h := range hosts {
		if err := a.trustOne(ctx, g, h.Name, o); err != nil {
			return err
		}
	}
	return nil
}

// trustOne shows one host's keys and trusts them on a yes, or where one has the
// fingerprint that was given.
func (a *app) trustOne(ctx context.Context, ground, host string, o trustOptions) error {
	res, err := a.client.GetHostKeysWithResponse(ctx, ground, host)
	if err := a.answered(res, err); err != nil {
		return err
	}
	keys := *res.JSON200
	if a.json && o.fingerprint == "" {
		_, err := a.print(keys)
		return err
	}
	if !a.json {
		a.showKeys(keys)
	}
	if keys.Warning != "" {
		return fmt.Errorf("%s\n  northstake addresses finds which host is where, and corrects the declaration; nothing was trusted", keys.Warning)
	}
	compared := []string{o.fingerprint}
	if same(keys.Offered, keys.Trusted) && o.fingerprint == "" {
		a.out.line("host %s is trusted already", host)
		return nil
	}
	if o.fingerprint == "" {
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return fmt.Errorf("there is no terminal to ask on whether these are the keys of %s: compare one with what the host's owner says, and give it with --yes --fingerprint SHA256:…", host)
		}
		if ok, err := confirm(fmt.Sprintf("trust these keys as those of %s?", host)); err != nil || !ok {
			if err == nil {
				a.out.line("nothing was trusted")
				err = status(trouble)
			}
			return err
		}
		compared = nil
		for _, k := range keys.Offered {
			compared = append(compared, k.Fingerprint)
		}
	}
	var trusted *contract.HostKeys
	for _, fingerprint := range compared {
		if trusted, err = a.trustBy(ctx, ground, host, fingerprint); err != nil {
			return err
		}
	}
	if printed, err := a.print(trusted); printed {
		return err
	}
	a.out.line("host %s is trusted", host)
	return nil
}

func (a *app) trustBy(ctx context.Context, ground, host, fingerprint string) (*contract.HostKeys, error) {
	done, err := a.client.TrustHostWithResponse(ctx, ground, host, contract.TrustHostJSONRequestBody{Fingerprint: fingerprint})
	return done.JSON200, a.answered(done, err)
}

// trusting is what came of one host of many.
type trusting struct {
	Host        string `json:"host"`
	Address     string `json:"address"`
	Trusted     bool   `json:"trusted"`
	Fingerprint string `json:"fingerprint,omitempty"`
	Said        string `json:"said"`
}

// atOnce is how many hosts are asked for their keys at once.
const atOnce = 16

// trustMany trusts the hosts that are vouched for, and says why the others are not.
func (a *app) trustMany(ctx context.Context, ground string, hosts []contract.PlaceBrief, known vouchers) error {
	out := make([]trusting, len(hosts))
	gate := make(chan struct{}, atOnce)
	var wg sync.WaitGroup
	for i, h := range hosts {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			out[i] = a.trustVouched(ctx, ground, h, known)
		})
	}
	wg.Wait()
	left := 0
	var rows [][]string
	for _, t := range out {
		word := "trusted"
		if !t.Trusted {
			left++
			word = a.out.attention("left")
		}
		rows = append(rows, []string{t.Host, t.Address, word, t.Said})
	}
	if done, err := a.print(out); done {
		if err == nil && left > 0 {
			err = status(trouble)
		}
		return err
	}
	a.out.table([]string{"host", "address", "", ""}, rows)
	a.out.line("%s trusted, %d left", counted(len(out)-left, "host is", "hosts are"), left)
	if left > 0 {
		return status(trouble)
	}
	return nil
}

func (a *app) trustVouched(ctx context.Context, ground string, h contract.PlaceBrief, known vouchers) trusting {
	t := trusting{Host: h.Name, Address: h.Address}
	res, err := a.client.GetHostKeysWithResponse(ctx, ground, h.Name)
	if err := a.answered(res, err); err != nil {
		t.Said = firstLine(err.Error())
		return t
	}
	keys := *res.JSON200
	if keys.Warning != "" {
		t.Said = keys.Warning
		return t
	}
	if same(keys.Offered, keys.Trusted) {
		t.Trusted, t.Fingerprint, t.Said = true, keys.Trusted[0].Fingerprint, "was trusted already"
		return t
	}
	fingerprint, said := known.vouches(keys)
	if fingerprint == "" {
		t.Said = said
		return t
	}
	if _, err := a.trustBy(ctx, ground, h.Name, fingerprint); err != nil {
		t.Said = firstLine(err.Error())
		return t
	}
	t.Trusted, t.Fingerprint, t.Said = true, fingerprint, said
	return t
}

func (a *app) showKeys(keys contract.HostKeys) {
	a.out.line("host %s at %s offers", keys.Host, keys.Address)
	var rows [][]string
	for _, k := range keys.Offered {
		state := "new"
		for _, t := range keys.Trusted {
			if t.Key == k.Key {
				state = "trusted"
			}
		}
		rows = append(rows, []string{k.Type, k.Fingerprint, state})
	}
	a.out.table([]string{"type", "fingerprint", ""}, rows)
	if len(keys.Trusted) > 0 && !same(keys.Offered, keys.Trusted) {
		a.out.line("%s", a.out.attention("its keys have changed since it was trusted: was it rebuilt?"))
	}
}

// same says whether a host still has every key that is trusted as its own; it may offer others that
// nobody has compared.
func same(offered, trusted []contract.HostKey) bool {
	return len(trusted) > 0 && !slices.ContainsFunc(trusted, func(t contract.HostKey) bool {
		return !slices.ContainsFunc(offered, func(o contract.HostKey) bool { return o.Key == t.Key })
	})
}
