package reach

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"

	"northstake/host/rod"
)

// The machine that the service itself runs on: there is nobody to be trusted, and no
// network in between.
var _ = Register("service-machine", Transport{Start: func(ctx context.Context, t Target, _ KnownKeys, rods Rods) (*rod.Conn, func(), error) {
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

// localRodDir is where the rod of the service's own machine lies: for root where root looks for it,
// else among what the service's user keeps, from where sudo starts it.
func localRodDir() (string, error) {
	if os.Geteuid() == 0 {
		return filepath.Join(localState, "rod"), nil
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("the service's user has no home to keep it in: %w", err)
	}
	return filepath.Join(cache, "northstake", "rod"), nil
}

// placeLocalRod writes the rod to a file of its own name, once. What lies there is taken only where
// nobody but root and the service's own user can have put it.
func placeLocalRod(program []byte, hash string) (string, error) {
	dir, err := localRodDir()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	if err := ownAlone(dir, os.Geteuid()); err != nil {
		return "", err
	}
	path := filepath.Join(dir, hash)
	if isRod(path, program) {
		return path, nil
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

// isRod says whether a path is the very program, a plain file that nobody but its owner, this user or
// root, can change.
func isRod(path string, program []byte) bool {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	var s syscall.Stat_t
	if err := syscall.Fstat(int(f.Fd()), &s); err != nil || s.Mode&syscall.S_IFMT != syscall.S_IFREG || s.Mode&0o022 != 0 || int(s.Uid) != os.Geteuid() && s.Uid != 0 {
		return false
	}
	b, err := io.ReadAll(f)
	return err == nil && bytes.Equal(b, program)
}

// ownAlone is why somebody beside root and a user could have put something into a directory, nil where
// nobody could: each directory above it, and itself, is one of theirs, and written to by nobody else.
func ownAlone(dir string, uid int) error {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return err
	}
	for p := real; ; p = filepath.Dir(p) {
		var s syscall.Stat_t
		if err := syscall.Lstat(p, &s); err != nil {
			return &fs.PathError{Op: "lstat", Path: p, Err: err}
		}
		if int(s.Uid) != uid && s.Uid != 0 || s.Mode&0o022 != 0 && s.Mode&syscall.S_ISVTX == 0 || p == real && s.Mode&0o022 != 0 {
			return fmt.Errorf("others than this user can change %s: let it be the user's own or root's, and writable for nobody else", p)
		}
		if p == "/" {
			return nil
		}
	}
}
