package engine

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"path"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/moby/moby/client"

	"northstake/core/wire"
)

// image is what is asked of an image: what it is, and what it sets by itself.
type image struct {
	ID      string
	digests []string
	made    time.Time
	size    int64
	command []string
	env     []string
	user    string
	labels  map[string]string
	entry   []string
	volumes map[string]struct{}
	arch    string // that it is made for, as Go calls it
}

// looksAt is where web servers look for what they serve, as their images are usually made, by the
// names of their programs.
var looksAt = map[string][]string{
	"nginx": {"/usr/share/nginx/html", "/var/www/html"},
	"httpd": {"/usr/local/apache2/htdocs", "/var/www/html"}, "httpd-foreground": {"/usr/local/apache2/htdocs"},
	"apache2": {"/var/www/html"}, "apache2-foreground": {"/var/www/html"}, "apachectl": {"/var/www/html"}, "apache2ctl": {"/var/www/html"},
	"caddy": {"/usr/share/caddy", "/srv"},
}

// looks are the places at which the web server that an image starts looks by itself.
func (i image) looks() []string {
	for _, word := range slices.Concat(i.entry, i.command) {
		if l := looksAt[path.Base(word)]; l != nil {
			return l
		}
	}
	return nil
}

func (i image) has(label string) bool {
	_, ok := i.labels[label]
	return ok
}

// image asks for an image; its ID is "" where the host has not got it.
func (e *Engine) image(ctx context.Context, name string) (image, error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	r, err := e.cli.ImageInspect(ctx, name)
	if isMissing(err) {
		return image{}, nil
	}
	if err != nil {
		return image{}, fmt.Errorf("ask the engine for image %s: %s", name, short(err))
	}
	out := image{ID: r.ID, digests: r.RepoDigests, size: r.Size, arch: r.Architecture}
	out.made, _ = time.Parse(time.RFC3339Nano, r.Created)
	if r.Config != nil {
		out.command, out.env, out.user, out.labels = r.Config.Cmd, r.Config.Env, r.Config.User, r.Config.Labels
		out.entry, out.volumes = r.Config.Entrypoint, r.Config.Volumes
	}
	return out, nil
}

// FoundImage is what the engine has of an image, and what its registry offers.
func (e *Engine) FoundImage(ctx context.Context, w wire.ImageWant) (wire.ImageFound, error) {
	is, err := e.image(ctx, w.Image)
	if err != nil {
		return wire.ImageFound{}, err
	}
	f := wire.ImageFound{ID: plain(is.ID), Made: is.made, Size: is.size}
	if host := is.labels[labelHost]; host != "" {
		f.Holds = plain(fmt.Sprintf("it is host %s of ground %s, as revision %s declared it", host, is.labels[labelGround], is.labels[labelRevision]))
	}
	name := nameOf(w.Image)
	for _, d := range is.digests {
		if repository, digest, ok := strings.Cut(d, "@"); ok && repository == name.registry+"/"+name.repository {
			f.Digest = plain(digest)
		}
	}
	if name.registry == "localhost" || strings.HasPrefix(name.reference, "sha256:") && f.ID != "" {
		return f, nil // it is nobody's but the host's, or cannot move
	}
	f.Offered, f.Silent = offered(ctx, name, w, http.DefaultTransport)
	return f, nil
}

// Fetch has the engine fetch an image. Say tells how far it is.
func (e *Engine) Fetch(ctx context.Context, w wire.ImageWant, say func(string)) error {
	ctx, cancel := context.WithTimeout(ctx, fetchTime)
	defer cancel()
	auth, err := authOf(w)
	if err != nil {
		return err
	}
	r, err := e.cli.ImagePull(ctx, w.Image, client.ImagePullOptions{RegistryAuth: auth})
	if err != nil {
		return fmt.Errorf("fetch image %s: %s", w.Image, short(err))
	}
	defer r.Close()
	last := time.Now()
	for m, err := range r.JSONMessages(ctx) {
		if err == nil && m.Error != nil {
			err = errors.New(m.Error.Message) // it comes in the stream of a call that went well
		}
		if err != nil {
			return fmt.Errorf("fetch image %s: %s", w.Image, short(err))
		}
		if m.Progress != nil && m.Progress.Total > 0 && time.Since(last) > time.Second {
			last = time.Now()
			say(fmt.Sprintf("%s of %s", wire.Bytes(m.Progress.Current), wire.Bytes(m.Progress.Total)))
		}
	}
	is, err := e.image(ctx, w.Image)
	switch {
	case err != nil:
		return err
	case is.ID == "":
		return fmt.Errorf("fetch image %s: the engine says that it is done, and has not got it", w.Image)
	case is.arch != "" && is.arch != runtime.GOARCH:
		return fmt.Errorf("image %s is made for %s, and this host is %s: nothing in it runs here", w.Image, plain(is.arch), runtime.GOARCH)
	}
	return nil
}

// ImageID is the identifier of an image, "" where the host has not got it.
func (e *Engine) ImageID(ctx context.Context, name string) (string, error) {
	is, err := e.image(ctx, name)
	return is.ID, err
}

// Tag gives an image a name.
func (e *Engine) Tag(ctx context.Context, id, name string) error {
	ctx, cancel := limited(ctx)
	defer cancel()
	n := nameOf(name)
	if _, err := e.cli.ImageTag(ctx, client.ImageTagOptions{Source: id, Target: n.registry + "/" + n.repository + ":" + n.reference}); err != nil {
		return fmt.Errorf("give image %s its name %s: %s", id, name, short(err))
	}
	return nil
}

// RemoveImage takes an image's name away, and the image with its last one. One that a container
// is made of stays.
func (e *Engine) RemoveImage(ctx context.Context, name string) error {
	ctx, cancel := limited(ctx)
	defer cancel()
	if _, err := e.cli.ImageRemove(ctx, name, client.ImageRemoveOptions{}); err != nil && !isMissing(err) {
		return fmt.Errorf("remove image %s: %s", name, short(err))
	}
	return nil
}
