package rod

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/net/http2"

	"northstake/core/wire"
	"northstake/host/probe"
)

// Conn is a connection to a rod that has greeted.
type Conn struct {
	http *http2.ClientConn
	raw  *noting
	most int64 // bytes of one answer

	mu      sync.Mutex
	traits  wire.Traits
	surveys map[string]wire.Survey // the last one of each list of wants
}

// NewConn starts HTTP/2 over the standard input and output of a rod.
func NewConn(raw net.Conn) (*Conn, error) {
	t := &http2.Transport{AllowHTTP: true, DisableCompression: true, MaxReadFrameSize: 1 << 20, ReadIdleTimeout: 20 * time.Second, PingTimeout: 30 * time.Second}
	noted := &noting{Conn: raw}
	cc, err := t.NewClientConn(noted)
	if err != nil {
		return nil, fmt.Errorf("speak to the rod: %w", err)
	}
	return &Conn{http: cc, raw: noted, most: answerLimit, surveys: map[string]wire.Survey{}}, nil
}

// noting is a line that notes why it ended: who makes a request after that is told only that it has.
type noting struct {
	net.Conn
	ended atomic.Pointer[error]
}

func (n *noting) Read(b []byte) (int, error) {
	read, err := n.Conn.Read(b)
	if err != nil && err != io.EOF {
		n.ended.CompareAndSwap(nil, &err)
	}
	return read, err
}

func (n *noting) Write(b []byte) (int, error) {
	wrote, err := n.Conn.Write(b)
	if err != nil && err != io.EOF && err != io.ErrClosedPipe { // which this side has closed
		n.ended.CompareAndSwap(nil, &err)
	}
	return wrote, err
}

// Usable says whether requests can still be made.
func (c *Conn) Usable() bool {
	s := c.http.State()
	return !s.Closed && !s.Closing && c.http.CanTakeNewRequest()
}

// Close ends the connection; the rod then ends by itself.
func (c *Conn) Close() error {
	c.http.Close()
	return c.raw.Close()
}

func (c *Conn) do(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, "http://rod"+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set(wire.VersionHeader, strconv.Itoa(wire.Version))
	res, err := c.http.RoundTrip(req)
	if err != nil {
		if why := c.raw.ended.Load(); why != nil && ctx.Err() == nil {
			err = *why
		}
		return nil, fmt.Errorf("the connection to the host broke: %w", err)
	}
	if res.StatusCode >= 400 {
		defer res.Body.Close()
		b, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
		if err != nil {
			return nil, err
		}
		var f wire.Fault
		if json.Unmarshal(b, &f) == nil && f.What != "" {
			return nil, shorten(&f)
		}
		return nil, fmt.Errorf("the rod answered %s: %s", res.Status, shortened(string(bytes.TrimSpace(b)), lineLimit))
	}
	return res, nil
}

func (c *Conn) call(ctx context.Context, path string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	res, err := c.do(ctx, http.MethodPost, path, bytes.NewReader(b))
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if out == nil {
		_, err = io.Copy(io.Discard, res.Body)
		return err
	}
	return decode(res.Body, c.most, out)
}

// Inside starts the rod in a container of the host's engine, and returns its standard input and
// output. End lets go of both; they outlive ctx.
func (c *Conn) Inside(ctx context.Context, container string) (in io.WriteCloser, out io.Reader, end func(), err error) {
	held, cancel := context.WithCancel(context.WithoutCancel(ctx))
	started := context.AfterFunc(ctx, cancel)
	body, in := io.Pipe()
	res, err := c.do(held, http.MethodPost, "/containers/"+url.PathEscape(container)+"/rod", body)
	if !started() && err == nil {
		err = ctx.Err()
	}
	if err != nil {
		cancel()
		return nil, nil, nil, err
	}
	return in, res.Body, func() { in.Close(); cancel(); res.Body.Close() }, nil
}

// Traits asks what the host is.
func (c *Conn) Traits(ctx context.Context) (wire.Traits, error) {
	var t wire.Traits
	err := c.call(ctx, "/traits", struct{}{}, &t)
	if err == nil {
		c.mu.Lock()
		c.traits = t
		c.mu.Unlock()
	}
	return t, err
}

// LastTraits is what the host was when it was last asked over this connection.
func (c *Conn) LastTraits(ctx context.Context) (wire.Traits, error) {
	c.mu.Lock()
	t := c.traits
	c.mu.Unlock()
	if t.System != "" {
		return t, nil
	}
	return c.Traits(ctx)
}

