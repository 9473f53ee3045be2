package system

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/moby/sys/mountinfo"
)

// MountsBelow are the places below a directory, of this process's own paths, at which something is
// mounted, relative to it, sorted (proc_pid_mountinfo(5)).
func MountsBelow(dir string) ([]string, error) {
	real, err := filepath.EvalSymlinks(dir)
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []string
	_, err = mountinfo.GetMounts(func(i *mountinfo.Info) (skip, stop bool) {
		if rel, below := strings.CutPrefix(i.Mountpoint, strings.TrimSuffix(real, "/")+"/"); below {
			out = append(out, rel)
		}
		return true, false
	})
	slices.Sort(out)
	return slices.Compact(out), err
}

// RemoveTree removes a tree, and nothing of a file system that is mounted in it: then nothing at all
// is removed.
func RemoveTree(dir string) error {
	if s, err := os.Lstat(dir); err == nil && s.Mode()&os.ModeSymlink != 0 {
		return os.Remove(dir) // and not what it leads to
	}
	mounts, err := MountsBelow(dir)
	if err != nil {
		return err
	}
	if len(mounts) > 0 {
		return &MountedBelow{dir, mounts[0]}
	}
	return os.RemoveAll(dir)
}

// MountedBelow is why a tree is not removed.
type MountedBelow struct{ Dir, At string }

func (e *MountedBelow) Error() string {
	return "something is mounted at " + e.Dir + "/" + e.At + ", and nothing is removed there"
}
