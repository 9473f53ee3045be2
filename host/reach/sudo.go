package reach

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"
)

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

// notItself says whether a command ended as one does that was never run: a shell that is
// for nobody (nologin(8), false(1)) ends with 1 and says nothing of it.
func notItself(err error) bool {
	var exit *ssh.ExitError
	return errors.As(err, &exit) && exit.ExitStatus() == 1
}

func rootTrouble(t Target, said string, err error) error {
	said = strings.TrimSpace(strings.ReplaceAll(said, sudoPrompt, ""))
	out := &Trouble{Kind: "no-sudo", err: err}
	switch {
	case strings.Contains(said, "Sorry, try again"), strings.Contains(said, "incorrect password"):
		out.What = fmt.Sprintf("host %s does not take the sudo password it was given for user %s", t.Host, t.User)
		out.Fix = "correct the secret"
	case strings.Contains(said, "password is required"), strings.Contains(said, "no password was provided"):
		out.What = fmt.Sprintf("user %s on host %s has to give a password for sudo, and none was given", t.User, t.Host)
		out.Fix = "keep it with northstake secret keep, and name it as sudo_secret in [reach], or write sudo_asks = true; or let the user run every command without one (sudo -l there says which it may)"
	case strings.Contains(said, "not in the sudoers"), strings.Contains(said, "is not allowed to"), strings.Contains(said, "may not run sudo"):
		out.What = fmt.Sprintf("user %s may not use sudo on host %s", t.User, t.Host)
		out.Fix = "let the user use sudo there, or name another user in [reach]"
	case strings.Contains(said, "sudo: not found"), strings.Contains(said, "sudo: command not found"):
		out.What = fmt.Sprintf("there is no sudo on host %s", t.Host)
		out.Fix = "install it there, or log in as root"
	case strings.Contains(said, "currently not available"), said == "" && notItself(err):
		out.Kind = "wrong-key"
		out.What = fmt.Sprintf("user %s logs in on host %s, and its login shell runs no commands", t.User, t.Host)
		out.Fix = "give the user a shell there (usermod -s), or name another user in [reach]"
	default:
		out.Kind = "other"
		out.What = fmt.Sprintf("the rod did not start on host %s: %s", t.Host, said)
		if said == "" {
			out.What = fmt.Sprintf("the rod did not start on host %s: %v", t.Host, err)
		}
	}
	return out
}

// promptWatch answers a prompt, sudo's for a password, once and keeps the rest. It
// has no other methods of a buffer, so that nothing is copied past Write.
type promptWatch struct {
	mu     sync.Mutex
	text   []byte
	answer func()
	again  func() // may be nil: it asks a second time, as sudo does after a wrong password
	prompt string
	want   bool
}

func (p *promptWatch) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.text) < 64<<10 {
		p.text = append(p.text, b...)
	}
	if p.want && bytes.Contains(p.text, []byte(p.prompt)) {
		p.want = false
		p.answer()
	} else if p.again != nil && bytes.Count(p.text, []byte(p.prompt)) > 1 {
		p.again()
		p.again = nil
	}
	return len(b), nil
}

func (p *promptWatch) String() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return string(p.text)
}
