// Package archive unpacks the archives that content comes in: zip, and tar as it
// is or compressed with gzip, xz or Zstandard. What could do harm is refused by
// name: paths that lead out of the archive, links that do, devices, and archives
// that unpack to more than they should.
package archive

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Limits bound what an archive may unpack to. Zero values are the defaults.
type Limits struct {
	Files int   // 100,000
	Bytes int64 // 4 GB in all
	Times int64 // 200 times the archive's own size, where that is more than 64 MB
}

func (l Limits) orDefaults() Limits {
	if l.Files == 0 {
		l.Files = 100_000
	}
	if l.Bytes == 0 {
		l.Bytes = 4 << 30
	}
	if l.Times == 0 {
		l.Times = 200
	}
	return l
}

// Refused is an entry for which an archive is not unpacked.
type Refused struct{ Entry, Why string }

func (r *Refused) Error() string { return fmt.Sprintf("%q %s", r.Entry, r.Why) }

// endings are the names that archives have, by how they are opened.
type ending struct {
	suffixes []string
	unpack   func(file string, u *unpacker) error
}

func (e ending) fits(name string) bool {
	return slices.ContainsFunc(e.suffixes, func(s string) bool { return strings.HasSuffix(strings.ToLower(name), s) })
}

var endings = []ending{
	{[]string{".zip"}, unzip},
	{[]string{".tar"}, tarOf(func(r io.Reader) (io.Reader, error) { return r, nil })},
	{[]string{".tar.gz", ".tgz"}, tarOf(func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) })},
	{[]string{".tar.xz", ".txz"}, tarOf(func(r io.Reader) (io.Reader, error) { return xz.NewReader(r) })},
	{[]string{".tar.zst", ".tzst"}, tarOf(func(r io.Reader) (io.Reader, error) {
		d, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, err
		}
		return d, nil
	})},
}

// Is says whether a file is by its name an archive of a type that is known.
func Is(name string) bool {
	return slices.ContainsFunc(endings, func(e ending) bool { return e.fits(name) })
}

// Unpack writes the files of an archive below the directory to, which is made. The
// error is a *Refused where an entry could do harm; what was unpacked until then
// is left for the caller to remove.
func Unpack(file, to string, limits Limits) error {
	for _, e := range endings {
		if e.fits(file) {
			info, err := os.Stat(file)
			if err != nil {
				return err
			}
			u := &unpacker{to: to, limits: limits.orDefaults(), links: map[string]string{}}
			u.blownUp = max(freely, u.limits.Times*info.Size())
			if err := os.MkdirAll(to, 0o700); err != nil {
				return err
			}
			if err := e.unpack(file, u); err != nil {
				var r *Refused
				if errors.As(err, &r) {
					return r
				}
				return fmt.Errorf("it cannot be unpacked: %w", err)
			}
			return u.follow()
		}
	}
	return errors.New("it is no archive of a type that is known")
}

// freely is how many bytes an archive of whatever size may unpack to.
const freely = 64 << 20

type unpacker struct {
	to      string
	limits  Limits
	blownUp int64 // bytes beyond which the archive is a bomb, for its size
	files   int
	bytes   int64
	links   map[string]string // by the link's path, the path of the file it leads to
}

// directory makes a directory, which may hold no file.
func (u *unpacker) directory(name string) error {
	p, err := place(name)
	if err != nil {
		return err
	}
	return os.MkdirAll(filepath.Join(u.to, filepath.FromSlash(p)), 0o700)
}

