package jobs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"northstake/content/fetch"
	"northstake/core/declare"
	"northstake/service/store"
)

// Fetch fetches the content of a declaration that does not lie beside it, stores
// it, and lists its files in the manifest. What was fetched for the ground's newest
// revision is not fetched again where its sum, or a whole commit, says what it is.
func (j *Service) Fetch(ctx context.Context, ground string, d *declare.Declaration, m *declare.Manifest) (declare.Problems, error) {
	var problems declare.Problems
	for _, r := range d.Remotes() {
		if r.Content.Settled() {
			known, err := j.fetchedBefore(ctx, ground, r.Content)
			if err != nil {
				return nil, err
			}
			if len(known.Files) > 0 {
				m.Files, m.Dirs = append(m.Files, known.Files...), append(m.Dirs, known.Dirs...)
				continue
			}
		}
		files, err := j.fetchOne(ctx, r.Content)
		var t *fetch.Trouble
		if errors.As(err, &t) {
			problems = append(problems, declare.Problem{Position: r.From, Width: len(r.Content.URL+r.Content.Git) + 2, Text: d.LineOf(r.From), What: t.What, Fix: t.Fix})
			continue
		}
		if err != nil {
			return nil, err
		}
		m.Files, m.Dirs = append(m.Files, files.Files...), append(m.Dirs, files.Dirs...)
	}
	return problems, nil
}

func (j *Service) fetchedBefore(ctx context.Context, ground string, c *declare.Content) (out declare.Manifest, err error) {
	g, err := j.Store.Ground(ctx, ground)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	d, err := j.Declaration(ctx, g.ID, g.Newest)
	if err != nil {
		return out, err
	}
	same := func(r declare.Remote) bool {
		return r.Content.Fetched() == c.Fetched() && (r.Content.Folder == "" || r.Content.Folder == c.Folder)
	}
	if !slices.ContainsFunc(d.Remotes(), same) {
		return out, nil
	}
	for _, f := range d.Beside().Files {
		if strings.HasPrefix(f.Path, c.Fetched()+"/") {
			out.Files = append(out.Files, f)
		}
	}
	for _, dir := range d.Beside().Dirs {
		if strings.HasPrefix(dir, c.Fetched()+"/") {
			out.Dirs = append(out.Dirs, dir)
		}
	}
	return out, nil
}

func (j *Service) fetchOne(ctx context.Context, c *declare.Content) (out declare.Manifest, err error) {
	var secret []byte
	if c.FetchSecret != "" {
		sealed, err := j.Store.Secret(ctx, c.FetchSecret)
		if errors.Is(err, store.ErrNotFound) {
			return out, &fetch.Trouble{What: fmt.Sprintf("there is no secret called %q", c.FetchSecret), Fix: fmt.Sprintf("give it to northstake secret keep %s", c.FetchSecret)}
		}
		if err != nil {
			return out, err
		}
		if secret, err = j.Seal.Open(c.FetchSecret, sealed); err != nil {
			return out, err
		}
	}
	dir, err := os.MkdirTemp("", "northstake-fetched-")
	if err != nil {
		return out, err
	}
	defer os.RemoveAll(dir)
	if err := j.Fetching.Content(ctx, c, secret, dir); err != nil {
		return out, err
	}
	files, dirs, err := fetch.Files(dir)
	if err != nil {
		return out, err
	}
	if len(files) == 0 {
		return out, &fetch.Trouble{What: fmt.Sprintf("there is no file in %s%s", c.URL, c.Git), Fix: "check the folder"}
	}
	for i, f := range files {
		b, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(f.Path)))
		if err != nil {
			return out, err
		}
		if err := j.Store.PutBlob(ctx, f.SHA256, b); err != nil {
			return out, err
		}
		files[i].Path = c.Fetched() + "/" + f.Path
	}
	for i, d := range dirs {
		dirs[i] = c.Fetched() + "/" + d
	}
	return declare.Manifest{Files: files, Dirs: dirs}, nil
}
