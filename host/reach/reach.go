// Package reach gets to hosts: over SSH it logs in, becomes root, puts the rod
// there when it is not there yet, and speaks to it. Nothing but the key
// exchange happens with a host whose key is not known.
package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"northstake/host/rod"
)

// Target is a host and how to log in to it. The secrets are values, not names.
type Target struct {
	Host         string
	Address      string
	Port         int
	User         string
	Key          []byte // private key in PEM, nil for none
	Password     string
	Sudo         bool
	SudoPassword string
	Local        bool // the machine that the service runs on, reached without SSH
}

func (t Target) addr() string { return net.JoinHostPort(t.Address, strconv.Itoa(t.Port)) }

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

// Trouble is why a host could not be reached: what happened and what to do.
// Kind tells the cases apart for programs.
type Trouble struct {
	Kind string // no-route, refused, timeout, unknown-key, changed-key, wrong-key, no-sudo, other
	What string
	Fix  string
	err  error
}

func (t *Trouble) Error() string {
	if t.Fix == "" {
		return t.What
	}
	return t.What + "; " + t.Fix
}

func (t *Trouble) Unwrap() error { return t.err }

// HostKey is a host's public key. Fingerprint is the SHA-256 form that OpenSSH
// prints (ssh-keygen(1), -l); Key is in the form of an authorized_keys line.
type HostKey struct {
	Type        string `json:"type"`
	Fingerprint string `json:"fingerprint"`
	Key         string `json:"key"`
}

func hostKey(k ssh.PublicKey) HostKey {
	return HostKey{k.Type(), ssh.FingerprintSHA256(k), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k)))}
}

// KnownKeys says which keys are trusted: those of the host itself, certificates of
// authorities, whose public keys are given as authorized_keys lines, and, to explain
// a change, whose key an offered one is.
type KnownKeys struct {
	Own         []HostKey
	Authorities []string
	Owner       func(fingerprint string) string
}

// certified checks a host's certificate: an authority that is trusted has signed it
// for the host's name or address, and it is in force.
func (k KnownKeys) certified(t Target, cert *ssh.Certificate) error {
	checker := &ssh.CertChecker{IsHostAuthority: func(auth ssh.PublicKey, _ string) bool {
		for _, line := range k.Authorities {
			if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil && bytes.Equal(key.Marshal(), auth.Marshal()) {
				return true
			}
		}
		return false
	}}
	for _, own := range k.Own {
		if own.Fingerprint == ssh.FingerprintSHA256(cert.Key) {
			return nil // the key itself is trusted
		}
	}
	var err error
	for _, name := range []string{t.Host, t.Address} {
		if err = checker.CheckHostKey(net.JoinHostPort(name, strconv.Itoa(t.Port)), nil, cert); err == nil {
			return nil
		}
	}
	return &Trouble{Kind: "unknown-key", What: fmt.Sprintf("host %s shows a certificate that is not accepted: %v", t.Host, err), err: err,
		Fix: fmt.Sprintf("have the authority sign its key for %s or %s, or trust the key itself with northstake trust %s; nothing was sent", t.Host, t.Address, t.Host)}
}

func (k KnownKeys) check(t Target) ssh.HostKeyCallback {
	return func(_ string, _ net.Addr, key ssh.PublicKey) error {
		if cert, ok := key.(*ssh.Certificate); ok {
			return k.certified(t, cert)
		}
		offered := hostKey(key)
		if len(k.Own) == 0 {
			return &Trouble{Kind: "unknown-key", What: fmt.Sprintf("the key of host %s is not known: it offers %s %s", t.Host, offered.Type, offered.Fingerprint),
				Fix: fmt.Sprintf("compare it with what the host's owner says, then run northstake trust %s", t.Host)}
		}
		for _, own := range k.Own {
			if own.Key == offered.Key {
				return nil
			}
		}
		if other := k.Owner(offered.Fingerprint); other != "" && other != t.Host {
			return &Trouble{Kind: "changed-key", What: fmt.Sprintf("the key that %s offers at %s is the one known for host %s: the two addresses look swapped", t.Host, t.Address, other),
				Fix: fmt.Sprintf("nothing was sent; northstake addresses corrects those of %s and %s in the declaration", t.Host, other)}
		}
		return &Trouble{Kind: "changed-key", What: fmt.Sprintf("the key of host %s has changed to %s %s: the host was rebuilt, or another machine answers at %s", t.Host, offered.Type, offered.Fingerprint, t.Address),
			Fix: fmt.Sprintf("if it was rebuilt, run northstake trust %s and compare the fingerprint; nothing was sent", t.Host)}
	}
}

