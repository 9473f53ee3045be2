// Package engine speaks to the container engine of a host, by its HTTP API on a socket: what
// containers and images there are, and how they are set. No command of an engine is run.
package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/client"

	"northstake/core/wire"
	"northstake/host/system"
)

// Engine is a container engine that answers.
type Engine struct {
	cli    *client.Client
	socket string
	over   *line
}

// sockets are where engines listen on a host, the first that is there counts.
var sockets = []wire.Path{"/run/podman/podman.sock", "/run/docker.sock", "/var/run/docker.sock"}

// answerTime is how long an engine may take to say that it is there: one that a socket starts
// takes a second.
const answerTime = 20 * time.Second

// Of is the engine of a host. It stays open for as long as it answers.
func Of(ctx context.Context, m *system.Machine) (*Engine, *wire.Trouble) {
	sockets := sockets
	if m.Engine != "" {
		sockets = []wire.Path{wire.Path(m.Engine)}
	}
	at := slices.IndexFunc(sockets, m.Exists)
	if at < 0 {
		return nil, &wire.Trouble{What: "this host has no container engine that listens: there is no socket at " + strings.Join(wire.Texts(sockets[:min(2, len(sockets))]), " or "), Fix: "declare its package and its socket, such as packages = [\"podman\"] and services = [\"podman.socket\"]"}
	}
	socket := m.Path(sockets[at])
	e, err := system.Cached(m, "engine", socket, func() (*Engine, error) {
		over := &line{over: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket)
		}}}
		cli, err := client.New(client.WithHost("unix://"+socket), client.WithHTTPClient(&http.Client{Transport: over}))
		return &Engine{cli, string(sockets[at]), over}, err
	})
	if err == nil {
		err = e.answers(ctx)
	}
	if err == nil {
		return e, nil
	}
	t := &wire.Trouble{What: fmt.Sprintf("the container engine at %s does not answer: %v", sockets[at], short(err)), Fix: "look at what its service says; a restart of its socket often helps"}
	switch {
	case errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EACCES):
		t.What, t.Fix = fmt.Sprintf("the container engine at %s does not answer to this user", sockets[at]), "let the host be reached by root, or with sudo = true"
	case errors.Is(err, syscall.ECONNREFUSED):
		t.What = fmt.Sprintf("nothing listens at %s, the container engine's socket", sockets[at])
	case errors.Is(err, context.DeadlineExceeded):
		t.What = fmt.Sprintf("the container engine at %s has said nothing for %s", sockets[at], answerTime)
	}
	return nil, t
}

// line is the connection to an engine.
type line struct {
	over http.RoundTripper
	acts atomic.Int64 // how often one of what may change the engine's things has begun or ended
}

// command are the paths by which a command is run in a container, which changes nothing that the
// engine tells of the container.
var command = regexp.MustCompile(`^(/v[^/]*)?/(exec/[^/]+/[^/]+|containers/[^/]+/exec)$`)

func (w *line) RoundTrip(r *http.Request) (*http.Response, error) {
	// Without this, which is no part of the API that the client knows, Podman waits for the end
	// of the second before it ends a list of events.
	if strings.HasSuffix(r.URL.Path, "/events") {
		r = r.Clone(r.Context())
		q := r.URL.Query()
		q.Set("stream", "false")
		r.URL.RawQuery = q.Encode()
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead && !command.MatchString(r.URL.Path) {
		w.acts.Add(1)
		defer w.acts.Add(1)
	}
	return w.over.RoundTrip(r)
}

// answers asks whether the engine is there, which costs one short request.
func (e *Engine) answers(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	_, err := e.cli.Ping(ctx, client.PingOptions{NegotiateAPIVersion: true})
	if err != nil && ctx.Err() != nil {
		return context.DeadlineExceeded
	}
	// What the library says of a socket that lets nobody in, or that nobody listens to, is
	// not the kernel's own word: that is asked for.
	if err != nil {
		c, dial := net.DialTimeout("unix", strings.TrimPrefix(e.cli.DaemonHost(), "unix://"), time.Second)
		if dial != nil {
			return dial
		}
		c.Close()
	}
	return err
}

// short is an error without what the library puts around it, in one line.
func short(err error) string {
	text := strings.Join(strings.Fields(err.Error()), " ")
	for _, before := range []string{"Error response from daemon: ", "error during connect: "} {
		text = strings.TrimPrefix(text, before)
	}
	return brief(text)
}

// plain is text from an engine, an image or a container without what a terminal would obey.
func plain(text string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r >= 0x7f && r < 0xa0 {
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, "?"))
}

// brief is plain text that is no longer than a message may be.
func brief(text string) string {
	if text = plain(text); len(text) > 500 {
		text = strings.ToValidUTF8(text[:500], "") + " …"
	}
	return text
}

// callTime is how long an engine may take for one thing that it is asked to do, and fetchTime
// for fetching an image.
const (
	callTime  = time.Minute
	fetchTime = 30 * time.Minute
)

func limited(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, callTime)
}

// isMissing says whether an engine knows nothing of what it was asked for.
func isMissing(err error) bool { return errdefs.IsNotFound(err) }
