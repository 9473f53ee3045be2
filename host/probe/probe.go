// Package probe makes HTTP checks of sites: from inside a host, by its rod, from other hosts,
// and from outside, by the service.
package probe

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"northstake/core/form"
	"northstake/core/wire"
)

// Asked is a check with where it is made: From is its name, and At the address of the host
// that is asked, as it is reached from there.
type Asked struct {
	wire.Probe
	At   string `json:"at"`
	From string `json:"from"`
}

// Result is what an HTTP check found. Failed is what was wrong: the name, the connection, or
// the answer; "" where nothing is.
type Result struct {
	wire.Probe
	From      string        `json:"from"` // inside, outside, or the name of a host
	OK        bool          `json:"ok"`
	GotStatus int           `json:"got_status,omitempty"`
	GotText   bool          `json:"got_text"`
	Error     string        `json:"error,omitempty"`
	Failed    string        `json:"failed,omitempty"`
	Answered  string        `json:"answered,omitempty"`  // address and port that answered
	Redirects []string      `json:"redirects,omitempty"` // where it was sent on to, in their order
	Took      time.Duration `json:"took"`
	Lookup    time.Duration `json:"lookup,omitempty"`  // of that, for the name
	Connect   time.Duration `json:"connect,omitempty"` // for the connection
	First     time.Duration `json:"first,omitempty"`   // from the beginning to the first byte of the answer
}

// Once is a check that nobody declares: of a URL, from some places. At is the address that is
// asked, where the name of the URL is not to be resolved.
type Once struct {
	URL string `json:"url"`
	At  string `json:"at,omitempty"`
	wire.Check
}

// Probe is the check that is meant, and how the asked address is reached. The error says what
// cannot be asked.
func (o Once) Probe() (wire.Probe, error) {
	u, err := url.Parse(o.URL)
	if err != nil || u.Scheme != wire.HTTP && u.Scheme != wire.HTTPS || u.Hostname() == "" {
		return wire.Probe{}, fmt.Errorf("%q is not a URL that can be asked for: write one that begins with http:// or https://", o.URL)
	}
	port := wire.OwnPort(u.Scheme)
	if u.Port() != "" {
		if port, err = strconv.Atoi(u.Port()); err != nil || port < 1 || port > 65535 {
			return wire.Probe{}, fmt.Errorf("port %s does not exist", u.Port())
		}
	}
	if o.At != "" && net.ParseIP(o.At) == nil {
		return wire.Probe{}, fmt.Errorf("%q is not an IP address", o.At)
	}
	if _, err := regexp.Compile(o.Matches); err != nil {
		return wire.Probe{}, fmt.Errorf("%q is not a regular expression: %v", o.Matches, err)
	}
	if _, ok := form.Seconds(o.Within); o.Within != "" && !ok {
		return wire.Probe{}, fmt.Errorf("%q is not a length of time such as 5s", o.Within)
	}
	p := wire.Probe{Endpoint: wire.Endpoint{Scheme: u.Scheme, Name: u.Hostname(), Port: port, Address: o.At}, Check: o.Check}
	if p.Scheme == wire.HTTP {
		p.Scheme = "" // which is said of none
	}
	p.Path = cmp.Or(u.EscapedPath(), "/")
	if u.RawQuery != "" {
		p.Path += "?" + u.RawQuery
	}
	p.Status = cmp.Or(p.Status, 200)
	if len(p.From) == 0 {
		p.From = []string{wire.ProbeOutside}
	}
	if p.Resolver == "" && o.At == "" {
		p.Resolver = wire.ResolverSystem
	}
	return p, nil
}

// What can be wrong with a check.
const (
	FailedName       = "name"
	FailedConnection = "connection"
	FailedAnswer     = "answer"
)

const (
	probeLimit    = 5 * time.Second
	pageLimit     = 4 << 20 // bytes of a page that are looked through
	redirectLimit = 10
)