var errSeen = errors.New("key seen")

// keyTypes are asked for one by one to learn all of a host's keys.
var keyTypes = []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA256}

// certTypes are the kinds of host certificates that are accepted.
var certTypes = []string{ssh.CertAlgoED25519v01, ssh.CertAlgoECDSA256v01, ssh.CertAlgoECDSA384v01, ssh.CertAlgoECDSA521v01, ssh.CertAlgoRSASHA512v01, ssh.CertAlgoRSASHA256v01}

// HostKeys asks a host for its public keys. Nothing but the key exchange
// happens.
func HostKeys(ctx context.Context, t Target) ([]HostKey, error) {
	var out []HostKey
	for _, algorithm := range keyTypes {
		var seen *HostKey
		config := &ssh.ClientConfig{User: "nobody", Timeout: dialLimit, HostKeyAlgorithms: []string{algorithm},
			HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
				k := hostKey(key)
				seen = &k
				return errSeen
			}}
		c, err := handshake(ctx, t, config)
		if err == nil {
			c.Close()
		}
		if seen != nil {
			out = append(out, *seen)
			continue
		}
		var trouble *Trouble
		if errors.As(err, &trouble) && (trouble.Kind == "no-route" || trouble.Kind == "refused" || trouble.Kind == "timeout") {
			return nil, err
		}
	}
	if len(out) == 0 {
		return nil, &Trouble{Kind: "other", What: fmt.Sprintf("host %s offers no key of a kind that North Stake knows", t.Host), Fix: "give its SSH server an ed25519 key"}
	}
	return out, nil
}

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
		out.Kind, out.What = "timeout", fmt.Sprintf("host %s has not answered at %s in %s", t.Host, t.addr(), dialLimit)
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
	case strings.Contains(s, "i/o timeout"), strings.Contains(s, "use of closed"):
		out.Kind, out.What = "timeout", fmt.Sprintf("host %s at %s takes connections and does not answer as an SSH server in %s", t.Host, t.addr(), authLimit)
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

func algorithmsFor(keyType string) []string {
	if keyType == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{keyType}
}

// Rods finds the rod program for a kind of machine, such as "linux/amd64".
type Rods interface {
	// Rod returns the program and the hash it is named by.
	Rod(platform string) (program []byte, hash string, err error)
}

// StartRod starts the rod on a host that was logged in to, and sends it there
// first when it is missing. It first tries the kind of machine in guess.
func StartRod(ctx context.Context, client *ssh.Client, t Target, rods Rods, guess string) (*rod.Conn, error) {
	_, hash, err := rods.Rod(guess)
	if err != nil {
		return nil, err
	}
	conn, err := startOnce(ctx, client, t, hash)
	if !errors.Is(err, errNoRod) {
		return conn, err
	}
	out, err := runPlain(ctx, client, "uname -sm", nil)
	if err != nil {
		return nil, &Trouble{Kind: "other", What: fmt.Sprintf("host %s cannot say what machine it is: %v", t.Host, err), err: err}
	}
	platform := platformOf(out)
	if platform == "" {
		return nil, &Trouble{Kind: "other", What: fmt.Sprintf("host %s is %q, and there is no rod for that", t.Host, strings.TrimSpace(out)), Fix: "North Stake knows Linux on x86_64 and aarch64"}
	}
	program, hash, err := rods.Rod(platform)
	if err != nil {
		return nil, err
	}
	if err := sendRod(ctx, client, t, program, hash); err != nil {
		return nil, err
	}
	conn, err = startOnce(ctx, client, t, hash)
	if errors.Is(err, errNoRod) {
		return nil, &Trouble{Kind: "other", What: fmt.Sprintf("the rod was sent to host %s and cannot be started there", t.Host), Fix: "check that /var/lib is on a file system from which programs may run"}
	}
	return conn, err
}

