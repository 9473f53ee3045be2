package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"northstake/core/declare"
	"northstake/core/wire"
	"northstake/host/rod"
)

// With an unknown host, and with one whose key has changed, nothing but the key
// exchange happens: no login is tried.
func TestNothingIsSentToAHostThatIsNotTrusted(t *testing.T) {
	signer, key := newKey(t)
	h := startHost(t, signer.PublicKey(), nil)
	ctx := context.Background()
	_, err := Dial(ctx, h.target(key), KnownKeys{Owner: func(string) string { return "" }})
	if kindOf(t, err) != "unknown-key" || !strings.Contains(err.Error(), ssh.FingerprintSHA256(h.key.PublicKey())) {
		t.Errorf("unknown: %v", err)
	}
	other, _ := newKey(t)
	changed := KnownKeys{Own: []HostKey{hostKey(other.PublicKey())}, Owner: func(string) string { return "" }}
	if _, err = Dial(ctx, h.target(key), changed); kindOf(t, err) != "changed-key" || !strings.Contains(err.Error(), "rebuilt") {
		t.Errorf("rebuilt: %v", err)
	}
	changed.Owner = func(f string) string {
		if f == ssh.FingerprintSHA256(h.key.PublicKey()) {
			return "quay2"
		}
		return ""
	}
	if _, err = Dial(ctx, h.target(key), changed); kindOf(t, err) != "changed-key" || !strings.Contains(err.Error(), "known for host quay2") {
		t.Errorf("swapped: %v", err)
	}
	keys, err := HostKeys(ctx, h.target(nil))
	if err != nil || len(keys) != 1 || keys[0].Fingerprint != ssh.FingerprintSHA256(h.key.PublicKey()) {
		t.Errorf("the keys are %+v, %v", keys, err)
	}
	if h.logins.Load() != 0 || h.commands.Load() != 0 {
		t.Errorf("%d logins were tried and %d commands sent", h.logins.Load(), h.commands.Load())
	}
}

type largeRod struct{}

func (largeRod) Rod(string) ([]byte, string, error) { return make([]byte, 8<<20), "0123", nil }

// The sending of a rod may take as long as the line needs; one that stands still is
// given up, and said to be that.
func TestARodIsSentOverASlowLine(t *testing.T) {
	defer func(was time.Duration) { stallLimit = was }(stallLimit)
	stallLimit = time.Second
	signer, key := newKey(t)
	for _, c := range []struct {
		line string
		take func(io.Reader)
	}{
		{"slow", func(r io.Reader) {
			for piece := make([]byte, 1<<20); ; time.Sleep(stallLimit / 4) {
				if _, err := io.ReadFull(r, piece); err != nil {
					return
				}
			}
		}},
		{"still", func(r io.Reader) {
			io.ReadFull(r, make([]byte, 1<<20))
			select {}
		}},
	} {
		h := startHost(t, signer.PublicKey(), func(h *sshHost) { h.take = c.take })
		client, err := Dial(context.Background(), h.target(key), trusted(h))
		if err != nil {
			t.Fatal(err)
		}
		start := time.Now()
		conn, err := StartRod(context.Background(), client, h.target(key), largeRod{}, "linux/amd64")
		if c.line == "slow" {
			if err != nil || time.Since(start) < stallLimit {
				t.Fatalf("over a slow line, after %s: %v", time.Since(start), err)
			}
			conn.Close()
		} else if kindOf(t, err) != "timeout" || !strings.Contains(err.Error(), "nothing has moved") {
			t.Errorf("over a line that stands still: %v", err)
		}
		client.Close()
	}
}

