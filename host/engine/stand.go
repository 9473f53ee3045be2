package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"path"
	"strings"
	"sync"

	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/client"
)

// rodDir is where the rod lies in containers, as it does on machines.
const rodDir = "/var/lib/northstake/rod"

// Standing is a rod that was started in a container: what is written goes to its standard input,
// what is read comes from its standard output.
type Standing struct {
	run  client.ExecAttachResult
	out  *io.PipeReader
	said said
}

func (s *Standing) Read(b []byte) (int, error)  { return s.out.Read(b) }
func (s *Standing) Write(b []byte) (int, error) { return s.run.Conn.Write(b) }

// CloseWrite ends the rod's input, and with that the rod.
func (s *Standing) CloseWrite() error { return s.run.CloseWrite() }

// Close lets go of the rod, which ends.
func (s *Standing) Close() {
	s.run.CloseWrite()
	s.run.Close()
	s.out.Close()
}

// Said is what it said on its standard error, without what a terminal would obey.
func (s *Standing) Said() string {
	s.said.mu.Lock()
	defer s.said.mu.Unlock()
	return brief(s.said.b.String())
}

// said keeps the beginning of what is written.
type said struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *said) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.b.Len() < 4096 {
		s.b.Write(b)
	}
	return len(b), nil
}

// Program is a program that can be put into a container, named by a sum of its bytes.
type Program struct {
	Hash string
	Size int64
	Read func() ([]byte, error)
}

// Stand starts the rod in a container that runs, as root, and puts the program there first where
// it is missing.
func (e *Engine) Stand(ctx context.Context, id string, program Program) (*Standing, error) {
	at := path.Join(rodDir, program.Hash)
	if err := e.put(ctx, id, at, program); err != nil {
		return nil, err
	}
	made, err := e.cli.ExecCreate(ctx, id, client.ExecCreateOptions{User: "0:0", AttachStdin: true, AttachStdout: true, AttachStderr: true,
		Env: []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"}, Cmd: []string{at, "serve", "--booted", "--state", path.Dir(rodDir)}})
	if err != nil {
		return nil, fmt.Errorf("start it: %s", short(err))
	}
	run, err := e.cli.ExecAttach(context.WithoutCancel(ctx), made.ID, client.ExecAttachOptions{})
	if err != nil {
		return nil, fmt.Errorf("start it: %s", short(err))
	}
	out, into := io.Pipe()
	s := &Standing{run: run, out: out}
	go func() {
		_, err := stdcopy.StdCopy(into, &s.said, run.Reader)
		into.CloseWithError(err)
	}()
	return s, nil
}

// put puts a program into a container, unless a whole one is there.
func (e *Engine) put(ctx context.Context, id, at string, program Program) error {
	ctx, cancel := limited(ctx)
	defer cancel()
	is, err := e.cli.ContainerStatPath(ctx, id, client.ContainerStatPathOptions{Path: at})
	if err == nil && is.Stat.Size == program.Size {
		return nil
	}
	text, err := program.Read()
	if err != nil {
		return err
	}
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, dir := range []string{path.Dir(rodDir), rodDir} {
		if err := w.WriteHeader(&tar.Header{Name: strings.TrimPrefix(dir, "/") + "/", Typeflag: tar.TypeDir, Mode: 0o700}); err != nil {
			return err
		}
	}
	if err := w.WriteHeader(&tar.Header{Name: strings.TrimPrefix(at, "/"), Mode: 0o700, Size: int64(len(text))}); err != nil {
		return err
	}
	if _, err := w.Write(text); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	if _, err := e.cli.CopyToContainer(ctx, id, client.CopyToContainerOptions{DestinationPath: "/", Content: &b}); err != nil {
		return fmt.Errorf("copy it there: %s", short(err))
	}
	return nil
}