// tracing gathers what happens on the way.
type tracing struct {
	a        Asked
	res      *Result
	resolver *net.Resolver
	host     string // the site's name, which the host at a.At serves
}

// Fetch makes one HTTP check of what is asked.
func Fetch(ctx context.Context, a Asked) (res Result) {
	start := time.Now()
	res = Result{Probe: a.Probe, From: a.From}
	defer func() { res.Took = time.Since(start) }()
	limit := probeLimit
	if s, ok := form.Seconds(a.Within); ok {
		limit = time.Duration(s) * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	t := &tracing{a: a, res: &res, resolver: net.DefaultResolver, host: a.Name}
	if server := net.ParseIP(a.Resolver); server != nil {
		t.resolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(server.String(), "53"))
		}}
	}
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotFirstResponseByte: func() { res.First = time.Since(start) }})
	req, err := http.NewRequestWithContext(ctx, cmp.Or(a.Method, http.MethodGet), a.URL(a.Path), strings.NewReader(a.Body))
	if err != nil {
		res.Error, res.Failed = err.Error(), FailedAnswer
		return res
	}
	for _, name := range slices.Sorted(maps.Keys(a.Headers)) {
		req.Header.Set(name, a.Headers[name])
	}
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true, DisableCompression: true, Proxy: nil, DialContext: t.dial, TLSClientConfig: verifying(a.Fingerprint)}, CheckRedirect: t.redirected}
	answer, err := client.Do(req)
	if err != nil {
		res.Error = t.plain(err, limit)
		return res
	}
	defer answer.Body.Close()
	t.judge(answer)
	return res
}

// dial connects to a host: the one that is asked where its own name is meant, others by what
// their names resolve to.
func (t *tracing) dial(ctx context.Context, network, address string) (net.Conn, error) {
	name, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	to := name
	switch {
	case name == t.host && t.a.Straight():
		to = cmp.Or(t.a.Address, t.a.At)
	case net.ParseIP(name) == nil:
		start := time.Now()
		found, err := t.resolver.LookupHost(ctx, name)
		t.res.Lookup += time.Since(start)
		if err != nil {
			t.res.Failed = FailedName
			return nil, err
		}
		to = found[0]
	}
	start := time.Now()
	c, err := (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(to, port))
	t.res.Connect += time.Since(start)
	if err != nil {
		t.res.Failed = FailedConnection
		return nil, err
	}
	t.res.Answered = c.RemoteAddr().String()
	return c, nil
}

func (t *tracing) redirected(req *http.Request, before []*http.Request) error {
	if !t.a.Follows {
		return http.ErrUseLastResponse
	}
	t.res.Redirects = append(t.res.Redirects, req.URL.String())
	if len(before) > redirectLimit {
		return fmt.Errorf("sent on more than %d times", redirectLimit)
	}
	return nil
}