// Survey reads stakes. It changes nothing on the host. The caller must not change
// the readings.
func (c *Conn) Survey(ctx context.Context, digest string, wants func() ([]wire.Want, error)) (wire.Survey, error) {
	c.mu.Lock()
	before := c.surveys[digest]
	c.mu.Unlock()
	var a wire.SurveyAnswer
	err := c.call(ctx, "/survey", wire.SurveyRequest{Digest: digest, Known: before.Sum}, &a)
	if err == nil && a.SendWants {
		a = wire.SurveyAnswer{}
		var some []wire.Want
		if some, err = wants(); err == nil {
			all := append([]wire.Want{}, some...) // never nil
			err = c.call(ctx, "/survey", wire.SurveyRequest{Digest: digest, Known: before.Sum, Wants: all}, &a)
		}
	}
	if err != nil {
		return wire.Survey{}, err
	}
	a.Traits.ClockSkew = skew(a.Clock, time.Now())
	s := wire.Survey{Readings: before.Readings, Sum: a.Sum, Traits: a.Traits}
	if !a.Same {
		s.Readings = nil
		if err := json.Unmarshal(a.Readings, &s.Readings); err != nil {
			return wire.Survey{}, fmt.Errorf("read the rod's answer: %w", err)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.traits = a.Traits
	if len(c.surveys) > 8 {
		clear(c.surveys)
	}
	c.surveys[digest] = s
	return s, nil
}

// skew is how far one clock is ahead of another, "" where that is nothing that a
// slow line could not explain.
func skew(host, here time.Time) string {
	d := host.Sub(here).Round(time.Second)
	if d.Abs() < 2*time.Second {
		return ""
	}
	return d.String()
}

// Open takes the host's lock for a run and clears up after interrupted steps.
func (c *Conn) Open(ctx context.Context, run string, ask wire.OpenAsk) (wire.OpenAnswer, error) {
	var a wire.OpenAnswer
	err := c.call(ctx, "/runs/"+run+"/open", ask, &a)
	return a, err
}

// Journal lists the steps in the host's journal, the newest first. Service is who asks.
func (c *Conn) Journal(ctx context.Context, service string) ([]wire.JournalStep, error) {
	var out []wire.JournalStep
	err := c.call(ctx, "/journal", struct {
		Service string `json:"service"`
	}{service}, &out)
	return out, err
}

// Dismiss has a step that could not be taken back hold up nothing any more, for a reason.
func (c *Conn) Dismiss(ctx context.Context, run string, number int, reason string) error {
	return c.call(ctx, fmt.Sprintf("/journal/%s/%d/dismiss", run, number), struct {
		Reason string `json:"reason"`
	}{reason}, nil)
}

// CloseRun gives the host's lock back.
func (c *Conn) CloseRun(ctx context.Context, run string) error {
	return c.call(ctx, "/runs/"+run+"/close", struct{}{}, nil)
}

// MissingBlobs lists the blobs that a step needs and the host has not got.
func (c *Conn) MissingBlobs(ctx context.Context, step wire.Step) ([]string, error) {
	var out []string
	err := c.call(ctx, "/blobs/missing", wire.Want{Type: step.Type, Name: step.Name, Want: step.Work}, &out)
	return out, err
}

// SendBlobs streams blobs to the host as a tar file that write writes.
func (c *Conn) SendBlobs(ctx context.Context, write func(io.Writer) error) error {
	r, w := io.Pipe()
	go func() {
		large := bufio.NewWriterSize(w, 256<<10) // a small write is a frame of its own
		err := write(large)
		if err == nil {
			err = large.Flush()
		}
		w.CloseWithError(err)
	}()
	defer r.Close()
	res, err := c.do(ctx, http.MethodPost, "/blobs", r)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(io.Discard, res.Body)
	return err
}

// Step does one step and calls say for each line of progress. The returned
// state is Done or Held; an error that is a *wire.Fault came from the host.
func (c *Conn) Step(ctx context.Context, run string, step wire.Step, say func(string)) (wire.StepState, error) {
	return c.events(ctx, fmt.Sprintf("/runs/%s/steps/%d", run, step.Number), step, say)
}

// CancelStep has the host end the step of a run that is under way, if there is one: the step fails.
func (c *Conn) CancelStep(ctx context.Context, run string) error {
	return c.call(ctx, "/runs/"+run+"/cancel", struct{}{}, nil)
}

// Preflight asks whether any of a run's steps would be refused, before the first
// is done. A *wire.Fault says which and why.
func (c *Conn) Preflight(ctx context.Context, run string, steps []wire.Step) error {
	return c.call(ctx, "/runs/"+run+"/preflight", steps, nil)
}

// TakeBack takes back every step of a run, the last first.
func (c *Conn) TakeBack(ctx context.Context, run string, say func(string)) error {
	_, err := c.events(ctx, "/runs/"+run+"/back", struct{}{}, say)
	return err
}

// Confirm keeps a held step: it is to be called over a new connection.
func (c *Conn) Confirm(ctx context.Context, run string, number int) error {
	return c.call(ctx, fmt.Sprintf("/runs/%s/steps/%d/confirm", run, number), struct{}{}, nil)
}

// Probe makes an HTTP check on the host.
func (c *Conn) Probe(ctx context.Context, a probe.Asked) (probe.Result, error) {
	var out probe.Result
	err := c.call(ctx, "/probe", a, &out)
	return out, err
}

func (c *Conn) events(ctx context.Context, path string, in any, say func(string)) (wire.StepState, error) {
	b, err := json.Marshal(in)
	if err != nil {
		return "", err
	}
	ctx, cancel := within(ctx)
	defer cancel()
	res, err := c.do(ctx, http.MethodPost, path, bytes.NewReader(b))
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	say = heard(say)
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(make([]byte, 64<<10), 4<<20)
	for lines.Scan() {
		var e wire.Event
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return "", fmt.Errorf("read the rod's answer: %w", err)
		}
		switch {
		case e.Fault != nil:
			return "", shorten(e.Fault)
		case e.State != "":
			return e.State, nil
		case e.Say != "":
			say(e.Say)
		}
	}
	if err := lines.Err(); err != nil {
		return "", fmt.Errorf("the connection to the host broke: %w", err)
	}
	return "", errors.New("the connection to the host broke before the step ended")
}