func platformOf(uname string) string {
	return map[string]string{"Linux x86_64": "linux/amd64", "Linux aarch64": "linux/arm64"}[strings.TrimSpace(uname)]
}

var errNoRod = errors.New("the rod is not there")

// rodPath is where the rod lies on a host, in the words of its shell.
func rodPath(t Target, hash string) string {
	if t.Sudo || t.User == "root" {
		return "/var/lib/northstake/rod/" + hash
	}
	return `"$HOME"/.cache/northstake/rod/` + hash
}

// asRoot is the command that runs the rest as root. The prompt is told apart
// from whatever else is printed; a password that sudo remembers is not used, so
// that it always asks or never does.
func asRoot(t Target) string {
	switch {
	case !t.Sudo || t.User == "root":
		return ""
	case t.SudoPassword == "":
		return "sudo -n -- "
	}
	return "sudo -k -S -p '" + sudoPrompt + "' -- "
}

const sudoPrompt = "northstake-sudo-password:"

// missingStatus is the exit status that says the rod is not there.
const missingStatus = 97

func startOnce(ctx context.Context, client *ssh.Client, t Target, hash string) (*rod.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, rodLimit)
	defer cancel()
	session, err := client.NewSession()
	if err != nil {
		return nil, &Trouble{Kind: "other", What: fmt.Sprintf("host %s opens no session: %v", t.Host, err), err: err}
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	errs := &promptWatch{answer: func() { io.WriteString(in, t.SudoPassword+"\n") }, want: t.SudoPassword != ""}
	session.Stderr = errs
	path := rodPath(t, hash)
	state := "/var/lib/northstake"
	if !t.Sudo && t.User != "root" {
		state = `"$HOME"/.cache/northstake`
	}
	// Root's own shell looks for the rod: the login user may not enter the directory.
	script := fmt.Sprintf(`test -x %s || exit %d; exec %s serve --state %s --ssh "$1"`, path, missingStatus, path, state)
	command := fmt.Sprintf(`%ssh -c '%s' rod "$SSH_CONNECTION"`, asRoot(t), script)
	if err := session.Start(command); err != nil {
		return nil, &Trouble{Kind: "other", What: fmt.Sprintf("host %s starts no command: %v", t.Host, err), err: err}
	}
	greeted := make(chan error, 1)
	go func() { greeted <- waitGreeting(out) }()
	select {
	case err = <-greeted:
	case <-ctx.Done():
		session.Close()
		return nil, &Trouble{Kind: "timeout", What: fmt.Sprintf("the rod on host %s has not greeted in %s", t.Host, rodLimit), Fix: "check the host's load", err: ctx.Err()}
	}
	if err == nil {
		return rod.NewConn(&stdio{in, out, session.Close})
	}
	wait := session.Wait()
	var exit *ssh.ExitError
	if errors.As(wait, &exit) && exit.ExitStatus() == missingStatus {
		return nil, errNoRod
	}
	return nil, rootTrouble(t, errs.String(), wait)
}

