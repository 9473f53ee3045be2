package publish

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// ownership is who owns the files and directories of a tree, and with which modes.
type ownership struct {
	uid, gid          int
	fileMode, dirMode os.FileMode
}

func ownershipOf(m *system.Machine, w wire.ContentWant) (ownership, error) {
	var o ownership
	names, err := m.Names()
	if err != nil {
		return o, err
	}
	if o.uid, o.gid, err = names.IDs(w.Owners); err != nil {
		return o, &wire.Fault{What: err.Error(), Fix: "declare an owner that exists on this host, or the package that brings the account"}
	}
	if o.fileMode, err = system.FileMode(w.Modes.Files); err != nil {
		return o, err
	}
	o.dirMode, err = system.FileMode(w.Modes.Directories)
	return o, err
}

// labelAttribute is where SELinux keeps the label of a file (xattr(7)).
const labelAttribute = "security.selinux"

// placeFile puts one file of the new tree into place: a link to the live file
// where that is already as wanted, what was sent where this is its only place (once
// says so) and can be moved, a copy elsewhere: of the file of the live tree that is the same.
func placeFile(m *system.Machine, f wire.File, root, to, same string, once bool, o ownership) error {
	err := system.Beneath(root, f.Path, func(live string) error { return placeLike(m, f, root, live, to, same, once, o) })
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) { // there is no such directory in the live tree
		err = placeLike(m, f, root, "", to, same, once, o)
	}
	return err
}

// placeLike is placeFile with what lies in its place now, "" for nothing.
func placeLike(m *system.Machine, f wire.File, root, livePath, to, same string, once bool, o ownership) error {
	if same != "" {
		if linked, err := linkLive(m, f, livePath, to, o); linked || err != nil {
			return err
		}
	}
	var src *os.File
	var err error
	if same != "" {
		err = system.Beneath(root, same, func(at string) (err error) {
			src, err = openFile(at)
			return err
		})
	} else {
		if moved, err := moveBlob(blobFile(m, f.SHA256), to, livePath, f.Size, once && !system.Borrowed(), o); moved || err != nil {
			return err
		}
		src, err = openBlob(m, f.SHA256)
	}
	if err != nil {
		return fmt.Errorf("its text was not sent: %w", err)
	}
	defer src.Close()
	return copyInto(src, f, livePath, to, cmp.Or(same, "what was sent"), o)
}

// linkLive links the live file into the new tree where it is already as wanted, and says whether it did.
func linkLive(m *system.Machine, f wire.File, livePath, to string, o ownership) (bool, error) {
	var s syscall.Stat_t
	if syscall.Lstat(livePath, &s) != nil || s.Mode&syscall.S_IFMT != syscall.S_IFREG || s.Size != f.Size ||
		int(s.Uid) != o.uid || int(s.Gid) != o.gid || s.Mode&0o7777 != system.Bits(o.fileMode) {
		return false, nil
	}
	if sum, err := hashesOf(m).sum(livePath, "", &s); err != nil || sum.String() != f.SHA256 || os.Link(livePath, to) != nil {
		return false, nil
	}
	if linked, err := inodeOf(to); err != nil || linked == s.Ino {
		return true, err
	}
	return false, os.Remove(to) // another was there by then
}

// copyInto writes a file of the new tree, where what it is copied from is still what was wanted.
func copyInto(src io.Reader, f wire.File, livePath, to, from string, o ownership) error {
	dst, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(dst, sum), io.LimitReader(src, f.Size+1))
	if got := hex.EncodeToString(sum.Sum(nil)); err == nil && got != f.SHA256 {
		err = fmt.Errorf("it was to be copied from %s, which is another by now: plan again", from)
	}
	if err == nil {
		err = system.SameAttributes(livePath, to) // before the mode, which an access list would change
	}
	if err == nil {
		err = dst.Chown(o.uid, o.gid)
	}
	if err == nil {
		err = dst.Chmod(o.fileMode)
	}
	if e := dst.Close(); err == nil {
		err = e
	}
	return err
}

// openFile opens a file, and nothing else that somebody has put in its place.
func openFile(at string) (*os.File, error) {
	f, err := os.OpenFile(at, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if s, err := f.Stat(); err != nil || !s.Mode().IsRegular() {
		f.Close()
		return nil, cmp.Or(err, error(&fs.PathError{Op: "open", Path: at, Err: errAnother}))
	}
	return f, nil
}

// moveBlob moves what was sent into place, and says whether it could. Where SELinux
// labels files a new one takes the label of its directory, and a moved one keeps the
// label of where it came from, which a web server may not read: that is copied.
func moveBlob(from, to, livePath string, size int64, once bool, o ownership) (bool, error) {
	if _, err := unix.Lgetxattr(from, labelAttribute, nil); err == nil || !once {
		return false, nil
	}
	var s syscall.Stat_t
	if err := syscall.Lstat(from, &s); err != nil || s.Size != size || os.Rename(from, to) != nil {
		return false, nil
	}
	if err := system.SameAttributes(livePath, to); err != nil {
		return true, err
	}
	if int(s.Uid) != o.uid || int(s.Gid) != o.gid {
		if err := os.Lchown(to, o.uid, o.gid); err != nil {
			return true, err
		}
	}
	return true, os.Chmod(to, o.fileMode)
}
