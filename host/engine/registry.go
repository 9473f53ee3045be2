package engine

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"

	"northstake/core/wire"
)

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

// offered asks a registry which image it has under a name, with a token where it hands those out.
// One that speaks no TLS is asked without, and never with a password.
func offered(ctx context.Context, n named, w wire.ImageWant, over http.RoundTripper) (digest string, silent *wire.Trouble) {
	ctx, cancel := context.WithTimeout(ctx, registryTime)
	defer cancel()
	full := n.registry + "/" + n.repository + ":" + n.reference
	if strings.HasPrefix(n.reference, "sha256:") {
		full = n.registry + "/" + n.repository + "@" + n.reference
	}
	ref, err := name.ParseReference(full, name.Insecure)
	if err != nil {
		return "", &wire.Trouble{What: fmt.Sprintf("%s cannot be asked of a registry: %s", brief(full), short(err)), Fix: "correct the name of the image"}
	}
	auth := authn.Anonymous
	if w.Login != nil {
		user, password, _ := strings.Cut(w.Login.Text, ":")
		auth = &authn.Basic{Username: user, Password: password}
	}
	d, err := remote.Head(ref, remote.WithContext(ctx), remote.WithAuth(auth), remote.WithTransport(straight{over}), remote.WithRetryBackoff(remote.Backoff{Steps: 1}))
	var said *transport.Error
	switch {
	case err == nil:
		return plain(d.Digest.String()), nil
	case !errors.As(err, &said):
		return "", &wire.Trouble{What: fmt.Sprintf("registry %s does not answer: %s", n.registry, short(err)), Fix: "see that it is up, and that this host gets there"}
	case said.StatusCode == http.StatusUnauthorized || said.StatusCode == http.StatusForbidden:
		if w.Login == nil {
			return "", nil // the engine may have a login of its own
		}
		return "", &wire.Trouble{What: fmt.Sprintf("registry %s does not let in with secret %s", n.registry, w.Login.Secret), Fix: "keep the secret anew, as USER:PASSWORD"}
	case said.StatusCode == http.StatusNotFound:
		return "", &wire.Trouble{What: fmt.Sprintf("registry %s has no image %s with %s", n.registry, n.repository, n.reference), Fix: "correct the name or the tag, or push it there"}
	}
	return "", &wire.Trouble{What: fmt.Sprintf("registry %s answers with %d %s", n.registry, said.StatusCode, http.StatusText(said.StatusCode)), Fix: "look at what it says of itself"}
}

// straight goes where it is sent and nowhere else, and says no password where everybody can
// listen.
type straight struct{ over http.RoundTripper }

func (s straight) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Scheme == "http" && r.Header.Get("Authorization") != "" {
		r = r.Clone(r.Context())
		r.Header.Del("Authorization")
	}
	a, err := s.over.RoundTrip(r)
	if err == nil && a.StatusCode/100 == 3 {
		a.Body.Close()
		return nil, fmt.Errorf("%s leads elsewhere", r.URL.Host)
	}
	return a, err
}
