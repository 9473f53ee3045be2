package jobs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"northstake/content/fetch"
	"northstake/core/declare"
	"northstake/service/store"
)

// Fetch fetches the content of a declaration that does not lie beside it, stores
// it, and lists its files in the manifest. What was fetched from a URL for the
// ground's newest revision is not fetched again: its sum says what it is.
func (j *Service) Fetch(ctx context.Context, ground string, d *declare.Declaration, m *declare.Manifest) (declare.Problems, error) {
	var problems declare.Problems
	for _, r := range d.Remotes() {
		if r.Content.URL != "" {
			known, err := j.fetchedBefore(ctx, ground, r.Content)
			if err != nil {
				return nil, err
			}
			if len(known) > 0 {
				m.Files = append(m.Files, known...)
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
		m.Files = append(m.Files, files...)
	}
	return problems, nil
}

func (j *Service) fetchedBefore(ctx context.Context, ground string, c *declare.Content) ([]declare.File, error) {
	g, err := j.Store.Ground(ctx, ground)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	r, err := j.Store.Revision(ctx, g.ID, g.Newest)
	if err != nil {
		return nil, err
	}
	m, err := r.Files()
	if err != nil {
		return nil, err
	}
	var out []declare.File
	for _, f := range m.Files {
		if strings.HasPrefix(f.Path, c.Fetched()+"/") {
			out = append(out, f)
		}
	}
	return out, nil
}

func (j *Service) fetchOne(ctx context.Context, c *declare.Content) ([]declare.File, error) {
	var secret []byte
	if c.Secret != "" {
		sealed, err := j.Store.Secret(ctx, c.Secret)
		if errors.Is(err, store.ErrNotFound) {
			return nil, &fetch.Trouble{What: fmt.Sprintf("there is no secret called %q", c.Secret), Fix: fmt.Sprintf("give it to northstake secret keep %s", c.Secret)}
		}
		if err != nil {
			return nil, err
		}
		if secret, err = j.Seal.Open(c.Secret, sealed); err != nil {
			return nil, err
		}
	}
	dir, err := os.MkdirTemp("", "northstake-fetched-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := fetch.Content(ctx, c, secret, dir); err != nil {
		return nil, err
	}
	files, err := fetch.Files(dir)
	if err != nil {
		return nil, err
	}
	if len(files) == 0 {
		return nil, &fetch.Trouble{What: fmt.Sprintf("there is no file in %s%s", c.URL, c.Git), Fix: "check the folder"}
	}
	for i, f := range files {
		b, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(f.Path)))
		if err != nil {
			return nil, err
		}
		if err := j.Store.PutBlob(ctx, f.SHA256, b); err != nil {
			return nil, err
		}
		files[i].Path = c.Fetched() + "/" + f.Path
	}
	return files, nil
}
