package main

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"northstake/core/declare"
	"northstake/service/contract"
)

func declareCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "declare [DIR]", Short: "Check a declaration and give it to the service as a new revision", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, fresh, name, err := a.declare(cmd.Context(), dirOf(args))
			if err != nil {
				return a.showProblems(err)
			}
			if done, err := a.print(r); done {
				return err
			}
			if fresh {
				a.out.line("ground %s, revision %d", name, r.Number)
			} else {
				a.out.line("ground %s is as revision %d has it; there is nothing new", name, r.Number)
			}
			return nil
		},
	}
}

// declare sends a directory to the service.
func (a *app) declare(ctx context.Context, dir string) (r contract.Revision, fresh bool, name string, err error) {
	unpacked, remove, err := unpackedDir()
	if err != nil {
		return r, false, "", err
	}
	defer remove()
	d, sources, m, err := lintGround(ctx, a.programs(), dir, unpacked)
	if err != nil {
		return r, false, "", err
	}
	sums, err := hashContent(dir, unpacked, d, m)
	if err != nil {
		return r, false, "", err
	}
	api, err := a.api()
	if err != nil {
		return r, false, "", err
	}
	if err := a.sendBlobs(ctx, sums); err != nil {
		return r, false, "", err
	}
	res, err := api.CreateRevisionWithResponse(ctx, d.Ground.Name, contract.NewRevision{Sources: sources, Files: m.Files, Dirs: m.Dirs})
	if err := a.answered(res, err); err != nil {
		return r, false, "", err
	}
	if res.JSON201 != nil {
		return *res.JSON201, true, d.Ground.Name, nil
	}
	return *res.JSON200, false, d.Ground.Name, nil
}

// hashContent notes the sums of all published files in the manifest, leaves out
// the files that no site publishes and that are not needed as text, and returns a path for each sum.
func hashContent(dir, unpacked string, d *declare.Declaration, m *declare.Manifest) (map[string]string, error) {
	published, archives := d.ContentDirs(), d.Archives()
	sums := map[string]string{}
	var keep []declare.File
	for _, f := range m.Files {
		isPublished := slices.ContainsFunc(published, func(p string) bool { return strings.HasPrefix(f.Path, strings.TrimSuffix(p, "/")+"/") })
		if isPublished {
			path := filepath.Join(dir, filepath.FromSlash(f.Path))
			if slices.ContainsFunc(archives, func(a declare.ArchiveFor) bool { return strings.HasPrefix(f.Path, a.Path+"/") }) {
				path = filepath.Join(unpacked, filepath.FromSlash(f.Path))
			}
			sum, size, err := hashFile(path)
			if err != nil {
				return nil, err
			}
			f.SHA256, f.Size = sum, size
			sums[sum] = path
		}
		if isPublished || f.Text != nil || f.Data != nil {
			keep = append(keep, f)
		}
	}
	m.Files = keep
	return sums, nil
}

func hashFile(path string) (string, int64, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), n, err
}

// sendBlobs sends the content that the service has not got.
func (a *app) sendBlobs(ctx context.Context, sums map[string]string) error {
	all := make([]string, 0, len(sums))
	for s := range sums {
		all = append(all, s)
	}
	sort.Strings(all)
	res, err := a.client.MissingBlobsWithResponse(ctx, all)
	if err := a.answered(res, err); err != nil {
		return err
	}
	missing := *res.JSON200
	if len(missing) == 0 {
		return nil
	}
	r, w := io.Pipe()
	go func() {
		out := tar.NewWriter(w)
		for _, sum := range missing {
			b, err := os.ReadFile(sums[sum])
			if err == nil {
				err = out.WriteHeader(&tar.Header{Name: sum, Mode: 0o600, Size: int64(len(b))})
			}
			if err == nil {
				_, err = out.Write(b)
			}
			if err != nil {
				w.CloseWithError(err)
				return
			}
		}
		w.CloseWithError(out.Close())
	}()
	sent, err := a.client.PutBlobsWithBodyWithResponse(ctx, "application/x-tar", r)
	return a.answered(sent, err)
}
