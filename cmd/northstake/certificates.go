package main

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"northstake/service/contract"
)

func certificatesCommand(a *app) *cobra.Command {
	var ground string
	var pem bool
	cmd := &cobra.Command{
		Use: "certificates [NAME]", Short: "List a ground's certificates and authorities, or show one", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := a.certificates(cmd, ground)
			if err != nil {
				return err
			}
			if len(args) > 0 {
				return a.showCertificate(list, args[0], pem)
			}
			if done, err := a.print(list); done {
				return err
			}
			a.listCertificates(list)
			return nil
		},
	}
	cmd.Flags().StringVar(&ground, "ground", "", "the ground; needed only where it cannot be told")
	cmd.Flags().BoolVar(&pem, "pem", false, "print the certificate itself, with those behind it, for others to trust or to look at")
	return cmd
}

func (a *app) certificates(cmd *cobra.Command, named string) ([]contract.CertificateView, error) {
	api, err := a.api()
	if err != nil {
		return nil, err
	}
	var args []string
	if named != "" {
		args = []string{named}
	}
	ground, err := a.ground(cmd.Context(), args)
	if err != nil {
		return nil, err
	}
	res, err := api.ListCertificatesWithResponse(cmd.Context(), ground)
	if err := a.answered(res, err); err != nil {
		return nil, err
	}
	return *res.JSON200, nil
}

func (a *app) listCertificates(list []contract.CertificateView) {
	var rows [][]string
	for _, c := range list {
		name := c.Name
		if c.Sort == contract.AuthoritySort {
			name = "authority " + name
		}
		rows = append(rows, []string{name, strings.Join(c.Sites, ","), strings.Join(c.Hosts, ","), c.Source, a.left(c)})
	}
	a.out.list([]string{"certificate", "sites", "hosts", "source", "left"}, rows, "no certificate is declared in it yet: [certificate.NAME] declares one")
}

// left says how long a certificate is good for yet, or what is wrong with it.
func (a *app) left(c contract.CertificateView) string {
	if c.Unread != "" {
		return a.out.attention(firstLine(c.Unread))
	}
	if i := slices.IndexFunc(c.Notes, func(n contract.CertificateNote) bool { return n.Mistake }); i >= 0 {
		return a.out.alarm(c.Notes[i].What)
	}
	left := time.Until(c.ValidUntil)
	words := counted(int(left/(24*time.Hour)), "day", "days")
	if c.Renewal.What != "" {
		return words + "; " + a.out.attention("not everywhere yet: "+firstLine(c.Renewal.What))
	}
	if !c.ToldFrom.IsZero() && time.Now().After(c.ToldFrom) {
		return a.out.attention(words)
	}
	if len(c.Sites) == 0 {
		return words + "; " + a.out.attention("no site shows it")
	}
	return words
}

func (a *app) showCertificate(list []contract.CertificateView, name string, pem bool) error {
	name, authority := strings.CutPrefix(name, "authority ")
	var found []contract.CertificateView
	for _, c := range list {
		if c.Name == name && (!authority || c.Sort == contract.AuthoritySort) {
			found = append(found, c)
		}
	}
	if len(found) == 0 {
		return fmt.Errorf("the ground declares no certificate and no authority called %q\n  northstake certificates lists them", name)
	}
	c := found[0]
	if pem {
		if c.Pem == "" {
			return fmt.Errorf("there is no certificate %s yet: %s", name, c.Unread)
		}
		fmt.Fprint(a.out.w, c.Pem)
		return nil
	}
	if done, err := a.print(c); done {
		return err
	}
	a.out.rule(c.Sort+" "+c.Name, c.Source)
	for _, l := range [][2]string{{"for", strings.Join(c.Names, ", ")}, {"shown by", strings.Join(c.Sites, ", ")}, {"on", strings.Join(c.Hosts, ", ")}, {"signed by", c.Issuer}, {"key", c.Key},
		{"valid", validWords(c)}, {"anew", moment(c.RenewedFrom)}, {"next try", moment(c.Renewal.NextTry)}, {"SHA-256", c.Fingerprint}, {"SHA-1", c.FingerprintSha1}} {
		if l[1] != "" {
			a.out.line("  %-10s %s", l[0], l[1])
		}
	}
	if c.Unread != "" {
		a.out.line("  %s", a.out.attention(c.Unread))
	}
	if r := c.Renewal; r.What != "" {
		a.out.line("  %s\n    %s", a.out.attention(fmt.Sprintf("made anew, and not shown everywhere yet, after %s: %s", counted(r.Tries, "try", "tries"), r.What)), r.Fix)
	}
	for _, n := range c.Notes {
		what := a.out.attention
		if n.Mistake {
			what = a.out.alarm
		}
		a.out.line("  %s\n    %s", what(n.What), n.Fix)
	}
	return nil
}

func validWords(c contract.CertificateView) string {
	if c.ValidUntil.IsZero() {
		return ""
	}
	return fmt.Sprintf("%s to %s", moment(c.ValidFrom), moment(c.ValidUntil))
}

// moment is a moment in words, "" for none.
func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04 UTC")
}
