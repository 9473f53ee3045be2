package engine

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"runtime"
	"strings"
	"time"

	"github.com/moby/moby/client"

	"northstake/core/stake"
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
func (e *Engine) FoundImage(ctx context.Context, w stake.ImageWant) (stake.ImageFound, error) {
	is, err := e.image(ctx, w.Image)
	if err != nil {
		return stake.ImageFound{}, err
	}
	f := stake.ImageFound{ID: plain(is.ID), Made: is.made, Size: is.size}
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
	f.Offered, f.Silent = offered(ctx, name, w)
	return f, nil
}

// named is an image's name in its parts: "registry.test:5000", "tides", "2.1".
type named struct{ registry, repository, reference string }

func nameOf(image string) named {
	n := named{reference: "latest"}
	rest := image
	if at := strings.IndexByte(rest, '@'); at >= 0 {
		rest, n.reference = rest[:at], rest[at+1:]
	} else if colon := strings.LastIndexByte(rest, ':'); colon > strings.LastIndexByte(rest, '/') {
		rest, n.reference = rest[:colon], rest[colon+1:]
	}
	n.registry, n.repository, _ = strings.Cut(rest, "/")
	return n
}

// registryTime is how long a registry may take to say what it offers.
const registryTime = 3 * time.Second

// manifests are the forms of what a registry says of an image.
const manifests = "application/vnd.docker.distribution.manifest.v2+json, application/vnd.docker.distribution.manifest.list.v2+json, application/vnd.oci.image.manifest.v1+json, application/vnd.oci.image.index.v1+json"

// offered asks a registry which image it has under a name. One that speaks no TLS is asked
// without, and never with a password.
func offered(ctx context.Context, n named, w stake.ImageWant) (digest string, silent *stake.Trouble) {
	ctx, cancel := context.WithTimeout(ctx, registryTime)
	defer cancel()
	ask := func(scheme string) (*http.Response, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodHead, scheme+"://"+n.registry+"/v2/"+n.repository+"/manifests/"+n.reference, nil)
		if err != nil {
			return nil, err
		}
		req.Header.Set("Accept", manifests)
		if w.Login != nil && scheme == "https" {
			user, password, _ := strings.Cut(w.Login.Text, ":")
			req.SetBasicAuth(user, password)
		}
		client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		return client.Do(req)
	}
	r, err := ask("https")
	var noTLS tls.RecordHeaderError
	if errors.As(err, &noTLS) || err != nil && strings.Contains(err.Error(), "server gave HTTP response to HTTPS client") {
		r, err = ask("http")
	}
	if err != nil {
		return "", &stake.Trouble{What: fmt.Sprintf("registry %s does not answer: %s", n.registry, short(err)), Fix: "see that it is up, and that this host gets there"}
	}
	defer r.Body.Close()
	switch r.StatusCode {
	case http.StatusOK:
		return plain(r.Header.Get("Docker-Content-Digest")), nil
	case http.StatusUnauthorized, http.StatusForbidden:
		if w.Login == nil {
			return "", nil // the engine may have a login of its own
		}
		return "", &stake.Trouble{What: fmt.Sprintf("registry %s does not let in with secret %s", n.registry, w.Login.Secret), Fix: "keep the secret anew, as USER:PASSWORD"}
	case http.StatusNotFound:
		return "", &stake.Trouble{What: fmt.Sprintf("registry %s has no image %s with %s", n.registry, n.repository, n.reference), Fix: "correct the name or the tag, or push it there"}
	}
	return "", &stake.Trouble{What: fmt.Sprintf("registry %s answers with %s", n.registry, r.Status), Fix: "look at what it says of itself"}
}

// Fetch has the engine fetch an image. Say tells how far it is.
func (e *Engine) Fetch(ctx context.Context, w stake.ImageWant, say func(string)) error {
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
			say(fmt.Sprintf("%s of %s", stake.Bytes(m.Progress.Current), stake.Bytes(m.Progress.Total)))
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
