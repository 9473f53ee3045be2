package system

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"syscall"

	"golang.org/x/sys/unix"
)

// SameAttributes copies the extended attributes of one thing to another of its sort,
// access lists among them (xattr(7), acl(5)). Nothing there has none.
func SameAttributes(from, to string) error {
	size, err := unix.Llistxattr(from, nil)
	if err != nil || size == 0 {
		if errors.Is(err, syscall.ENOTSUP) || errors.Is(err, syscall.ENOENT) || errors.Is(err, syscall.ENOTDIR) {
			return nil
		}
		return err
	}
	names := make([]byte, size)
	if size, err = unix.Llistxattr(from, names); err != nil {
		return err
	}
	for name := range splitNames(names[:size]) {
		if notCopied.MatchString(name) {
			continue
		}
		value := make([]byte, 64<<10)
		n, err := unix.Lgetxattr(from, name, value)
		if err != nil {
			continue // it has gone, or is not for reading
		}
		if err := unix.Lsetxattr(to, name, value[:n], 0); err != nil && !errors.Is(err, syscall.ENOTSUP) && !errors.Is(err, syscall.EPERM) {
			return &fs.PathError{Op: "setxattr " + name, Path: to, Err: err}
		}
	}
	return nil
}

// notCopied are attributes that go with the very bytes of a file, or are the file system's.
var notCopied = regexp.MustCompile(`^(security\.(capability|ima|evm)|trusted\..*)$`)

func splitNames(b []byte) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for len(b) > 0 {
			n := 0
			for n < len(b) && b[n] != 0 {
				n++
			}
			if !yield(string(b[:n])) {
				return
			}
			b = b[min(n+1, len(b)):]
		}
	}
}

// like gives a file that is about to take the place of another what nobody declares of it: its
// access list and its other extended attributes. Mode and owner are set after that.
func like(path, to string) error {
	if i, err := os.Lstat(path); err != nil || !i.Mode().IsRegular() {
		return nil
	}
	return SameAttributes(path, to)
}

// linked says whether a file has other names, which are to go on being the same file. Only where
// nobody else can put a name: a link that a user has made to somebody's file is none.
func linked(path string) bool {
	var s, dir syscall.Stat_t
	if syscall.Lstat(path, &s) != nil || s.Mode&syscall.S_IFMT != syscall.S_IFREG || s.Nlink < 2 {
		return false
	}
	return syscall.Lstat(filepath.Dir(path), &dir) == nil && dir.Uid == uint32(os.Geteuid()) && dir.Mode&0o022 == 0
}
