package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"northstake/host/rod"
)

// SSH: a host shows its key, and each new connection comes over the network.
var _ = Register("ssh", Transport{Trusts: true, Proves: true, Start: func(ctx context.Context, t Target, known KnownKeys, rods Rods) (*rod.Conn, func(), error) {
	client, err := Dial(ctx, t, known)
	if err != nil {
		return nil, nil, err
	}
	conn, err := StartRod(ctx, client, t, rods, "linux/amd64")
	if err != nil {
		client.Close()
		return nil, nil, err
	}
	return conn, func() { client.Close() }, nil
}})

// Limits of the parts of getting to a host.
const (
	dialLimit = 8 * time.Second
	authLimit = 20 * time.Second
	rodLimit  = 30 * time.Second // for the rod to start
)

// stallLimit is how long nothing may be taken of the rod while it is sent. The sending
// as a whole has no limit. What is taken last, about 2 MB, is on its way unseen, so a
// line has to carry some 20 KB in a second.
var stallLimit = 2 * time.Minute

// handshake connects and logs in.
func handshake(ctx context.Context, t Target, config *ssh.ClientConfig) (*ssh.Client, error) {
	dialer := net.Dialer{Timeout: dialLimit}
	raw, err := dialer.DialContext(ctx, "tcp", t.addr())
	if err != nil {
		return nil, dialTrouble(t, err)
	}
	if tcp, ok := raw.(*net.TCPConn); ok {
		if err := tcp.SetNoDelay(true); err != nil {
			raw.Close()
			return nil, err
		}
	}
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	if err := raw.SetDeadline(time.Now().Add(authLimit)); err != nil {
		raw.Close()
		return nil, err
	}
	conn, channels, requests, err := ssh.NewClientConn(raw, t.addr(), config)
	if err != nil {
		raw.Close()
		return nil, loginTrouble(t, err)
	}
	if err := raw.SetDeadline(time.Time{}); err != nil {
		raw.Close()
		return nil, err
	}
	return ssh.NewClient(conn, channels, requests), nil
}

func dialTrouble(t Target, err error) error {
	s := err.Error()
	out := &Trouble{Kind: "other", What: fmt.Sprintf("host %s cannot be reached at %s: %s", t.Host, t.addr(), s), err: err}
	var timeout net.Error
	switch {
	case strings.Contains(s, "connection refused"):
		out.Kind, out.What = "refused", fmt.Sprintf("host %s refuses connections at %s", t.Host, t.addr())
		out.Fix = "check that its SSH server runs and listens on that port"
	case strings.Contains(s, "no route to host"), strings.Contains(s, "network is unreachable"):
		out.Kind, out.What = "no-route", fmt.Sprintf("there is no route to host %s at %s", t.Host, t.Address)
		out.Fix = "check the address, and that the host is up"
	case strings.Contains(s, "no such host"):
		out.Kind, out.What = "no-route", fmt.Sprintf("the name %s of host %s is not known to DNS", t.Address, t.Host)
		out.Fix = "check the address in the declaration"
	case errors.As(err, &timeout) && timeout.Timeout():
		out.Kind, out.What = NoAnswer, fmt.Sprintf("host %s has not answered at %s in %s", t.Host, t.addr(), dialLimit)
		out.Fix = "check the address, and whether a firewall drops the connection"
	}
	return out
}

func loginTrouble(t Target, err error) error {
	var trouble *Trouble
	if errors.As(err, &trouble) {
		return trouble
	}
	s := err.Error()
	out := &Trouble{Kind: "other", What: fmt.Sprintf("host %s broke the connection off before login: %s", t.Host, s), err: err}
	switch {
	case errors.Is(err, errSeen):
		return err
	case strings.Contains(s, "unable to authenticate"):
		how := "the key"
		if t.Key == nil {
			how = "the password"
		}
		out.Kind, out.What = "wrong-key", fmt.Sprintf("host %s does not let user %s in with %s it was given", t.Host, t.User, how)
		out.Fix = "check user and key in [reach], and that the public key is among the user's authorized keys"
	case strings.HasSuffix(s, "EOF"), strings.Contains(s, "connection reset"):
		out.What = fmt.Sprintf("host %s closes the connection while user %s logs in", t.Host, t.User)
		out.Fix = "look on the host whether the account has expired or is locked (chage -l), whether /etc/nologin is there, and what its SSH server has logged"
	case strings.Contains(s, "i/o timeout"), strings.Contains(s, "use of closed"):
		out.Kind, out.What = NoAnswer, fmt.Sprintf("host %s at %s takes connections and does not answer as an SSH server in %s", t.Host, t.addr(), authLimit)
		out.Fix = "check that an SSH server is on that port, and the host's load"
	}
	return out
}

// Dial logs in to a host. The connection is closed when ctx ends before the
// login does.
func Dial(ctx context.Context, t Target, known KnownKeys) (*ssh.Client, error) {
	config := &ssh.ClientConfig{User: t.User, Timeout: dialLimit, HostKeyCallback: known.check(t)}
	if len(known.Authorities) > 0 {
		config.HostKeyAlgorithms = append(config.HostKeyAlgorithms, certTypes...)
	}
	if len(known.Own) == 0 {
		config.HostKeyAlgorithms = append(config.HostKeyAlgorithms, keyTypes...)
	}
	for _, k := range known.Own {
		config.HostKeyAlgorithms = append(config.HostKeyAlgorithms, algorithmsFor(k.Type)...)
	}
	if t.Key != nil {
		signer, err := ssh.ParsePrivateKey(t.Key)
		if err != nil {
			return nil, &Trouble{Kind: "wrong-key", What: fmt.Sprintf("the key for host %s is not a private SSH key, or is locked with a passphrase", t.Host),
				Fix: "give northstake secret keep an unlocked private key in PEM form"}
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(signer))
	}
	if t.Password != "" {
		config.Auth = append(config.Auth, ssh.Password(t.Password), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = t.Password
			}
			return answers, nil
		}))
	}
	return handshake(ctx, t, config)
}