// A kept connection is used again, and made anew once it has broken.
func TestConnectionsAreKept(t *testing.T) {
	signer, key := newKey(t)
	h := startHost(t, signer.PublicKey(), nil)
	pool := NewPool(noRods{})
	defer pool.Close()
	ctx := context.Background()
	first, err := pool.Rod(ctx, "g/quay1", h.target(key), trusted(h))
	if err != nil {
		t.Fatal(err)
	}
	second, err := pool.Rod(ctx, "g/quay1", h.target(key), trusted(h))
	if err != nil || second != first || h.commands.Load() != 1 {
		t.Errorf("a second connection was made: %v", err)
	}
	a, err := first.Survey(ctx, "d", func() ([]wire.Want, error) { return []wire.Want{{Type: "tide", Name: "x", Want: []byte("{}")}}, nil })
	if err == nil && (len(a.Readings) != 1 || !strings.Contains(a.Readings[0].Unread, "tide")) {
		t.Errorf("the rod reads %+v", a.Readings)
	}
	first.Close()
	third, err := pool.Rod(ctx, "g/quay1", h.target(key), trusted(h))
	if err != nil || third == first {
		t.Errorf("a broken connection is kept: %v", err)
	}
	changed := h.target(key)
	changed.SudoPassword = "other"
	h.sudo = "other"
	if fourth, err := pool.Rod(ctx, "g/quay1", changed, trusted(h)); err != nil || fourth == third {
		t.Errorf("a connection that was made by other means is kept: %v", err)
	}
}

// A survey reads anew each time: what came out as before is not sent again and
// comes to the same, what changed is told, and a list of nothing is a list too.
func TestASurveyIsReadAnewEachTime(t *testing.T) {
	user, private := newKey(t)
	var root string
	h := startHost(t, user.PublicKey(), func(h *sshHost) { root = t.TempDir(); h.root = root })
	write := func(path, text string) {
		t.Helper()
		full := filepath.Join(root, path)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("etc/passwd", "root:x:0:0::/root:/bin/sh\n")
	write("etc/group", "root:x:0:\n")
	write("etc/os-release", "ID=debian\nPRETTY_NAME=\"Harbour\"\n")
	write("srv/www/index.html", "tide")
	pool := NewPool(noRods{})
	defer pool.Close()
	conn, err := pool.Rod(context.Background(), "a", h.target(private), trusted(h))
	if err != nil {
		t.Fatal(err)
	}
	survey := func(digest string, wants ...wire.Want) wire.Survey {
		t.Helper()
		s, err := conn.Survey(context.Background(), digest, func() ([]wire.Want, error) { return wants, nil })
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	dir := wire.Want{Type: "directory", Name: "/srv/www", Want: []byte(`{"path":"/srv/www","owner":"root","group":"root","mode":"0755"}`)}
	first, second := survey("one", dir), survey("one", dir)
	if len(first.Readings) != 1 || first.Sum != second.Sum || string(first.Readings[0].Found) != string(second.Readings[0].Found) {
		t.Errorf("%+v, then %+v", first, second)
	}
	if err := os.Chmod(filepath.Join(root, "srv/www"), 0o700); err != nil {
		t.Fatal(err)
	}
	third := survey("one", dir)
	if third.Sum == first.Sum || !strings.Contains(string(third.Readings[0].Found), "0700") {
		t.Errorf("after a change: %s", third.Readings[0].Found)
	}
	for range 2 {
		if none := survey("none"); len(none.Readings) != 0 || none.Traits.System != "Harbour" {
			t.Errorf("of nothing: %+v", none)
		}
	}
}

func TestTroubleWithRootIsToldApart(t *testing.T) {
	signer, key := newKey(t)
	for _, c := range []struct {
		name, said, what string
		status           int
		password         string
	}{
		{"a password is wanted", "sudo: a password is required\n", "has to give a password for sudo", 1, ""},
		{"a wrong password", "Sorry, try again.\n", "does not take the sudo password", 1, "x"},
		{"not allowed", "keeper is not in the sudoers file.\n", "may not use sudo", 1, ""},
		{"no sudo", "sh: 1: sudo: not found\n", "there is no sudo", 127, ""},
		{"something else", "the disk is on fire\n", "the disk is on fire", 3, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			h := startHost(t, signer.PublicKey(), func(h *sshHost) {
				h.say = func(_ io.ReadWriter, errs io.Writer) int { io.WriteString(errs, c.said); return c.status }
			})
			target := h.target(key)
			target.SudoPassword = c.password
			_, _, err := NewPool(noRods{}).Fresh(context.Background(), target, trusted(h))
			if err == nil || !strings.Contains(err.Error(), c.what) {
				t.Errorf("%v", err)
			}
			if strings.Contains(fmt.Sprint(err), "x; correct") && c.password != "" && strings.Contains(err.Error(), sudoPrompt) {
				t.Errorf("the prompt is in the error: %v", err)
			}
		})
	}
}

func TestSudoPasswordIsGivenOnlyWhenAskedFor(t *testing.T) {
	signer, key := newKey(t)
	h := startHost(t, signer.PublicKey(), func(h *sshHost) { h.sudo = "low tide" })
	target := h.target(key)
	target.SudoPassword = "low tide"
	conn, hangUp, err := NewPool(noRods{}).Fresh(context.Background(), target, trusted(h))
	if err != nil {
		t.Fatal(err)
	}
	defer hangUp()
	if !conn.Usable() {
		t.Error("the rod does not answer")
	}
	target.SudoPassword = "ebb"
	if _, _, err := NewPool(noRods{}).Fresh(context.Background(), target, trusted(h)); err == nil || strings.Contains(err.Error(), "ebb") {
		t.Errorf("a wrong password: %v", err)
	}
}

func TestAWrongKeyIsSaid(t *testing.T) {
	signer, _ := newKey(t)
	_, other := newKey(t)
	h := startHost(t, signer.PublicKey(), nil)
	if _, err := Dial(context.Background(), h.target(other), trusted(h)); kindOf(t, err) != "wrong-key" {
		t.Errorf("%v", err)
	}
	if _, err := Dial(context.Background(), h.target([]byte("no key")), trusted(h)); kindOf(t, err) != "wrong-key" {
		t.Errorf("%v", err)
	}
}

func TestAPortWhereNobodyListens(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	_, err = HostKeys(context.Background(), Target{Host: "quay1", Address: "127.0.0.1", Port: port})
	if kindOf(t, err) != "refused" || !strings.Contains(err.Error(), strconv.Itoa(port)) {
		t.Errorf("%v", err)
	}
}

func TestRodsAreNamedByTheirHash(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "rod-linux-amd64"), []byte("a rod"), 0o755); err != nil {
		t.Fatal(err)
	}
	d := &RodDir{Dir: dir}
	b, hash, err := d.Rod("linux/amd64")
	if err != nil || string(b) != "a rod" || len(hash) != 32 {
		t.Errorf("%q %q %v", b, hash, err)
	}
	if _, _, err := d.Rod("linux/riscv64"); err == nil || !strings.Contains(err.Error(), "rod-linux-riscv64") {
		t.Errorf("%v", err)
	}
}

