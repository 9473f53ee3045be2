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

func platformOf(uname string) string {
	return map[string]string{"Linux x86_64": "linux/amd64", "Linux aarch64": "linux/arm64"}[strings.TrimSpace(uname)]
}
