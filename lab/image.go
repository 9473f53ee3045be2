package lab

import (
	"bytes"
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"github.com/moby/moby/client"
	"golang.org/x/sync/errgroup"
)

//go:embed debian.sh redhat.sh web.sh rpm
var imageFiles embed.FS

// CacheDir holds the images of practice hosts, one for each version of what
// makes them; labs of one machine share it.
const CacheDir = "/var/cache/northstake-lab"

// Family is a family of systems that practice hosts can be of.
type Family struct {
	name   string
	script string
	specs  string // directory of package specifications that the script takes, "" for none
	words  string
	plain  bool // its hosts have no systemd

	able bool // it may make namespaces, as a machine may and most containers may not
}

// Able is the family with hosts that may make namespaces of their own.
func (f Family) Able() Family {
	f.able = true
	return f
}

// The families of practice hosts.
var (
	Debian = Family{name: "debian", script: "debian.sh", words: "a Debian host"}
	RedHat = Family{name: "redhat", script: "redhat.sh", specs: "rpm", words: "a host of the Red Hat family"}
	// Plain is Debian without systemd: services are started by scripts, and are lost
	// when the host restarts.
	Plain = Family{name: "debian", script: "debian.sh", words: "a Debian host", plain: true}
)

func (f Family) String() string { return f.name }

func (f Family) image() string { return "localhost/northstake-lab-" + f.name + ":" + f.tag() }

// tag changes with everything that the image is made from.
func (f Family) tag() string {
	sum := sha256.New()
	for _, file := range f.files() {
		b, err := imageFiles.ReadFile(file)
		if err != nil {
			panic(err) // they are embedded
		}
		fmt.Fprintf(sum, "%s %d ", file, len(b))
		sum.Write(b)
	}
	return hex.EncodeToString(sum.Sum(nil))[:12]
}

func (f Family) files() []string {
	list := []string{f.script}
	if f.specs == "" {
		return list
	}
	entries, err := imageFiles.ReadDir(f.specs)
	if err != nil {
		panic(err)
	}
	for _, e := range entries {
		list = append(list, f.specs+"/"+e.Name())
	}
	return list
}

// archive returns the tar file of the hosts' root file system, made once for
// each machine. Two processes that want it at once wait for one another.
func (f Family) archive(ctx context.Context, log io.Writer) (string, error) {
	file := filepath.Join(CacheDir, f.name+"-"+f.tag()+".tar")
	failed := func(err error) (string, error) { return "", fmt.Errorf("make lab image of %s: %w", f.words, err) }
	if err := os.MkdirAll(CacheDir, 0o755); err != nil {
		return failed(err)
	}
	lock, err := locked(filepath.Join(CacheDir, f.name+".lock"))
	if err != nil {
		return failed(err)
	}
	defer lock.Close()
	if _, err := os.Stat(file); err == nil {
		return file, nil
	}
	fmt.Fprintf(log, "lab: making the image of %s (once for each machine, about two minutes)\n", f.words)
	start := time.Now()
	old, err := filepath.Glob(filepath.Join(CacheDir, f.name+"-*.tar*"))
	if err != nil {
		return failed(err)
	}
	for _, o := range old {
		if err := os.Remove(o); err != nil {
			return failed(err)
		}
	}
	dir, err := os.MkdirTemp("", "northstake-lab-")
	if err != nil {
		return failed(err)
	}
	defer os.RemoveAll(dir)
	if err := os.CopyFS(dir, imageFiles); err != nil {
		return failed(err)
	}
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, "sh", filepath.Join(dir, f.script), file+".part", filepath.Join(dir, f.specs))
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		os.Remove(file + ".part")
		return failed(fmt.Errorf("%w\n%s", err, tail(out.Bytes(), 3000)))
	}
	if err := os.Rename(file+".part", file); err != nil {
		return failed(err)
	}
	fmt.Fprintf(log, "lab: image of %s made in %.0f s\n", f.words, time.Since(start).Seconds())
	return file, nil
}

// MakeImages makes the images of practice hosts beside each other, as far as this machine has not got them.
func MakeImages(ctx context.Context, log io.Writer) error {
	all, ctx := errgroup.WithContext(ctx)
	for _, f := range []Family{Debian, RedHat} {
		all.Go(func() error {
			_, err := f.archive(ctx, log)
			return err
		})
	}
	return all.Wait()
}

func tail(b []byte, n int) []byte {
	if len(b) > n {
		return b[len(b)-n:]
	}
	return b
}

// locked waits until no other process has the file locked, and locks it; closing it lets go.
func locked(file string) (*os.File, error) {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// load makes sure that the engine has a family's image. Who wants it at once waits for one another.
func (l *Lab) load(ctx context.Context, f Family) error {
	lock, err := locked(filepath.Join(l.home, "images.lock"))
	if err != nil {
		return fmt.Errorf("import lab image of %s: %w", f.words, err)
	}
	defer lock.Close()
	if _, err := l.cli.ImageInspect(ctx, f.image()); err == nil {
		return nil
	}
	archive, err := f.archive(ctx, l.log)
	if err != nil {
		return err
	}
	fmt.Fprintf(l.log, "lab: importing the image of %s into this lab's engine (about ten seconds)\n", f.words)
	failed := func(err error) error { return fmt.Errorf("import lab image of %s: %w", f.words, err) }
	file, err := os.Open(archive)
	if err != nil {
		return failed(err)
	}
	defer file.Close()
	res, err := l.cli.ImageImport(ctx, client.ImageImportSource{Source: file, SourceName: "-"}, f.image(), client.ImageImportOptions{})
	if err != nil {
		return failed(err)
	}
	defer res.Close()
	answer, err := io.ReadAll(res)
	if err != nil {
		return failed(err)
	}
	if _, err := l.cli.ImageInspect(ctx, f.image()); err != nil {
		return failed(fmt.Errorf("%w\n%s", err, tail(answer, 2000)))
	}
	left, err := filepath.Glob(filepath.Join(l.home, "scratch", "*"))
	if err != nil {
		return err
	}
	for _, name := range left {
		if err := os.RemoveAll(name); err != nil {
			return err
		}
	}
	return nil
}