func FuzzGreeting(f *testing.F) {
	f.Add("motd\n" + rod.Greeting + "rest")
	f.Fuzz(func(t *testing.T, s string) {
		r := strings.NewReader(s)
		err := waitGreeting(r)
		left, e := io.ReadAll(r)
		if e != nil {
			t.Fatal(e)
		}
		if err == nil && !strings.HasSuffix(strings.TrimSuffix(s, string(left)), rod.Greeting) {
			t.Fatalf("took %q for a greeting", s)
		}
	})
}

// Everything that a command wrote before it ended is kept, on either stream and
// however much it is.
func TestNothingThatACommandWroteIsLost(t *testing.T) {
	user, _ := newKey(t)
	const lines = 3000
	h := startHost(t, user.PublicKey(), func(h *sshHost) {
		h.say = func(w io.ReadWriter, errs io.Writer) int {
			for i := range lines {
				fmt.Fprintf(w, "out %d\n", i)
				fmt.Fprintf(errs, "err %d\n", i)
			}
			return 3
		}
	})
	client, err := ssh.Dial("tcp", net.JoinHostPort(h.address, strconv.Itoa(h.port)), &ssh.ClientConfig{
		User: "keeper", Auth: []ssh.AuthMethod{ssh.PublicKeys(user)}, HostKeyCallback: ssh.FixedHostKey(h.key.PublicKey())})
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	out, err := runPlain(context.Background(), client, h.target(nil), "anything", nil)
	var status *ssh.ExitError
	if !errors.As(err, &status) || status.ExitStatus() != 3 {
		t.Fatalf("ended with %v", err)
	}
	for i := range lines {
		for _, stream := range []string{"out", "err"} {
			if !strings.Contains(out, fmt.Sprintf("%s %d\n", stream, i)) {
				t.Fatalf("line %d of %s is lost, of %d bytes", i, stream, len(out))
			}
		}
	}
}

