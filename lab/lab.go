// Package lab makes practice hosts: containers with systemd as process 1, an
// SSH server, sudo and a login user, on addresses of their own. They are real
// Debian systems in all that North Stake touches; only the kernel is shared.
//
// A lab belongs to one directory (its home). Two labs with two homes do not
// share an engine, a network, or a subnet, and can run side by side. What a
// killed process or a restarted machine left behind is found through the home
// and reused or cleaned.
package lab

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/moby/moby/client"
	"golang.org/x/crypto/ssh"
)

// User is the login of every practice host; it may use sudo without a password.
const User = "keeper"

// Lab is a set of practice hosts on one container engine.
type Lab struct {
	home   string
	log    io.Writer
	engine *engine
	cli    *client.Client
	subnet string // "10.x.y", the first three octets of the /24

	first sync.Map // of hosts, their first processes by name
}

// Open starts the lab of the given home directory, or finds it running; long
// parts are reported on log. The caller must be root, because the engine makes
// network interfaces.
func Open(ctx context.Context, home string, log io.Writer) (*Lab, error) {
	if os.Geteuid() != 0 {
		return nil, fmt.Errorf("open lab: practice hosts need a container engine with its own networks, and that needs root; run this as root or through sudo")
	}
	if err := os.MkdirAll(home, 0o755); err != nil {
		return nil, fmt.Errorf("open lab: %w", err)
	}
	l := &Lab{home: home, log: log}
	var err error
	if l.engine, err = startEngine(ctx, home, log); err != nil {
		return nil, err
	}
	l.cli, err = client.New(client.WithHost("unix://"+l.engine.socket), client.WithAPIVersion("1.41"))
	if err != nil {
		return nil, fmt.Errorf("open lab: %w", err)
	}
	if err := l.ensureNetwork(ctx); err != nil {
		return nil, err
	}
	if err := l.ensureKey(); err != nil {
		return nil, err
	}
	return l, nil
}

// Most is how many hosts a lab can have.
const Most = 200

// Address is the IPv4 address of the n-th host (1 to Most).
func (l *Lab) Address(n int) string { return fmt.Sprintf("%s.%d", l.subnet, 10+n) }

// KeyFile is the private SSH key of the login user, in OpenSSH's PEM form.
func (l *Lab) KeyFile() string { return filepath.Join(l.home, "keeper") }

// Socket is where the lab's container engine listens.
func (l *Lab) Socket() string { return l.engine.socket }

func (l *Lab) ensureKey() error {
	if _, err := os.Stat(l.KeyFile()); err == nil {
		return nil
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return fmt.Errorf("make the lab's SSH key: %w", err)
	}
	block, err := ssh.MarshalPrivateKey(private, "lab")
	if err != nil {
		return fmt.Errorf("make the lab's SSH key: %w", err)
	}
	return os.WriteFile(l.KeyFile(), pem.EncodeToMemory(block), 0o600)
}

func (l *Lab) publicKey() ([]byte, error) {
	b, err := os.ReadFile(l.KeyFile())
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(b)
	if err != nil {
		return nil, err
	}
	return ssh.MarshalAuthorizedKey(signer.PublicKey()), nil
}

// Detach leaves the hosts and the engine running.
func (l *Lab) Detach() { l.cli.Close() }

// Close stops and removes the hosts, the network and the engine. The home keeps
// the engine's image store, so that the next Open is quick.
func (l *Lab) Close(ctx context.Context) error {
	hosts, err := l.List(ctx)
	if err != nil {
		return err
	}
	for _, h := range hosts {
		if err := l.Remove(ctx, h); err != nil {
			return err
		}
	}
	if err := l.removeNetwork(ctx); err != nil {
		return err
	}
	l.cli.Close()
	return l.engine.stop()
}

// Clean removes everything a lab with this home has on the machine, whether or
// not its engine still runs.
func Clean(ctx context.Context, home string, log io.Writer) error {
	if _, err := os.Stat(home); err != nil {
		return nil
	}
	if e, err := findEngine(home); err == nil && e != nil {
		cli, err := client.New(client.WithHost("unix://"+e.socket), client.WithAPIVersion("1.41"))
		if err != nil {
			return err
		}
		l := &Lab{home: home, log: log, engine: e, cli: cli}
		if err := l.Close(ctx); err != nil {
			fmt.Fprintf(log, "lab: %v; removing its files all the same\n", err)
		}
	}
	release(home)
	killMonitors(home)
	if err := removeBridge(ctx, home); err != nil {
		return err
	}
	for _, dir := range []string{home, bootDir(home)} {
		if err := unmountBelow(dir); err != nil {
			return err
		}
		if err := os.RemoveAll(dir); err != nil {
			return fmt.Errorf("clean lab: %w", err)
		}
	}
	return nil
}

func waitFor(ctx context.Context, limit time.Duration, what string, ok func() bool) error {
	deadline := time.Now().Add(limit)
	for !ok() {
		if time.Now().After(deadline) {
			return fmt.Errorf("waited %s for %s", limit, what)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// Stop stops the hosts and the engine of a lab and keeps the hosts' disks.
func Stop(ctx context.Context, home string) error {
	e, err := findEngine(home)
	if err != nil {
		return nil // it does not run
	}
	cli, err := client.New(client.WithHost("unix://"+e.socket), client.WithAPIVersion("1.41"))
	if err != nil {
		return err
	}
	defer cli.Close()
	l := &Lab{home: home, log: io.Discard, engine: e, cli: cli}
	hosts, err := l.List(ctx)
	if err != nil {
		return err
	}
	limit := 5
	for _, h := range hosts {
		if _, err := cli.ContainerStop(ctx, h, client.ContainerStopOptions{Timeout: &limit}); err != nil {
			return fmt.Errorf("stop lab host %s: %w", h, err)
		}
	}
	return e.stop()
}

// DropImages removes the machine's images of practice hosts, unless another
// lab's hosts are made from them.
func DropImages() error {
	if others, err := filepath.Glob("/var/tmp/northstake-*/lab/store"); err == nil && len(others) > 0 {
		return nil
	}
	return os.RemoveAll(CacheDir)
}

// Here is the address at which the lab's hosts reach the machine that it is on.
func (l *Lab) Here() string { return l.subnet + ".1" }
