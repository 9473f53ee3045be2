package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"northstake/host/rod"
)

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
	out, err := runPlain(ctx, client, t, "uname -sm", nil)
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

var errNoRod = errors.New("the rod is not there")

// rodPath is where the rod lies on a host, in the words of its shell.
func rodPath(t Target, hash string) string {
	if t.Sudo || t.User == "root" {
		return "/var/lib/northstake/rod/" + hash
	}
	return `"$HOME"/.cache/northstake/rod/` + hash
}

// missingStatus is the exit status that says the rod is not there.
const missingStatus = 97

func startOnce(ctx context.Context, client *ssh.Client, t Target, hash string) (*rod.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, rodLimit)
	defer cancel()
	// A host that lets in and then says nothing ends with its connection.
	stop := context.AfterFunc(ctx, func() { client.Close() })
	defer stop()
	failed := func(words string, err error) error {
		if ctx.Err() != nil {
			return &Trouble{Kind: "timeout", What: fmt.Sprintf("host %s lets user %s in, and then says nothing for %s", t.Host, t.User, rodLimit), Fix: "check the host's load, and what its SSH server waits for", err: ctx.Err()}
		}
		return &Trouble{Kind: "other", What: fmt.Sprintf("host %s %s: %v", t.Host, words, err), err: err}
	}
	session, err := client.NewSession()
	if err != nil {
		return nil, failed("opens no session", err)
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	errs := &promptWatch{answer: func() { io.WriteString(in, t.SudoPassword+"\n") }, again: func() { in.Close() }, prompt: sudoPrompt, want: t.SudoPassword != ""}
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
		return nil, failed("starts no command", err)
	}
	greeted := make(chan error, 1)
	go func() { greeted <- waitGreeting(out) }()
	select {
	case err = <-greeted:
	case <-ctx.Done():
		session.Close()
		return nil, &Trouble{Kind: "timeout", What: fmt.Sprintf("the rod on host %s has not greeted in %s", t.Host, rodLimit), Fix: "check the host's load", err: ctx.Err()}
	}
	if err == nil && !stop() {
		err = ctx.Err()
	}
	if err == nil {
		before := len(errs.String())
		last := sync.OnceValue(func() string { return lastWords(session, errs, before) })
		conn, err := rod.NewConn(&stdio{in: in, out: out, end: session.Close, lastWords: last})
		if err != nil {
			return nil, brokeOff(t, err)
		}
		return conn, nil
	}
	wait := session.Wait()
	var exit *ssh.ExitError
	if errors.As(wait, &exit) && exit.ExitStatus() == missingStatus {
		return nil, errNoRod
	}
	return nil, rootTrouble(t, errs.String(), wait)
}

// lastWords is how a rod ended whose output has, and the last lines that it wrote besides, behind those
// that were there before; "" where only the line is gone.
func lastWords(session *ssh.Session, errs *promptWatch, before int) string {
	ended := make(chan error, 1)
	go func() { ended <- session.Wait() }()
	var err error
	select {
	case err = <-ended:
	case <-time.After(time.Second):
	}
	var exit *ssh.ExitError
	if !errors.As(err, &exit) {
		return ""
	}
	said := fmt.Sprintf("the rod ended with status %d", exit.ExitStatus())
	if exit.Signal() != "" {
		said = "the rod was ended by signal " + exit.Signal()
	}
	if words := strings.TrimSpace(errs.String()[before:]); words != "" {
		said += ": " + strings.ToValidUTF8(words[max(0, len(words)-rodWords):], "")
	}
	return said
}

// rodWords is how much of a rod's last words is told, in bytes.
const rodWords = 500
