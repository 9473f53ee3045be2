package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"github.com/go-git/go-git/v5/plumbing/transport/client"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
)

// From is where content may be fetched from. Its zero value is all but the service's own machine
// and what its network tells it of itself: whoever declares content is not to read there.
type From struct {
	OwnMachine bool // from there, too
}

// refused is an address from which nothing is fetched.
type refused struct{ what string }

func (r *refused) Error() string { return r.what }

// guard is what one fetching may connect to. Whoever has sent it on from an address of the internet
// cannot send it on to one of this network.
type guard struct {
	From
	mu    sync.Mutex
	began netip.Addr // the first address
}

type guarded struct{}

func (f From) guard(ctx context.Context) context.Context {
	return context.WithValue(ctx, guarded{}, &guard{From: f})
}

// may says whether an address may be asked.
func (g *guard) may(a netip.Addr) error {
	a = a.Unmap()
	if !g.OwnMachine && (a.IsLoopback() || a.IsUnspecified() || a.IsLinkLocalUnicast() || a.IsMulticast()) {
		return &refused{fmt.Sprintf("%s is an address of the service's own machine, from which nothing is fetched", a)}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.began.IsValid() {
		g.began = a
	}
	if inward(a) && !inward(g.began) {
		return &refused{fmt.Sprintf("it was sent on from %s to %s, an address of a network that is not the internet", g.began, a)}
	}
	return nil
}

func inward(a netip.Addr) bool {
	return a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() || a.IsUnspecified()
}

// control looks at each address that is about to be connected to, after its name was looked up.
func control(ctx context.Context, _, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	g, ok := ctx.Value(guarded{}).(*guard)
	if !ok {
		g = &guard{}
	}
	return g.may(at.Addr())
}

const mostRedirects = 5

// web is how all is fetched by HTTP: no proxy of the environment stands between the guard and what
// it looks at, no connection is kept for another fetching, and an encrypted way stays one.
var web = &http.Client{
	Transport: limited{&http.Transport{
		DialContext:           (&net.Dialer{Timeout: 30 * time.Second, ControlContext: control}).DialContext,
		DisableKeepAlives:     true,
		ForceAttemptHTTP2:     true,
		TLSHandshakeTimeout:   30 * time.Second,
		ResponseHeaderTimeout: time.Minute,
	}},
	CheckRedirect: func(r *http.Request, via []*http.Request) error {
		switch {
		case len(via) > mostRedirects:
			return &refused{fmt.Sprintf("it is sent on more than %d times", mostRedirects)}
		case via[len(via)-1].URL.Scheme == "https" && r.URL.Scheme != "https":
			return &refused{"it is sent on from https: to " + r.URL.Scheme + ":, where all can read along"}
		}
		return nil
	},
}

// limited ends answers that have more bytes than content may.
type limited struct{ http.RoundTripper }

func (l limited) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := l.RoundTripper.RoundTrip(r)
	if err == nil {
		res.Body = &limitedBody{res.Body, bytesLimit + 1}
	}
	return res, err
}

type limitedBody struct {
	io.ReadCloser
	left int64
}

func (l *limitedBody) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, errors.New("it gives more than may be fetched")
	}
	if int64(len(p)) > l.left {
		p = p[:l.left]
	}
	n, err := l.ReadCloser.Read(p)
	l.left -= int64(n)
	return n, err
}

// Repositories are asked by HTTP in the same manner, by SSH, and in no other way: not from files.
func init() {
	client.InstallProtocol("http", githttp.NewClient(web))
	client.InstallProtocol("https", githttp.NewClient(web))
	client.InstallProtocol("file", nil)
	client.InstallProtocol("git", nil)
}

// reaches says whether a host that is asked by SSH, by its name, may be.
func reaches(ctx context.Context, host string) error {
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return err
	}
	for _, a := range found {
		if err := ctx.Value(guarded{}).(*guard).may(a); err != nil {
			return err
		}
	}
	return nil
}
