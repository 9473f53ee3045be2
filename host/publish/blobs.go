package publish

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"golang.org/x/sync/errgroup"

	"northstake/core/wire"
	"northstake/host/system"
)

// blobFile is where a piece of content that was sent lies on the host: in one of
// sixteen directories, so that those who write do not wait for one another.
func blobFile(m *system.Machine, sum string) string {
	return m.State("blobs", sum[:min(len(sum), 1)], sum)
}

// Missing lists the pieces that a publication needs and that lie neither
// in the live tree nor among those sent.
func Missing(m *system.Machine, w wire.ContentWork) ([]string, error) {
	var have map[string]string
	err := m.ByWhoMay(w.Root, w.Group, func() (err error) {
		have, err = liveSums(m, w.ContentWant)
		return err
	})
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	var out []string
	for _, f := range w.Files {
		if seen[f.SHA256] || have[f.SHA256] != "" {
			continue
		}
		seen[f.SHA256] = true
		var s syscall.Stat_t
		if err := syscall.Lstat(blobFile(m, f.SHA256), &s); err == nil && s.Size == f.Size {
			if sum, err := hashesOf(m).sum(blobFile(m, f.SHA256), "", &s); err == nil && sum.String() == f.SHA256 {
				continue
			}
		}
		out = append(out, f.SHA256)
	}
	return out, nil
}

// liveSums maps the sums of the live tree's files to the path of one in it that has them.
func liveSums(m *system.Machine, w wire.ContentWant) (map[string]string, error) {
	out := map[string]string{}
	root := m.Path(w.Root)
	items, err := walk(root)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	sizes := map[int64]bool{}
	for _, f := range w.Files {
		sizes[f.Size] = true
	}
	hashes := hashesOf(m)
	for i := range items {
		s := &items[i].stat
		if s.Mode&syscall.S_IFMT != syscall.S_IFREG || !sizes[s.Size] {
			continue
		}
		sum, err := hashes.sum(root, items[i].path, s)
		if err != nil {
			continue // it vanished, or cannot be read: then it is sent
		}
		out[sum.String()] = items[i].path
	}
	return out, nil
}

// openBlob opens what was sent: others may not look into where it lies.
func openBlob(m *system.Machine, sum string) (f *os.File, err error) {
	err = system.Self(func() error {
		f, err = os.Open(blobFile(m, sum))
		return err
	})
	return f, err
}

// wasSent says whether a piece was sent.
func wasSent(m *system.Machine, sum string) bool {
	f, err := openBlob(m, sum)
	if err == nil {
		f.Close()
	}
	return err == nil
}

// dropBlobs removes pieces that are published now.
func dropBlobs(m *system.Machine, w wire.ContentWork) error {
	left, err := filepath.Glob(m.State("blobs", "?", "*"))
	if err != nil || len(left) == 0 {
		return nil
	}
	published := map[string]bool{}
	for _, f := range w.Files {
		published[f.SHA256] = true
	}
	for _, file := range left {
		if published[filepath.Base(file)] {
			os.Remove(file)
		}
	}
	return nil
}

const blobLimit = 4 << 30

// smallBlob is the most bytes of a piece that is read whole, so that it is written
// while the next is read.
const smallBlob = 1 << 20

// buffers are those that pieces are read into, used again.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// Receive takes a tar stream of pieces of content that are named by their SHA-256.
func Receive(m *system.Machine, in io.Reader) error {
	if err := makeBlobDirs(m); err != nil {
		return err
	}
	writing, failed := errgroup.WithContext(context.Background())
	writing.SetLimit(4)
	err := eachBlob(in, func(name string, size int64, piece io.Reader) error {
		if size > smallBlob {
			return receiveBlob(m, name, piece)
		}
		b, _ := buffers.Get().(*bytes.Buffer)
		b.Reset()
		if _, err := io.CopyN(b, piece, size); err != nil {
			return fmt.Errorf("receive content: %w", err)
		}
		writing.Go(func() error {
			defer buffers.Put(b)
			return receiveBlob(m, name, bytes.NewReader(b.Bytes()))
		})
		return failed.Err()
	})
	if first := writing.Wait(); first != nil {
		return first
	}
	return err
}

// makeBlobDirs makes the directories that nobody but root may look into.
func makeBlobDirs(m *system.Machine) error {
	for i := range 16 {
		if err := os.MkdirAll(filepath.Dir(blobFile(m, fmt.Sprintf("%x", i))), 0o700); err != nil {
			return err
		}
	}
	return nil
}

// eachBlob reads a tar stream of pieces of content.
func eachBlob(in io.Reader, take func(name string, size int64, piece io.Reader) error) error {
	t := tar.NewReader(in)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("receive content: %w", err)
		}
		if b, err := hex.DecodeString(h.Name); err != nil || len(b) != sha256.Size || h.Size > blobLimit || h.Typeflag != tar.TypeReg {
			return fmt.Errorf("receive content: %q is not a piece of content", h.Name)
		}
		if err := take(h.Name, h.Size, t); err != nil {
			return err
		}
	}
}

// receiveBlob keeps one piece under the name that it must have the sum of. What is cut
// off, or lost a part in a power cut, has another sum, and is sent again.
func receiveBlob(m *system.Machine, name string, in io.Reader) error {
	f, err := os.OpenFile(blobFile(m, name), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o644) // nobody else can enter the directory
	if err != nil {
		return err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(sum, f), in)
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		err = fmt.Errorf("receive content: %w", err)
	} else if got := hex.EncodeToString(sum.Sum(nil)); got != name {
		err = fmt.Errorf("receive content: piece %s arrived as %s", name, got)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}
