package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
)

// contentBefore is where the tree that a step replaces is kept. Entry is what
// lay at the root; Made are the directories above it that the step makes; One is
// there when a single file is put into place and not a tree.
type contentBefore struct {
	Entry stake.Entry `json:"entry"`
	Made  []string    `json:"made,omitempty"`
	Stage string      `json:"stage"` // the new tree before the switch, the old one after it
	Inode uint64      `json:"inode"` // of what lay at the root
	One   *oneFile    `json:"one,omitempty"`
}

var _ = register("content", typed[wantedContent, stake.ContentWork, contentBefore]{
	read: each(readContent), before: beforeContent, do: doContent, back: backContent,
})

// blobFile is where a piece of content that was sent lies on the host: in one of
// sixteen directories, so that those who write do not wait for one another.
func blobFile(m *platform.Machine, sum string) string {
	return m.State("blobs", sum[:min(len(sum), 1)], sum)
}

// missingBlobs lists the pieces that a publication needs and that lie neither
// in the live tree nor among those sent.
func missingBlobs(m *platform.Machine, w stake.ContentWork) ([]string, error) {
	have, err := liveSums(m, w.ContentWant)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	var out []string
	for _, f := range w.Files {
		if seen[f.SHA256] || have[f.SHA256] != "" {
			continue
		}
		seen[f.SHA256] = true
		var s syscall.Stat_t
		if err := syscall.Lstat(blobFile(m, f.SHA256), &s); err == nil && s.Size == f.Size {
			if sum, err := hashesOf(m).sum(blobFile(m, f.SHA256), "", &s); err == nil && sum.String() == f.SHA256 {
				continue
			}
		}
		out = append(out, f.SHA256)
	}
	return out, nil
}

// liveSums maps the sums of the live tree's files to a path that has them.
func liveSums(m *platform.Machine, w stake.ContentWant) (map[string]string, error) {
	out := map[string]string{}
	root := m.Path(w.Root)
	items, err := walk(root)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	sizes := map[int64]bool{}
	for _, f := range w.Files {
		sizes[f.Size] = true
	}
	hashes := hashesOf(m)
	for i := range items {
		s := &items[i].stat
		if s.Mode&syscall.S_IFMT != syscall.S_IFREG || !sizes[s.Size] {
			continue
		}
		sum, err := hashes.sum(root, items[i].path, s)
		if err != nil {
			continue // it vanished, or cannot be read: then it is sent
		}
		out[sum.String()] = filepath.Join(root, items[i].path)
	}
	return out, nil
}

// stageDir is where new trees are made ready: on the file system of the root,
// in a directory that a web server cannot enter.
func stageDir(root string) string { return filepath.Join(filepath.Dir(root), ".northstake") }

func beforeContent(ctx context.Context, m *platform.Machine, j Job, w stake.ContentWork) (contentBefore, error) {
	e, err := m.Entry(w.Root)
	if err != nil {
		return contentBefore{}, err
	}
	inode, err := inodeOf(m.Path(w.Root))
	if err != nil {
		return contentBefore{}, err
	}
	one, err := onlyChange(ctx, m, w)
	if err != nil {
		return contentBefore{}, err
	}
	return contentBefore{Entry: e, Made: missingParents(m, w.Root), Inode: inode, One: one,
		Stage: filepath.Join(stageDir(w.Root), fmt.Sprintf("%s.%s-%d", filepath.Base(w.Root), j.Run, j.Number))}, nil
}

func doContent(_ context.Context, m *platform.Machine, j Job, w stake.ContentWork, b contentBefore) (rod.StepState, error) {
	if e, err := m.Entry(w.Root); err != nil {
		return "", err
	} else if e.Kind != "" && e.Kind != "directory" && e.Kind != "link" {
		return "", &rod.Fault{What: fmt.Sprintf("%s is %s", w.Root, e.Words()), Fix: "move it away"}
	}
	if err := os.MkdirAll(filepath.Dir(m.Path(w.Root)), 0o755); err != nil {
		return "", err
	}
	if err := os.MkdirAll(m.Path(stageDir(w.Root)), 0o700); err != nil {
		return "", err
	}
	stage := m.Path(b.Stage)
	if err := os.RemoveAll(stage); err != nil {
		return "", err
	}
	var err error
	if b.One != nil {
		err = publishOne(m, w, b)
	} else if err = buildTree(m, w, stage); err == nil {
		err = switchTree(m, j, w.Root, stage, b)
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return "", &rod.Fault{What: "the disk is full: " + err.Error(), Fix: "the old content is whole and still served; make room on the host"}
	}
	if err != nil {
		return "", err
	}
	dropOldStages(m, w.Root, b.Stage)
	dropBlobs(m, w)
	return rod.Done, nil
}
