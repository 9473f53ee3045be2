package reach

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"northstake/host/rod"
)

// Pool keeps connections to hosts, so that the next survey of a host costs one
// request.
type Pool struct {
	rods Rods

	mu    sync.Mutex
	conns map[string]*entry
}

type entry struct {
	mu     sync.Mutex
	client *ssh.Client
	conn   *rod.Conn
	print  string // of the target and its keys
}

// NewPool makes a pool that sends rods from rods.
func NewPool(rods Rods) *Pool { return &Pool{rods: rods, conns: map[string]*entry{}} }

// fingerprint tells whether a kept connection was made with the same means.
func fingerprint(t Target, known KnownKeys) string {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %d %q %t %q %q %q %t", t.Host, t.Address, t.Port, t.User, t.Sudo, t.Password, t.SudoPassword, t.Key, t.Local)
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
		e = &entry{}
		p.conns[key] = e
	}
	p.mu.Unlock()
	e.mu.Lock()
	defer e.mu.Unlock()
	print := fingerprint(t, known)
	if e.conn != nil && e.print == print && e.conn.Usable() {
		return e.conn, nil
	}
	e.close()
	conn, client, err := p.fresh(ctx, t, known)
	if err != nil {
		return nil, err
	}
	e.client, e.conn, e.print = client, conn, print
	return conn, nil
}

// Fresh makes a new connection that is not kept; close ends it.
func (p *Pool) Fresh(ctx context.Context, t Target, known KnownKeys) (conn *rod.Conn, close func(), err error) {
	conn, client, err := p.fresh(ctx, t, known)
	if err != nil {
		return nil, nil, err
	}
	return conn, func() {
		conn.Close()
		if client != nil {
			client.Close()
		}
	}, nil
}

func (p *Pool) fresh(ctx context.Context, t Target, known KnownKeys) (*rod.Conn, *ssh.Client, error) {
	if t.Local {
		conn, err := StartLocal(ctx, t, p.rods)
		return conn, nil, err
	}
	client, err := Dial(ctx, t, known)
	if err != nil {
		return nil, nil, err
	}
	conn, err := StartRod(ctx, client, t, p.rods, "linux/amd64")
	if err != nil {
		client.Close()
		return nil, nil, err
	}
	return conn, client, nil
}

// Drop closes a kept connection, after it broke or its host changed.
func (p *Pool) Drop(key string) {
	p.mu.Lock()
	e := p.conns[key]
	delete(p.conns, key)
	p.mu.Unlock()
	if e != nil {
		e.mu.Lock()
		e.close()
		e.mu.Unlock()
	}
}

// Close ends all connections.
func (p *Pool) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, e := range p.conns {
		e.mu.Lock()
		e.close()
		e.mu.Unlock()
	}
	p.conns = map[string]*entry{}
}

func (e *entry) close() {
	if e.conn != nil {
		e.conn.Close()
	}
	if e.client != nil {
		e.client.Close()
	}
	e.conn, e.client = nil, nil
}

// RodDir finds rods in a directory, as files rod-linux-amd64 and so on.
type RodDir struct {
	Dir string

	mu   sync.Mutex
	rods map[string]loadedRod
}

type loadedRod struct {
	program []byte
	hash    string
}

// Rod reads the rod for a platform, once.
func (d *RodDir) Rod(platform string) ([]byte, string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if r, ok := d.rods[platform]; ok {
		return r.program, r.hash, nil
	}
	file := filepath.Join(d.Dir, "rod-"+strings.ReplaceAll(platform, "/", "-"))
	b, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, "", fmt.Errorf("the service has no rod for %s: %s is missing", platform, file)
	}
	if err != nil {
		return nil, "", err
	}
	sum := sha256.Sum256(b)
	if d.rods == nil {
		d.rods = map[string]loadedRod{}
	}
	r := loadedRod{b, hex.EncodeToString(sum[:])[:32]}
	d.rods[platform] = r
	return r.program, r.hash, nil
}
