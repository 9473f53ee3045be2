package system

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Beneath does something at a place below a directory, rel relative to it and in its shortest form. At
// names the place by a descriptor of the very directory that it lies in: no link below the root leads
// there, and whatever takes the place of a directory on the way meanwhile changes nothing. Where a link
// or a file is on the way, that is ENOTDIR (openat2(2), proc_pid_fd(5)).
func Beneath(root, rel string, do func(at string) error) error {
	return beneath(root, rel, openat2, do)
}

func beneath(root, rel string, open opener, do func(at string) error) error {
	if rel == "." || rel == "" {
		return do(root)
	}
	if strings.Contains(rel, "..") && slices.Contains(strings.Split(rel, "/"), "..") {
		return &fs.PathError{Op: "open", Path: filepath.Join(root, rel), Err: unix.EXDEV}
	}
	parent, name := filepath.Split(rel)
	fd, err := openBeneath(root, strings.TrimSuffix(parent, "/"), unix.O_PATH, open)
	if err != nil {
		return &fs.PathError{Op: "open", Path: filepath.Join(root, parent), Err: err}
	}
	defer unix.Close(fd)
	return do("/proc/self/fd/" + strconv.Itoa(fd) + "/" + name)
}

// OpenDir opens a directory at or below a root, whatever links there are below the root.
func OpenDir(root, rel string) (fd int, err error) {
	if rel == "." {
		rel = ""
	}
	fd, err = openBeneath(root, rel, unix.O_RDONLY, openat2)
	if err != nil {
		return fd, &fs.PathError{Op: "open", Path: filepath.Join(root, rel), Err: err}
	}
	return fd, nil
}

// opener opens a directory below another, through no link.
type opener func(top int, rel string, how int) (int, error)

func openBeneath(root, rel string, how int, open opener) (int, error) {
	how |= unix.O_DIRECTORY | unix.O_NOFOLLOW | unix.O_CLOEXEC
	if rel == "" {
		return again(func() (int, error) { return unix.Open(root, how, 0) })
	}
	top, err := again(func() (int, error) {
		return unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return -1, noDirectory(err)
	}
	defer unix.Close(top)
	fd, err := open(top, rel, how)
	return fd, noDirectory(err)
}

func openat2(top int, rel string, how int) (int, error) {
	fd, err := again(func() (int, error) {
		return unix.Openat2(top, rel, &unix.OpenHow{Flags: uint64(how), Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS})
	})
	if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) { // a kernel before 5.6, or a filter of a container's
		return openEach(top, rel, how)
	}
	return fd, err
}

// openEach does what openat2(2) does where that is not.
func openEach(top int, rel string, how int) (int, error) {
	at := top
	names := strings.Split(rel, "/")
	for i, name := range names {
		flags := unix.O_PATH | unix.O_DIRECTORY | unix.O_NOFOLLOW | unix.O_CLOEXEC
		if i == len(names)-1 {
			flags = how
		}
		next, err := again(func() (int, error) { return unix.Openat(at, name, flags, 0) })
		if at != top {
			unix.Close(at)
		}
		if err != nil {
			return -1, err
		}
		at = next
	}
	return at, nil
}

// again calls what a signal has cut off once more (EAGAIN is openat2's, for a rename meanwhile).
func again(call func() (int, error)) (int, error) {
	for {
		fd, err := call()
		if !errors.Is(err, unix.EINTR) && !errors.Is(err, unix.EAGAIN) {
			return fd, err
		}
	}
}

func noDirectory(err error) error {
	if errors.Is(err, unix.ELOOP) {
		return unix.ENOTDIR
	}
	return err
}
