package resolve

import (
	"fmt"

	"northstake/core/declare"
	"northstake/core/stake"
)

// things adds the accounts, directories, files and links that a host's kits and the host
// itself declare. Packages come before them, since they may bring accounts.
func (r *resolver) things() error {
	for _, a := range r.d.AccountsFor(r.host) {
		want := stake.AccountWant{Name: a.Name, Home: a.Is.Home, Shell: a.Is.Shell, Groups: a.Is.Groups}
		if want.Home == "" {
			want.Home = "/nonexistent"
		}
		if want.Shell == "" {
			want.Shell = "/usr/sbin/nologin"
		}
		r.add(stake.Stake{Type: "account", Name: a.Name, From: a.From, Want: stake.JSON(want)})
	}
	for _, d := range r.d.DirectoriesFor(r.host) {
		owner, group := owners(d.Is.Owner, d.Is.Group)
		r.add(stake.Stake{Type: "directory", Name: d.Name, From: d.From,
			Want: stake.JSON(stake.DirectoryWant{Path: d.Name, Owner: owner, Group: group, Mode: mode(d.Is.Mode, "0755")})})
	}
	for _, c := range r.d.ContentsFor(r.host) {
		r.add(stake.Stake{Type: "content", Name: c.Name, From: c.From, Want: stake.JSON(r.content(c.Name, c.Is))})
	}
	for _, f := range r.d.FilesFor(r.host) {
		want, err := r.file(f)
		if err != nil {
			return err
		}
		r.add(stake.Stake{Type: "file", Name: f.Name, From: f.From, Want: stake.JSON(want)})
	}
	for _, l := range r.d.LinksFor(r.host) {
		r.add(stake.Stake{Type: "link", Name: l.Name, From: l.From, Want: stake.JSON(stake.LinkWant{Path: l.Name, PointsTo: l.Is.PointsTo})})
	}
	return nil
}

func (r *resolver) file(f declare.For[*declare.TextFile]) (stake.FileWant, error) {
	text, err := r.d.TextOf(f.Is, r.host)
	if err != nil {
		return stake.FileWant{}, fmt.Errorf("%s:%d: file %s on host %s: %w", f.From.File, f.From.Line, f.Name, r.host, err)
	}
	want := stake.FileWant{Path: f.Name, Text: text, Owner: f.Is.Owner, Group: f.Is.Group, Mode: f.Is.Mode,
		Portion: f.Is.Portion, Comment: f.Is.Comment, Reload: f.Is.Reload, Restart: f.Is.Restart}
	if want.Portion == "" {
		want.Owner, want.Group = owners(want.Owner, want.Group)
		want.Mode = mode(want.Mode, "0644")
	} else {
		want.Mode = mode(want.Mode, "")
		if want.Comment == "" {
			want.Comment = "#"
		}
		if want.Text != "" && want.Text[len(want.Text)-1] != '\n' {
			want.Text += "\n" // a portion is made of whole lines
		}
	}
	for _, list := range [][]string{want.Reload, want.Restart} {
		for _, service := range list {
			r.service(service, nil, nil, f.From)
		}
	}
	return want, nil
}

// owners fills in who owns a thing where that is not declared.
func owners(owner, group string) (string, string) {
	if owner == "" {
		owner = "root"
	}
	if group == "" {
		group = owner
	}
	return owner, group
}