// A password for sudo goes to sudo where that asks, and into the rod that is sent never.
func TestAPasswordGoesNowhereElse(t *testing.T) {
	user, key := newKey(t)
	for _, asks := range []bool{true, false} {
		var sent []byte
		h := startHost(t, user.PublicKey(), func(h *sshHost) {
			h.asks = asks
			h.take = func(r io.Reader) { sent, _ = io.ReadAll(r) }
		})
		target := h.target(key)
		target.SudoPassword = "low tide"
		client, err := Dial(context.Background(), target, trusted(h))
		if err != nil {
			t.Fatal(err)
		}
		conn, err := StartRod(context.Background(), client, target, noRods{}, "linux/amd64")
		if err != nil {
			t.Fatal(err)
		}
		conn.Close()
		client.Close()
		if string(sent) != "program" || h.given != map[bool]string{true: "low tide\n"}[asks] {
			t.Errorf("asks %t: it was sent %q, and given %q", asks, sent, h.given)
		}
	}
}

// A wrong password for sudo is told as such, although sudo asks again and waits (H10).
func TestAWrongPasswordIsToldAtOnce(t *testing.T) {
	user, key := newKey(t)
	h := startHost(t, user.PublicKey(), func(h *sshHost) { h.sudo = "low tide" })
	target := h.target(key)
	target.SudoPassword = "high tide"
	limited, cancel := context.WithTimeout(context.Background(), rodLimit/2)
	defer cancel()
	if _, err := NewPool(noRods{}).Rod(limited, "g/quay1", target, trusted(h)); kindOf(t, err) != "no-sudo" || !strings.Contains(err.Error(), "does not take the sudo password") {
		t.Errorf("it is told %v", err)
	}
}

// A rod that ends while it is spoken to is told with what it said last, and how it ended.
func TestTheLastWordsOfARodAreTold(t *testing.T) {
	user, key := newKey(t)
	h := startHost(t, user.PublicKey(), func(h *sshHost) {
		h.sudo, h.say = "low tide", func(ch io.ReadWriter, errs io.Writer) int {
			fmt.Fprint(errs, sudoPrompt)
			line(ch)
			fmt.Fprint(ch, rod.Greeting)
			io.ReadFull(ch, make([]byte, 24)) // it is spoken to
			fmt.Fprint(errs, "fatal error: out of memory\n")
			return 2
		}
	})
	target := h.target(key)
	target.SudoPassword = "low tide"
	conn, err := NewPool(noRods{}).Rod(context.Background(), "g/quay1", target, trusted(h))
	if err == nil {
		_, err = conn.Traits(context.Background())
	}
	if err == nil || !strings.Contains(err.Error(), "the rod ended with status 2: fatal error: out of memory") {
		t.Errorf("it is told: %v", err)
	}
}

// A rod that ends as soon as it has greeted is told so too, whether it was spoken to by then or not; where it
// was not, the next try may go better.
func TestARodThatEndsAsItGreets(t *testing.T) {
	user, key := newKey(t)
	h := startHost(t, user.PublicKey(), func(h *sshHost) {
		h.say = func(ch io.ReadWriter, errs io.Writer) int {
			fmt.Fprint(errs, "low tide\n")
			fmt.Fprint(ch, rod.Greeting)
			return 3
		}
	})
	for try := 0; ; try++ {
		conn, end, err := NewPool(noRods{}).Fresh(context.Background(), h.target(key), trusted(h))
		early := err != nil
		if !early {
			_, err = conn.Traits(context.Background())
			end()
		}
		if err == nil || !strings.Contains(err.Error(), "the rod ended with status 3") {
			t.Fatalf("it is told: %v", err)
		}
		var trouble *Trouble
		if early && (!errors.As(err, &trouble) || trouble.Kind != BrokeOff || !trouble.Passing()) {
			t.Fatalf("it is no passing trouble: %#v", err)
		}
		if early {
			return
		}
		if try == 2000 {
			t.Fatal("it was always spoken to before it had ended")
		}
	}
}

