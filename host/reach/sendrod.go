package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// ready is what the command that takes the rod says before it reads it.
const ready = "northstake-ready\n"

// sendRod puts the rod on a host: under another name first, checked, then renamed. What is cut off
// leaves nothing behind. A password goes to sudo where that asks for one, and nowhere else.
func sendRod(ctx context.Context, client *ssh.Client, t Target, program []byte, hash string) error {
	path := rodPath(t, hash)
	script := fmt.Sprintf(`umask 077; d=$(dirname %s); p="$d/part.$$"; printf %%s%s "%s"; mkdir -p "$d" && cat > "$p" && [ "$(sha256sum < "$p" | cut -c1-%d)" = %s ] && chmod 700 "$p" && mv "$p" %s || { s=$?; rm -f "$p"; exit $s; }`,
		path, `\\n`, strings.TrimSpace(ready), len(hash), hash, path)
	out, err := runPlain(ctx, client, t, asRoot(t)+"sh -c '"+script+"'", program)
	switch {
	case errors.Is(err, errStalled):
		return &Trouble{Kind: "timeout", What: fmt.Sprintf("the rod was being sent to host %s, and nothing has moved for %s", t.Host, stallLimit), Fix: "check the line to the host, and its load", err: err}
	case err != nil:
		return rootTrouble(t, out, err)
	}
	return nil
}

var errStalled = errors.New("nothing moves")

// runPlain runs a command and returns what it printed. What it is to read is sent when it has said
// that it is ready for it. When nothing has moved for stallLimit it gives the connection up: a host
// that hangs does not end a session.
func runPlain(ctx context.Context, client *ssh.Client, t Target, command string, in []byte) (string, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stalled := time.AfterFunc(stallLimit, func() { cancel(errStalled) })
	defer stalled.Stop()
	defer context.AfterFunc(ctx, func() { client.Close() })()
	failed := func(err error) error {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return err
	}
	session, err := client.NewSession()
	if err != nil {
		return "", failed(err)
	}
	defer session.Close()
	pipe, err := session.StdinPipe()
	if err != nil {
		return "", failed(err)
	}
	errs := &promptWatch{answer: func() { io.WriteString(pipe, t.SudoPassword+"\n") }, again: func() { pipe.Close() }, prompt: sudoPrompt, want: t.SudoPassword != ""}
	out := &promptWatch{prompt: ready, want: in != nil}
	out.answer = func() {
		go func() {
			io.Copy(pipe, &movement{r: bytes.NewReader(in), moved: func() { stalled.Reset(stallLimit) }})
			pipe.Close()
		}()
	}
	session.Stderr, session.Stdout = errs, out
	if err := session.Start(command); err != nil {
		return "", failed(err)
	}
	if err = session.Wait(); err != nil {
		err = failed(err)
	}
	return strings.TrimPrefix(out.String(), ready) + errs.String(), err
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

func platformOf(uname string) string {
	return map[string]string{"Linux x86_64": "linux/amd64", "Linux aarch64": "linux/arm64"}[strings.TrimSpace(uname)]
}
