package reach

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"sync"
	"time"

	"northstake/host/rod"
)

// Pool keeps connections to hosts, so that the next survey of a host costs one
// request. One that is older than MostAge gives way to a new one at the next survey, so that a host that
// lets nobody in any more, or shows another key, does not stand as one that is reached.
type Pool struct {
	rods    Rods
	MostAge time.Duration

	mu    sync.Mutex
	conns map[string]*entry
}

type entry struct {
	gate  chan struct{} // holds one who works on it; nobody waits for that longer than they may
	conn  *rod.Conn
	end   func()    // of what carries it
	print string    // of the target and its keys
	since time.Time // when it was made

	former func() // ends the connection before this one, for which somebody may still wait
}

// MostAge is how old a kept connection gets unless another age is asked for.
const MostAge = 10 * time.Minute

// NewPool makes a pool that sends rods from rods.
func NewPool(rods Rods) *Pool {
	return &Pool{rods: rods, MostAge: MostAge, conns: map[string]*entry{}}
}

// fingerprint tells whether a kept connection was made with the same means.
func fingerprint(t Target, known KnownKeys) string {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %d %q %t %q %q %q %q", t.Host, t.Address, t.Port, t.User, t.Sudo, t.Password, t.SudoPassword, t.Key, t.Via+t.Engine)
	if t.Through != nil {
		fmt.Fprintf(h, "%q %q", t.Container, fingerprint(t.Through.Target, t.Through.Known))
	}
	for _, k := range known.Own {
		fmt.Fprintf(h, "%q", k.Key)
	}
	fmt.Fprintf(h, "%q", known.Authorities)
	return string(h.Sum(nil))
}

// Rod returns a connection to the rod on a host, a kept one where there is one
// that was made by the same means. Key names the connection.
func (p *Pool) Rod(ctx context.Context, key string, t Target, known KnownKeys) (*rod.Conn, error) {
	p.mu.Lock()
	e := p.conns[key]
	if e == nil {
		e = &entry{gate: make(chan struct{}, 1)}
		p.conns[key] = e
	}
	p.mu.Unlock()
	select {
	case e.gate <- struct{}{}:
	case <-ctx.Done():
		return nil, &Trouble{Kind: NoAnswer, What: fmt.Sprintf("host %s is waited for by another already, and has not answered", t.Host), Fix: "check the host's load, and the line to it", err: ctx.Err()}
	}
	defer e.leave()
	print := fingerprint(t, known)
	kept := e.conn != nil && e.print == print && e.conn.Usable()
	if kept && time.Since(e.since) < p.MostAge {
		return e.conn, nil
	}
	if !kept {
		e.close()
	}
	conn, end, err := p.start(ctx, t, known)
	if err != nil && kept {
		return nil, nobodyGetsIn(err, e.since)
	}
	if err != nil {
		return nil, err
	}
	if kept {
		if e.former != nil {
			e.former()
		}
		before, endBefore := e.conn, e.end
		e.former = func() {
			before.Close()
			endBefore()
		}
	}
	e.conn, e.end, e.print, e.since = conn, end, print, time.Now()
	return conn, nil
}

// nobodyGetsIn says that a host can be reached over a kept connection alone.
func nobodyGetsIn(err error, since time.Time) error {
	var t *Trouble
	if !errors.As(err, &t) {
		return fmt.Errorf("no new connection can be made, though one of %s stands: %w", since.Format("15:04"), err)
	}
	out := *t
	out.What = fmt.Sprintf("%s; a connection of %s stands, and is all that does", t.What, since.Format("15:04"))
	return &out
}

// Fresh makes a new connection that is not kept; close ends it.
func (p *Pool) Fresh(ctx context.Context, t Target, known KnownKeys) (conn *rod.Conn, close func(), err error) {
	conn, end, err := p.start(ctx, t, known)
	if err != nil {
		return nil, nil, err
	}
	return conn, func() {
		conn.Close()
		end()
	}, nil
}

func (p *Pool) start(ctx context.Context, t Target, known KnownKeys) (*rod.Conn, func(), error) {
	way, err := TransportOf(t.Via)
	if err != nil {
		return nil, nil, err
	}
	if way.Within == nil {
		return way.Start(ctx, t, known, p.rods)
	}
	for again := false; ; again = true {
		engine, err := p.Rod(ctx, t.Through.Key, t.Through.Target, t.Through.Known)
		if err != nil {
			return nil, nil, fmt.Errorf("host %s is container %s, and the host of its engine cannot be reached: %w", t.Host, t.Container, err)
		}
		conn, end, err := way.Within(ctx, engine, t)
		if err == nil || again || ctx.Err() != nil || engine.Usable() {
			return conn, end, err
		}
		// The line to the engine's host had broken, and nobody had noticed yet: over a new one.
	}
}

// Drop closes a kept connection, after it broke or its host changed.
func (p *Pool) Drop(key string) {
	p.mu.Lock()
	e := p.conns[key]
	delete(p.conns, key)
	p.mu.Unlock()
	if e != nil {
		e.gate <- struct{}{}
		e.close()
		e.leave()
	}
}

// Close ends all connections.
func (p *Pool) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, e := range p.conns {
		e.gate <- struct{}{}
		e.close()
		e.leave()
	}
	p.conns = map[string]*entry{}
}

func (e *entry) leave() { <-e.gate }

func (e *entry) close() {
	if e.conn != nil {
		e.conn.Close()
		e.end()
	}
	if e.former != nil {
		e.former()
	}
	e.conn, e.end, e.former = nil, nil, nil
}