// A host that lets in and then says nothing costs as long as is waited for it, and who waits behind
// that no longer than they may.
func TestAHostThatLetsInAndIsSilent(t *testing.T) {
	user, key := newKey(t)
	for _, mute := range []string{"session", "command"} {
		h := startHost(t, user.PublicKey(), func(h *sshHost) { h.mute = mute })
		pool := NewPool(noRods{})
		long, end := context.WithCancel(context.Background())
		first := make(chan error, 1)
		go func() {
			_, err := pool.Rod(long, "g/quay1", h.target(key), trusted(h))
			first <- err
		}()
		for h.logins.Load() == 0 {
			time.Sleep(time.Millisecond)
		}
		short, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
		if _, err := pool.Rod(short, "g/quay1", h.target(key), trusted(h)); kindOf(t, err) != "timeout" || !strings.Contains(err.Error(), "waited for by another") {
			t.Errorf("%s: who waits behind is told %v", mute, err)
		}
		cancel()
		end()
		if err := <-first; kindOf(t, err) != "timeout" || !strings.Contains(err.Error(), "says nothing") {
			t.Errorf("%s: who waits is told %v", mute, err)
		}
	}
}

// Where the kept line to an engine's host turns out to be broken as a container is entered, the way there is
// gone once more, over a new line.
func TestABrokenLineToAnEngineIsMadeAnew(t *testing.T) {
	const host, container = "test-host", "test-container"
	var lines []net.Conn
	line := func() (*rod.Conn, func(), error) {
		ours, theirs := net.Pipe()
		lines = append(lines, theirs)
		go io.Copy(io.Discard, theirs)
		conn, err := rod.NewConn(ours)
		return conn, func() { theirs.Close() }, err
	}
	entered, breaks := 0, 1
	Register(host, Transport{Start: func(context.Context, Target, KnownKeys, Rods) (*rod.Conn, func(), error) { return line() }})
	Register(container, Transport{Within: func(_ context.Context, engine *rod.Conn, _ Target) (*rod.Conn, func(), error) {
		entered++
		if entered > breaks {
			return line()
		}
		lines[len(lines)-1].Close()
		for engine.Usable() {
			time.Sleep(time.Millisecond)
		}
		return nil, nil, io.ErrUnexpectedEOF
	}})
	defer delete(transports, host)
	defer delete(transports, container)
	for breaks = range 3 {
		entered, lines = 0, nil
		pool := NewPool(noRods{})
		_, err := pool.Rod(context.Background(), "g/berth", Target{Host: "berth", Via: container, Container: "berth", Through: &Through{Key: "g/quay", Target: Target{Host: "quay", Via: host}}}, KnownKeys{})
		if (err == nil) != (breaks < 2) || entered != min(breaks+1, 2) {
			t.Errorf("of %d broken lines: %v, and the container was entered %d times", breaks, err, entered)
		}
		pool.Close()
	}
}

// Each way says here how it is gone, and in core/declare what it needs to be declared.
func TestEveryWayCanBeDeclared(t *testing.T) {
	if declared := slices.Sorted(maps.Keys(declare.Transports)); !slices.Equal(declared, Transports()) {
		t.Errorf("%v can be declared, and %v can be gone", declared, Transports())
	}
	for name := range declare.Transports {
		w, err := TransportOf(name)
		if err != nil || (w.Start == nil) == (w.Within == nil) {
			t.Errorf("%s cannot be gone: %v", name, err)
		}
		if w.Trusts != declare.Transports[name].Login {
			t.Errorf("%s: a login is declared for hosts that show keys, and for no others", name)
		}
	}
	if _, err := TransportOf("boat"); err == nil || !strings.Contains(err.Error(), "container, service-machine, ssh") {
		t.Errorf("a way that is none: %v", err)
	}
}
