package reach

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"

	"northstake/host/rod"
)

// The machine that the service itself runs on: there is nobody to be trusted, and no
// network in between.
var _ = Register("local", Way{Start: func(ctx context.Context, t Target, _ KnownKeys, rods Rods) (*rod.Conn, func(), error) {
	conn, err := StartLocal(ctx, t, rods)
	return conn, func() {}, err
}})

// localState is where the rod of the service's own machine keeps its files; the rod
// lies below it, as it does on other hosts.
const localState = "/var/lib/northstake"

// StartLocal starts the rod on the machine that the service runs on: as root, or
// through sudo where the service is somebody else.
func StartLocal(ctx context.Context, t Target, rods Rods) (*rod.Conn, error) {
	program, hash, err := rods.Rod("linux/" + runtime.GOARCH)
	if err != nil {
		return nil, err
	}
	path, err := placeLocalRod(program, hash)
	if err != nil {
		return nil, fmt.Errorf("put the rod onto the service's own machine: %w", err)
	}
	args := []string{path, "serve", "--state", localState}
	if t.Engine != "" {
		args = append(args, "--engine", t.Engine)
	}
	if os.Geteuid() != 0 {
		args = append([]string{"sudo", "-n", "--"}, args...)
	}
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"}
	var errs bytes.Buffer
	cmd.Stderr = &errs
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, &Trouble{Kind: "other", What: fmt.Sprintf("the rod does not start on the service's own machine, host %s: %v", t.Host, err), err: err}
	}
	c := &stdio{in: in, out: out, end: func() error {
		in.Close()    // a pipe can be closed while it is written to
		go cmd.Wait() // its input has ended, and so does the rod
		return nil
	}}
	if err := greeted(ctx, out); err != nil {
		c.Close()
		what := fmt.Sprintf("the rod does not start on the service's own machine, host %s: %v", t.Host, err)
		if said := bytes.TrimSpace(errs.Bytes()); len(said) > 0 {
			what += ": " + string(said)
		}
		return nil, &Trouble{Kind: "no-sudo", What: what, Fix: "run the service as root, or let its user use sudo without a password", err: err}
	}
	return rod.NewConn(c)
}

// placeLocalRod writes the rod to a file of its own name, once: for root where root
// looks for it, else into the temporary directory, from where sudo starts it.
func placeLocalRod(program []byte, hash string) (string, error) {
	dir := filepath.Join(localState, "rod")
	if os.Geteuid() != 0 {
		dir = filepath.Join(os.TempDir(), fmt.Sprintf("northstake-rod-%d", os.Geteuid()))
	}
	path := filepath.Join(dir, hash)
	if b, err := os.ReadFile(path); err == nil && bytes.Equal(b, program) {
		return path, nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	f, err := os.CreateTemp(dir, "part.*")
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(program)
	if err == nil {
		err = f.Chmod(0o700)
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return "", err
	}
	return path, os.Rename(f.Name(), path)
}