func rootTrouble(t Target, said string, err error) error {
	said = strings.TrimSpace(strings.ReplaceAll(said, sudoPrompt, ""))
	out := &Trouble{Kind: "no-sudo", err: err}
	switch {
	case strings.Contains(said, "password is required"), strings.Contains(said, "no password was provided"):
		out.What = fmt.Sprintf("user %s on host %s has to give a password for sudo, and none was given", t.User, t.Host)
		out.Fix = "keep it with northstake secret keep, and name it as sudo_password in [reach], or write sudo_password = \"ask\""
	case strings.Contains(said, "Sorry, try again"), strings.Contains(said, "incorrect password"):
		out.What = fmt.Sprintf("host %s does not take the sudo password it was given for user %s", t.Host, t.User)
		out.Fix = "correct the secret"
	case strings.Contains(said, "not in the sudoers"), strings.Contains(said, "is not allowed to"), strings.Contains(said, "may not run sudo"):
		out.What = fmt.Sprintf("user %s may not use sudo on host %s", t.User, t.Host)
		out.Fix = "let the user use sudo there, or name another user in [reach]"
	case strings.Contains(said, "sudo: not found"), strings.Contains(said, "sudo: command not found"):
		out.What = fmt.Sprintf("there is no sudo on host %s", t.Host)
		out.Fix = "install it there, or log in as root"
	default:
		out.Kind = "other"
		out.What = fmt.Sprintf("the rod did not start on host %s: %s", t.Host, said)
		if said == "" {
			out.What = fmt.Sprintf("the rod did not start on host %s: %v", t.Host, err)
		}
	}
	return out
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

// sendRod puts the rod on a host: under another name first, checked, then
// renamed. What is cut off leaves nothing behind.
func sendRod(ctx context.Context, client *ssh.Client, t Target, program []byte, hash string) error {
	path := rodPath(t, hash)
	script := fmt.Sprintf(`umask 077; d=$(dirname %s); p="$d/part.$$"; mkdir -p "$d" && cat > "$p" && [ "$(sha256sum < "$p" | cut -c1-%d)" = %s ] && chmod 700 "$p" && mv "$p" %s || { s=$?; rm -f "$p"; exit $s; }`,
		path, len(hash), hash, path)
	input := program
	if t.Sudo && t.SudoPassword != "" && t.User != "root" {
		input = append([]byte(t.SudoPassword+"\n"), program...)
	}
	out, err := runPlain(ctx, client, asRoot(t)+"sh -c '"+script+"'", input)
	switch {
	case errors.Is(err, errStalled):
		return &Trouble{Kind: "timeout", What: fmt.Sprintf("the rod was being sent to host %s, and nothing has moved for %s", t.Host, stallLimit), Fix: "check the line to the host, and its load", err: err}
	case err != nil:
		return rootTrouble(t, out, err)
	}
	return nil
}

var errStalled = errors.New("nothing moves")

// runPlain runs a command and returns what it printed. When nothing has moved for
// stallLimit it gives the connection up: a host that hangs does not end a session.
func runPlain(ctx context.Context, client *ssh.Client, command string, in []byte) (string, error) {
	session, err := client.NewSession()
	if err != nil {
		return "", err
	}
	defer session.Close()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stalled := time.AfterFunc(stallLimit, func() { cancel(errStalled) })
	defer stalled.Stop()
	defer context.AfterFunc(ctx, func() { client.Close() })()
	session.Stdin = &movement{r: bytes.NewReader(in), moved: func() { stalled.Reset(stallLimit) }}
	out, err := session.CombinedOutput(command)
	if err != nil && ctx.Err() != nil {
		return "", context.Cause(ctx)
	}
	return string(out), err
}

// movement is a reader that tells when something is taken from it. It has no other
// method, so that what is read is not handed over whole.
type movement struct {
	r     io.Reader
	moved func()
}

func (m *movement) Read(b []byte) (int, error) {
	m.moved()
	return m.r.Read(b)
}

// promptWatch answers sudo's prompt for a password once and keeps the rest. It
// has no other methods of a buffer, so that nothing is copied past Write.
type promptWatch struct {
	mu     sync.Mutex
	text   []byte
	answer func()
	want   bool
}

func (p *promptWatch) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.text) < 64<<10 {
		p.text = append(p.text, b...)
	}
	if p.want && bytes.Contains(p.text, []byte(sudoPrompt)) {
		p.want = false
		p.answer()
	}
	return len(b), nil
}

func (p *promptWatch) String() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return string(p.text)
}

// stdio is the standard input and output of a rod as a connection.
type stdio struct {
	in  io.WriteCloser
	out io.Reader
	end func() error // lets go of what runs the rod
}

func (c *stdio) Read(b []byte) (int, error)  { return c.out.Read(b) }
func (c *stdio) Write(b []byte) (int, error) { return c.in.Write(b) }

// Close ends the rod by ending its input.
func (c *stdio) Close() error {
	c.in.Close()
	return c.end()
}

func (c *stdio) LocalAddr() net.Addr              { return stdioAddr{} }
func (c *stdio) RemoteAddr() net.Addr             { return stdioAddr{} }
func (c *stdio) SetDeadline(time.Time) error      { return nil }
func (c *stdio) SetReadDeadline(time.Time) error  { return nil }
func (c *stdio) SetWriteDeadline(time.Time) error { return nil }

type stdioAddr struct{}

func (stdioAddr) Network() string { return "stdio" }
func (stdioAddr) String() string  { return "rod" }
