package engine

import (
	"archive/tar"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/moby/moby/client"

	"northstake/core/wire"
)

// The labels of an image that is a host as it was kept.
const (
	labelGround   = "northstake.ground"
	labelHost     = "northstake.host"
	labelRevision = "northstake.revision"
)

// notKept are directories of a container that do not go into an image: what the rod keeps for
// itself, with the journal of what was there before each step, and what is there for a while.
var notKept = []string{"var/lib/northstake", "run", "tmp", "var/tmp", "proc", "sys", "dev"}

// Keep makes an image of what a container holds, in one layer, with the container's own settings,
// and hands it to the registry that its name begins with.
func (e *Engine) Keep(ctx context.Context, w wire.ActWant, say func(string)) error {
	ctx, cancel := context.WithTimeout(ctx, fetchTime)
	defer cancel()
	is, err := e.Inspect(ctx, w.Container)
	if err != nil {
		return err
	}
	if is.ID == "" {
		return fmt.Errorf("container %s is gone", w.Container)
	}
	from, err := e.cli.ContainerExport(ctx, is.ID, client.ContainerExportOptions{})
	if err != nil {
		return fmt.Errorf("read container %s: %s", w.Container, short(err))
	}
	defer from.Close()
	kept, into := io.Pipe()
	defer kept.Close()
	go func() { into.CloseWithError(withoutOwn(from, into)) }()
	r, err := e.cli.ImageImport(ctx, client.ImageImportSource{Source: kept, SourceName: "-"}, w.Image, client.ImageImportOptions{Changes: is.changes(w)})
	if err != nil {
		return fmt.Errorf("make image %s: %s", w.Image, short(err))
	}
	defer r.Close()
	if _, err := io.Copy(io.Discard, r); err != nil {
		return fmt.Errorf("make image %s: %s", w.Image, short(err))
	}
	made, err := e.image(ctx, w.Image)
	if err == nil && made.ID == "" {
		err = fmt.Errorf("make image %s: the engine says that it is done, and has not got it", w.Image)
	}
	if err != nil {
		return err
	}
	say(fmt.Sprintf("made the image, %s, of %s", shortly(made.ID), wire.Bytes(made.size)))
	return e.push(ctx, w)
}

// push hands an image to its registry.
func (e *Engine) push(ctx context.Context, w wire.ActWant) error {
	auth, err := authOf(wire.ImageWant{Image: w.Image, Login: w.Login})
	if err != nil {
		return err
	}
	r, err := e.cli.ImagePush(ctx, w.Image, client.ImagePushOptions{RegistryAuth: auth})
	if err != nil {
		return fmt.Errorf("hand image %s to its registry: %s", w.Image, short(err))
	}
	defer r.Close()
	for m, err := range r.JSONMessages(ctx) {
		if err == nil && m.Error != nil {
			err = errors.New(m.Error.Message) // it comes in the stream of a call that went well
		}
		if err != nil {
			return fmt.Errorf("hand image %s to its registry: %s", w.Image, short(err))
		}
	}
	return nil
}

// changes are the container's settings as instructions for an image, and what says which host it
// is and as which revision declared it.
func (i Inspected) changes(w wire.ActWant) []string {
	words := func(list []string) string { return string(wire.JSON(list)) }
	c := i.is.Config
	out := []string{"LABEL " + labelGround + "=" + w.Ground, "LABEL " + labelHost + "=" + w.Host, fmt.Sprintf("LABEL %s=%d", labelRevision, w.Revision)}
	if len(c.Entrypoint) > 0 {
		out = append(out, "ENTRYPOINT "+words(c.Entrypoint))
	}
	if len(c.Cmd) > 0 {
		out = append(out, "CMD "+words(c.Cmd))
	}
	if at := slices.IndexFunc(c.Env, func(v string) bool { return strings.HasPrefix(v, "PATH=") }); at >= 0 {
		out = append(out, "ENV "+plain(c.Env[at])) // others may hold secrets, and are declared
	}
	if c.User != "" {
		out = append(out, "USER "+plain(c.User))
	}
	return out
}

// withoutOwn copies a tar of a container without what does not go into an image.
func withoutOwn(from io.Reader, to io.Writer) error {
	r, w := tar.NewReader(from), tar.NewWriter(to)
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return w.Close()
		}
		if err != nil {
			return err
		}
		if !isKept(h.Name) || h.Typeflag == tar.TypeLink && !isKept(h.Linkname) {
			continue
		}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		if _, err := io.Copy(w, r); err != nil {
			return err
		}
	}
}

func isKept(name string) bool {
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	return !slices.ContainsFunc(notKept, func(dir string) bool { return strings.HasPrefix(name, dir+"/") })
}

// shortly is an identifier that people can compare.
func shortly(id string) string {
	id = strings.TrimPrefix(plain(id), "sha256:")
	return id[:min(12, len(id))]
}

// authOf is a registry's login in the form of the engine's API, "" where there is none.
func authOf(w wire.ImageWant) (string, error) {
	if w.Login == nil {
		return "", nil
	}
	if w.Login.Text == "" {
		return "", wire.ErrNoText
	}
	user, password, _ := strings.Cut(w.Login.Text, ":")
	auth, err := json.Marshal(map[string]string{"username": user, "password": password, "serveraddress": nameOf(w.Image).registry})
	return base64.URLEncoding.EncodeToString(auth), err
}
