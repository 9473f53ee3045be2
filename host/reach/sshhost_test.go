package reach

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"testing"

	"golang.org/x/crypto/ssh"

	"northstake/host/rod"
	"northstake/host/system"
	"northstake/host/work"
)

// sshHost is an SSH server in this process that starts a rod, as a host would
// whose rod is there.
type sshHost struct {
	key      ssh.Signer
	address  string
	port     int
	logins   atomic.Int32
	commands atomic.Int32
	sudo     string                                     // the password that sudo asks for, "" for none
	say      func(ch io.ReadWriter, errs io.Writer) int // instead of the rod
	take     func(r io.Reader)                          // reads a rod that is sent; without it the rod is there
	asks     bool                                       // for a password before it takes a rod
	given    string                                     // what it was given then
	mute     string                                     // "session" or "command": what it never answers
	root     string                                     // the folder that the rod takes for the machine
}

func newKey(t *testing.T) (ssh.Signer, []byte) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	return signer, pem.EncodeToMemory(block)
}

func startHost(t *testing.T, user ssh.PublicKey, change func(*sshHost)) *sshHost {
	t.Helper()
	h := &sshHost{}
	h.key, _ = newKey(t)
	if change != nil {
		change(h)
	}
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		h.logins.Add(1)
		if string(key.Marshal()) != string(user.Marshal()) {
			return nil, errors.New("not this key")
		}
		return nil, nil
	}}
	config.AddHostKey(h.key)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	h.address, h.port = "127.0.0.1", l.Addr().(*net.TCPAddr).Port
	root := h.root
	if root == "" {
		root = t.TempDir()
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go h.serve(c, config, root)
		}
	}()
	return h
}

func (h *sshHost) serve(c net.Conn, config *ssh.ServerConfig, root string) {
	_, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		c.Close()
		return
	}
	go ssh.DiscardRequests(requests)
	for n := range channels {
		if h.mute == "session" {
			continue
		}
		ch, reqs, err := n.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range reqs {
				if r.Type != "exec" {
					continue
				}
				if h.mute == "command" {
					continue
				}
				h.commands.Add(1)
				r.Reply(true, nil)
				status := h.run(ch, root)
				ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
				ch.Close()
			}
		}()
	}
}

func (h *sshHost) run(ch ssh.Channel, root string) int {
	if h.say != nil {
		return h.say(ch, ch.Stderr())
	}
	if h.take != nil {
		switch h.commands.Load() {
		case 1:
			return missingStatus
		case 2:
			fmt.Fprintln(ch, "Linux x86_64")
			return 0
		case 3:
			if h.asks {
				fmt.Fprint(ch.Stderr(), sudoPrompt)
				h.given = line(ch)
			}
			fmt.Fprint(ch, ready)
			h.take(ch)
			return 0
		}
	}
	if h.sudo != "" {
		fmt.Fprint(ch.Stderr(), sudoPrompt)
		if line(ch) != h.sudo+"\n" { // it asks again, three times in all
			for range 2 {
				fmt.Fprint(ch.Stderr(), "Sorry, try again.\n"+sudoPrompt)
				if line(ch) == "" {
					fmt.Fprint(ch.Stderr(), "\nsudo: no password was provided\nsudo: 1 incorrect password attempt\n")
					return 1
				}
			}
			fmt.Fprint(ch.Stderr(), "sudo: 3 incorrect password attempts\n")
			return 1
		}
	}
	fmt.Fprint(ch, "Welcome to quay1, tide is rising\n"+rod.Greeting)
	work.NewServer(&work.Host{Machine: &system.Machine{Root: root, StateDir: "/state", Run: system.Command}}).ServeConn(&stdio{in: ch, out: ch, end: ch.Close})
	return 0
}

// line is the next line, and no byte more.
func line(r io.Reader) string {
	given, one := "", make([]byte, 1)
	for !strings.HasSuffix(given, "\n") {
		if _, err := io.ReadFull(r, one); err != nil {
			break
		}
		given += string(one)
	}
	return given
}

type noRods struct{}

func (noRods) Rod(string) ([]byte, string, error) { return []byte("program"), "0123", nil }

func (h *sshHost) target(key []byte) Target {
	return Target{Host: "quay1", Address: h.address, Port: h.port, User: "keeper", Key: key, Sudo: true, Via: "ssh"}
}

func trusted(h *sshHost) KnownKeys {
	return KnownKeys{Own: []HostKey{hostKey(h.key.PublicKey())}, Owner: func(string) string { return "" }}
}

func kindOf(t *testing.T, err error) string {
	t.Helper()
	var trouble *Trouble
	if !errors.As(err, &trouble) {
		t.Fatalf("no trouble of ours: %v", err)
	}
	if trouble.Fix == "" {
		t.Errorf("%q does not say what to do", trouble.What)
	}
	return trouble.Kind
}
