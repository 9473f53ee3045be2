package reach

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"northstake/host/rod"
)

// stdio is the standard input and output of a rod as a connection.
type stdio struct {
	in  io.WriteCloser
	out io.Reader
	end func() error // lets go of what runs the rod

	lastWords func() string // what a rod whose output has ended by itself has said of it; may be nil

	writing sync.Mutex // held while something is written
	closed  atomic.Bool
}

func (c *stdio) Read(b []byte) (int, error) {
	n, err := c.out.Read(b)
	if n == 0 {
		err = c.ended(err)
	}
	return n, err
}

// ended is the end of a line, with what is known of it.
func (c *stdio) ended(err error) error {
	if err == io.EOF && c.lastWords != nil && !c.closed.Load() {
		if said := c.lastWords(); said != "" {
			return errors.New(said)
		}
	}
	return err
}

func (c *stdio) Write(b []byte) (int, error) {
	c.writing.Lock()
	defer c.writing.Unlock()
	if c.closed.Load() {
		return 0, io.ErrClosedPipe
	}
	n, err := c.in.Write(b)
	return n, c.ended(err)
}

// Close ends the rod by ending its input. It does not wait for a write that is held up:
// what runs the rod ends that.
func (c *stdio) Close() error {
	c.closed.Store(true)
	if c.writing.TryLock() {
		c.in.Close()
		c.writing.Unlock()
	}
	return c.end()
}

func (c *stdio) LocalAddr() net.Addr { return stdioAddr{} }

func (c *stdio) RemoteAddr() net.Addr { return stdioAddr{} }

func (c *stdio) SetDeadline(time.Time) error { return nil }

func (c *stdio) SetReadDeadline(time.Time) error { return nil }

func (c *stdio) SetWriteDeadline(time.Time) error { return nil }

type stdioAddr struct{}

func (stdioAddr) Network() string { return "stdio" }

func (stdioAddr) String() string { return "rod" }

// greeted waits for the rod's greeting, for as long as a rod may take to start.
func greeted(ctx context.Context, out io.Reader) error {
	said := make(chan error, 1)
	go func() { said <- waitGreeting(out) }()
	select {
	case err := <-said:
		return err
	case <-time.After(rodLimit):
		return errors.New("it has not greeted")
	case <-ctx.Done():
		return ctx.Err()
	}
}

// waitGreeting skips what a login script may print before the rod's greeting.
func waitGreeting(r io.Reader) error {
	var window []byte
	one := make([]byte, 1)
	for range 64 << 10 {
		if _, err := io.ReadFull(r, one); err != nil {
			return err
		}
		window = append(window, one[0])
		if bytes.HasSuffix(window, []byte(rod.Greeting)) {
			return nil
		}
	}
	return errors.New("no greeting in 64 KB of output")
}
