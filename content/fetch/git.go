package fetch

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/go-git/go-billy/v5/osfs"
	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/cache"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/transport"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
	gitssh "github.com/go-git/go-git/v5/plumbing/transport/ssh"
	"github.com/go-git/go-git/v5/storage/filesystem"
	"github.com/go-git/go-git/v5/storage/memory"

	"northstake/core/declare"
	"northstake/core/near"
)

// fromGit fetches a repository at a branch, tag or commit, and writes its files.
func fromGit(ctx context.Context, c *declare.Content, secret []byte, to string) error {
	auth, err := gitAccount(c, secret)
	if err != nil {
		return err
	}
	if err := gitReached(ctx, c); err != nil {
		return err
	}
	kept, err := os.MkdirTemp("", "northstake-git-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(kept)
	remote := git.NewRemote(memory.NewStorage(), &config.RemoteConfig{Name: "origin", URLs: []string{c.Git}})
	refs, err := remote.ListContext(ctx, &git.ListOptions{Auth: auth, PeelingOption: git.AppendPeeled})
	if err != nil {
		return gitTrouble(c, err)
	}
	ref, commit := chooseRef(refs, c.At)
	if ref == "" && !plumbing.IsHash(c.At) && !isShortHash(c.At) {
		return &Trouble{fmt.Sprintf("%s has no branch and no tag %q", c.Git, c.At), "there is " + someNames(refs)}
	}
	options := &git.CloneOptions{URL: c.Git, Auth: auth, NoCheckout: true, Tags: git.NoTags}
	if ref != "" {
		options.ReferenceName, options.SingleBranch, options.Depth = ref, true, 1
	}
	repo, err := git.CloneContext(ctx, filesystem.NewStorage(osfs.New(kept), cache.NewObjectLRU(64*cache.MiByte)), nil, options)
	if err != nil {
		return gitTrouble(c, err)
	}
	if ref == "" {
		commit = plumbing.Revision(c.At)
	}
	tree, err := treeAt(c, repo, commit)
	if err != nil {
		return err
	}
	return writeTree(c, tree, to)
}

// gitReached says what is wrong with the way to a repository, as far as its URL tells.
func gitReached(ctx context.Context, c *declare.Content) error {
	end, err := transport.NewEndpoint(c.Git)
	switch {
	case err != nil:
		return err
	case end.Protocol == "ssh":
		if err := reaches(ctx, end.Host); err != nil {
			return gitTrouble(c, err)
		}
	case end.Protocol != "https" && end.Protocol != "http":
		return &Trouble{fmt.Sprintf("%s cannot be fetched: %q is no way to a repository", c.Git, end.Protocol), "declare its URL with https: or ssh:, or as HOST:PATH"}
	}
	return nil
}

// treeAt is the tree of a commit of a repository that was fetched.
func treeAt(c *declare.Content, repo *git.Repository, commit plumbing.Revision) (*object.Tree, error) {
	hash, err := repo.ResolveRevision(commit)
	if err != nil {
		return nil, &Trouble{fmt.Sprintf("%s has no commit %s on any branch", c.Git, c.At), "check the commit"}
	}
	found, err := repo.CommitObject(*hash)
	if err != nil {
		return nil, fmt.Errorf("read commit %s of %s: %w", hash, c.Git, err)
	}
	tree, err := found.Tree()
	if err != nil {
		return nil, fmt.Errorf("read commit %s of %s: %w", hash, c.Git, err)
	}
	return tree, nil
}

// someNames are a dozen branches and tags of a repository.
func someNames(refs []*plumbing.Reference) string {
	var names []string
	for _, r := range refs {
		if (r.Name().IsBranch() || r.Name().IsTag()) && !strings.HasSuffix(r.Name().String(), "^{}") {
			names = append(names, r.Name().Short())
		}
	}
	slices.Sort(names)
	return strings.Join(names[:min(len(names), 12)], ", ")
}

func isShortHash(s string) bool {
	return len(s) >= 7 && len(s) < 40 && strings.Trim(s, "0123456789abcdef") == ""
}

// chooseRef finds the branch or tag that is meant; for "" the repository's own
// branch.
func chooseRef(refs []*plumbing.Reference, at string) (plumbing.ReferenceName, plumbing.Revision) {
	for _, r := range refs {
		name := r.Name()
		switch {
		case at == "" && name == plumbing.HEAD && r.Type() == plumbing.SymbolicReference:
			return r.Target(), "HEAD"
		case at != "" && (name == plumbing.NewBranchReferenceName(at) || name == plumbing.NewTagReferenceName(at)):
			return name, "HEAD"
		}
	}
	return "", ""
}

func gitAccount(c *declare.Content, secret []byte) (transport.AuthMethod, error) {
	if secret == nil {
		return nil, nil
	}
	if bytes.Contains(secret, []byte("PRIVATE KEY")) {
		end, err := transport.NewEndpoint(c.Git)
		if err != nil {
			return nil, err
		}
		user := end.User
		if user == "" {
			user = "git"
		}
		keys, err := gitssh.NewPublicKeys(user, secret, "")
		if err != nil {
			return nil, &Trouble{fmt.Sprintf("secret %s is no private SSH key that can be used", c.FetchSecret), "give northstake secret keep an unlocked private key in PEM form"}
		}
		return keys, nil
	}
	user, password := account(secret)
	if user == "" {
		user = "token" // servers that take a token take it with any name
	}
	return &githttp.BasicAuth{Username: user, Password: password}, nil
}

func gitTrouble(c *declare.Content, err error) error {
	var no *refused
	switch {
	case errors.As(err, &no):
		return &Trouble{fmt.Sprintf("%s cannot be fetched: %s", c.Git, no.what), "declare the repository where it lies, on another machine"}
	case errors.Is(err, transport.ErrAuthenticationRequired), errors.Is(err, transport.ErrAuthorizationFailed), errors.Is(err, transport.ErrRepositoryNotFound):
		fix := "check the repository's URL; if it is private, name the secret that opens it with fetch_secret = \"NAME\""
		if c.FetchSecret != "" {
			fix = fmt.Sprintf("check the repository's URL, and secret %s", c.FetchSecret)
		}
		return &Trouble{fmt.Sprintf("%s cannot be fetched: there is no such repository, or it is not open to this secret", c.Git), fix}
	case errors.Is(err, transport.ErrEmptyRemoteRepository):
		return &Trouble{fmt.Sprintf("%s is empty", c.Git), "commit the site's files to it"}
	}
	return &Trouble{fmt.Sprintf("%s cannot be fetched: %v", c.Git, err), "check the repository's URL, and the service's way to it"}
}

// writeTree writes the files of a commit. A link to another of its files is that
// file; one that leads out is refused by name.
func writeTree(c *declare.Content, tree *object.Tree, to string) error {
	folders, found := map[string]bool{}, false
	err := tree.Files().ForEach(func(f *object.File) error {
		if slices.ContainsFunc(strings.Split(f.Name, "/"), declare.OfVersionControl) {
			return nil
		}
		if !inside(c.Folder, f.Name) {
			folders[path.Dir(f.Name)] = true
			return nil
		}
		found = true
		from := f
		for range 8 {
			if from.Mode != filemode.Symlink {
				break
			}
			target, err := from.Contents()
			if err != nil {
				return err
			}
			place := path.Join(path.Dir(from.Name), target)
			next, err := tree.File(place)
			if path.IsAbs(target) || strings.HasPrefix(place, "..") || err != nil {
				return &Trouble{fmt.Sprintf("%s: %q is a link to %q, which is no file of the repository", c.Git, f.Name, target), "take it out, or choose a folder without it"}
			}
			from = next
		}
		if from.Mode == filemode.Symlink {
			return &Trouble{fmt.Sprintf("%s: %q is a link that leads to itself", c.Git, f.Name), "take it out"}
		}
		full := filepath.Join(to, filepath.FromSlash(path.Clean("/"+f.Name)))
		if err := os.MkdirAll(filepath.Dir(full), 0o700); err != nil {
			return err
		}
		in, err := from.Reader()
		if err != nil {
			return err
		}
		defer in.Close()
		out, err := os.OpenFile(full, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		_, err = io.Copy(out, in)
		if e := out.Close(); err == nil {
			err = e
		}
		return err
	})
	if err == nil && !found && c.Folder != "" {
		return noFolder(c, folders)
	}
	return err
}

// noFolder names the folders with files that are called most like the one that is
// not there.
func noFolder(c *declare.Content, folders map[string]bool) error {
	delete(folders, ".")
	names := near.Sorted(c.Folder, slices.Collect(maps.Keys(folders)))
	fix := "leave folder out: all its files lie at the top"
	if len(names) > 0 {
		fix = "there is " + strings.Join(names[:min(len(names), 4)], ", ")
	}
	return &Trouble{fmt.Sprintf("there is no file in the folder %q of %s", c.Folder, c.Git), fix}
}

// inside says whether a path lies in a folder; what lies beside it need not be
// fetched, but for the names that lint compares the folder with.
func inside(folder, p string) bool {
	return folder == "" || strings.HasPrefix(p, folder+"/")
}