// place is where an entry goes, as a clean path below the root.
func place(name string) (string, error) {
	slashed := strings.ReplaceAll(name, `\`, "/") // what it would be on another system has to be safe too
	switch {
	case strings.HasPrefix(slashed, "/") || len(slashed) > 2 && slashed[1] == ':' && slashed[2] == '/':
		return "", &Refused{name, "has an absolute path"}
	case slices.Contains(strings.Split(slashed, "/"), ".."):
		return "", &Refused{name, "leads out of the archive"}
	case strings.IndexFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f }) >= 0:
		return "", &Refused{name, "has a control character in its name"}
	}
	return path.Clean(name), nil
}

// file writes one file, and counts what comes out, not what the archive says.
func (u *unpacker) file(name string, r io.Reader) error {
	p, err := place(name)
	if err != nil || p == "." {
		return err
	}
	if u.files++; u.files > u.limits.Files {
		return &Refused{name, fmt.Sprintf("is one file more than the %d that an archive may hold", u.limits.Files)}
	}
	full := filepath.Join(u.to, filepath.FromSlash(p))
	if err := os.MkdirAll(filepath.Dir(full), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(full, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	left := min(u.limits.Bytes, u.blownUp) - u.bytes
	n, err := io.Copy(f, io.LimitReader(r, left+1))
	if e := f.Close(); err == nil {
		err = e
	}
	u.bytes += n
	if n > left && u.blownUp < u.limits.Bytes {
		return &Refused{name, fmt.Sprintf("unpacks to more than %d times the size of the archive, as one does that is made to fill disks", u.limits.Times)}
	}
	if n > left {
		return &Refused{name, fmt.Sprintf("unpacks to more than the %d MB that an archive may hold", u.limits.Bytes>>20)}
	}
	return err
}

// link notes a link to another file of the archive.
func (u *unpacker) link(name, target string, fromRoot bool) error {
	p, err := place(name)
	if err != nil {
		return err
	}
	slashed := strings.ReplaceAll(target, `\`, "/")
	if strings.HasPrefix(slashed, "/") || len(slashed) > 1 && slashed[1] == ':' {
		return &Refused{name, fmt.Sprintf("is a link to %q, which leads out of the archive", target)}
	}
	full := path.Clean(slashed)
	if !fromRoot {
		full = path.Join(path.Dir(p), slashed)
	}
	if full == ".." || strings.HasPrefix(full, "../") {
		return &Refused{name, fmt.Sprintf("is a link to %q, which leads out of the archive", target)}
	}
	u.links[p] = full
	return nil
}

// follow puts a copy of the file where a link to one stands: what is published has
// no links. A link to a directory or to nothing is refused.
func (u *unpacker) follow() error {
	names := make([]string, 0, len(u.links))
	for p := range u.links {
		names = append(names, p)
	}
	slices.Sort(names)
	for _, p := range names {
		target := u.links[p]
		for seen := map[string]bool{p: true}; u.links[target] != ""; target = u.links[target] {
			if seen[target] {
				return &Refused{p, "is a link that leads back to itself"}
			}
			seen[target] = true
		}
		full := filepath.Join(u.to, filepath.FromSlash(target))
		s, err := os.Lstat(full)
		if errors.Is(err, fs.ErrNotExist) || err == nil && !s.Mode().IsRegular() {
			return &Refused{p, fmt.Sprintf("is a link to %q, which is no file of the archive", target)}
		}
		if err != nil {
			return err
		}
		f, err := os.Open(full)
		if err != nil {
			return err
		}
		err = u.file(p, f)
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// tarOf unpacks a tar archive (tar(5)) that open uncompresses.
func tarOf(open func(io.Reader) (io.Reader, error)) func(string, *unpacker) error {
	return func(file string, u *unpacker) error {
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		plain, err := open(f)
		if err != nil {
			return err
		}
		if c, ok := plain.(*zstd.Decoder); ok {
			defer c.Close()
		}
		return untar(plain, u)
	}
}

func untar(plain io.Reader, u *unpacker) error {
	r := tar.NewReader(plain)
	for {
		h, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			return err
		}
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse:
			err = u.file(h.Name, r)
		case tar.TypeDir:
			err = u.directory(h.Name)
		case tar.TypeSymlink:
			err = u.link(h.Name, h.Linkname, false)
		case tar.TypeLink:
			err = u.link(h.Name, h.Linkname, true)
		case tar.TypeXGlobalHeader:
			err = nil
		default:
			err = &Refused{h.Name, "is a device, a pipe, or another thing that is no file"}
		}
		if err != nil {
			return err
		}
	}
}

// linkLimit bounds the target of a link in a zip archive, in bytes.
const linkLimit = 4096

func unzip(file string, u *unpacker) error {
	r, err := zip.OpenReader(file)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return err
	}
	defer r.Close()
	for _, f := range r.File {
		mode := f.Mode()
		if _, err := place(f.Name); err != nil {
			return err
		}
		f.Name = strings.ReplaceAll(f.Name, `\`, "/") // as some systems write what others write with a slash
		switch {
		case mode.IsDir() || strings.HasSuffix(f.Name, "/"):
			err = u.directory(f.Name)
		case mode&fs.ModeSymlink != 0:
			var target []byte
			if target, err = readZipped(f, linkLimit); err == nil {
				err = u.link(f.Name, string(target), false)
			}
		case !mode.IsRegular():
			err = &Refused{f.Name, "is a device, a pipe, or another thing that is no file"}
		default:
			var in io.ReadCloser
			if in, err = f.Open(); err == nil {
				err = u.file(f.Name, in)
				in.Close()
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func readZipped(f *zip.File, limit int64) ([]byte, error) {
	in, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return io.ReadAll(io.LimitReader(in, limit))
}