// judge compares an answer with what is wanted.
func (t *tracing) judge(answer *http.Response) {
	a, res := t.a, t.res
	res.GotStatus = answer.StatusCode
	body, err := io.ReadAll(io.LimitReader(answer.Body, pageLimit))
	wrong := func(format string, args ...any) {
		if res.Failed == "" {
			res.Failed, res.Error = FailedAnswer, fmt.Sprintf(format, args...)
		}
	}
	if err != nil {
		wrong("the answer broke off: %v", err)
		return
	}
	res.GotText = bytes.Contains(body, []byte(a.Contains))
	if res.GotStatus != a.Status {
		wrong("answered %d, wanted %d", res.GotStatus, a.Status)
	}
	if !res.GotText {
		wrong("answered %d without %q", res.GotStatus, a.Contains)
	}
	if a.Matches != "" {
		if e, err := regexp.Compile(a.Matches); err != nil || !e.Match(body) {
			res.GotText = false
			wrong("answered %d with nothing that matches %q", res.GotStatus, a.Matches)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(a.Shows)) {
		got, want := strings.Join(answer.Header.Values(name), ", "), a.Shows[name]
		if ok, err := path.Match(strings.ReplaceAll(want, "/", "\x00"), strings.ReplaceAll(got, "/", "\x00")); err != nil || !ok {
			wrong("answered %d with %s: %q, wanted %q", res.GotStatus, name, got, want)
		}
	}
	if a.EndsAt != "" {
		at := answer.Request.URL
		if to, err := answer.Location(); !a.Follows && err == nil {
			at = to
		}
		if want, err := (&url.URL{Scheme: answer.Request.URL.Scheme, Host: answer.Request.URL.Host, Path: "/"}).Parse(a.EndsAt); err != nil || want.String() != at.String() {
			wrong("it ends at %s, wanted %s", at, a.EndsAt)
		}
	}
	res.OK = res.Failed == ""
}

func (t *tracing) plain(err error, limit time.Duration) string {
	var name *net.DNSError
	s := err.Error()
	switch {
	case errors.As(err, &name):
		t.res.Failed = FailedName
		return fmt.Sprintf("name %s: %s", name.Name, name.Err)
	case strings.Contains(s, "connection refused"):
		return nothingListens
	case strings.Contains(s, "deadline exceeded"), strings.Contains(s, "Timeout"), strings.Contains(s, "timeout"):
		t.res.Failed = cmp.Or(t.res.Failed, FailedAnswer)
		return "no answer in " + limit.String() + ": a filter on the way drops it, or the server hangs"
	case strings.Contains(s, "no route to host"):
		return "no route to host"
	}
	t.res.Failed = cmp.Or(t.res.Failed, FailedAnswer)
	return s
}

const (
	notChecked     = "not checked: "
	nothingListens = "connection refused: nothing listens there"
)

// Refused says whether nothing listened where a check was made.
func (r Result) Refused() bool { return r.Error == nothingListens }

// Failed is the result of a check at a place that could not be reached to make it.
func Failed(p wire.Probe, from string, err error) Result {
	return Result{Probe: p, From: from, Error: notChecked + err.Error()}
}

// Made says whether a check was made. One that was not is no answer: it says nothing of the site,
// nor of what lies on the way.
func (r Result) Made() bool { return !strings.HasPrefix(r.Error, notChecked) }

// Words says what a probe found, in one line.
func (r Result) Words() string {
	words := r.Error
	if r.OK {
		words = strconv.Itoa(r.GotStatus)
	}
	switch n := len(r.Redirects); {
	case n == 1:
		words += ", sent on to " + r.Redirects[0]
	case n > 1:
		words += fmt.Sprintf(", sent on %d times, at last to %s", n, r.Redirects[n-1])
	}
	return words
}

// Culprit says what the difference between the inside and the outside means,
// "" when there is none.
func Culprit(inside, outside Result) string {
	switch {
	case !inside.Made() || !outside.Made():
		return ""
	case inside.OK && !outside.OK && (outside.Failed == FailedConnection || outside.GotStatus == 0):
		return "the site answers on the host itself and not from outside: something filters the port between here and there, or the server listens on loopback alone"
	case !inside.OK && outside.OK:
		return "the site answers from outside and not on the host itself: another machine may answer at this address"
	}
	return ""
}

// Culprits says of each check that was made inside and outside what the difference means.
func Culprits(list []Result) []string {
	var out []string
	for _, in := range list {
		for _, o := range list {
			if in.From == wire.ProbeInside && o.From == wire.ProbeOutside && in.Same(o) {
				if why := Culprit(in, o); why != "" {
					out = append(out, in.Host+": "+why)
				}
			}
		}
	}
	return slices.Compact(out)
}

// Same says whether two results are of one check, wherever it was made.
func (r Result) Same(o Result) bool {
	return r.Site == o.Site && r.Host == o.Host && r.Name == o.Name && r.Port == o.Port && r.Path == o.Path && cmp.Or(r.Method, "GET") == cmp.Or(o.Method, "GET") && r.Status == o.Status && r.Contains == o.Contains
}
