package system_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// Whether a directory lets an account through is what the kernel says when that account asks, whatever
// its mode and its access list are (V13).
func TestWhoIsLetThrough(t *testing.T) {
	m := systemtest.Folder(t)
	reachable(t, m)
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 1))
	id := func() int { return []int{0, 4242, 4343, 4444}[random.IntN(4)] }
	let := 0
	for i := range 400 {
		path := fmt.Sprintf("/srv/%d", i)
		owned(t, m, path, id(), id(), 0o700)
		var mode uint32 = uint32(random.IntN(8)<<6 | random.IntN(8)<<3 | random.IntN(8))
		if err := syscall.Chmod(m.Path(wire.Path(path)), mode); err != nil {
			t.Fatal(err)
		}
		words := ""
		if random.IntN(4) > 0 {
			for _, who := range []int{4242, 4343} {
				if random.IntN(2) == 0 {
					words += fmt.Sprintf("u%d:%d ", who, random.IntN(8))
				}
			}
			for _, who := range []int{4242, 4343} {
				if random.IntN(2) == 0 {
					words += fmt.Sprintf("g%d:%d ", who, random.IntN(8))
				}
			}
			words += fmt.Sprintf("m:%d", random.IntN(8))
			if err := unix.Lsetxattr(m.Path(wire.Path(path)), "system.posix_acl_access", []byte(access(words)), 0); err != nil {
				t.Fatal(err)
			}
		}
		uid, gid, also := id(), id(), []int{id()}
		if uid == 0 {
			uid = 4444 // root is let through everything
		}
		var s syscall.Stat_t
		if err := syscall.Stat(m.Path(wire.Path(path)), &s); err != nil {
			t.Fatal(err)
		}
		got, err := system.LetsThrough(m.Path(wire.Path(path)), &s, uid, map[int]bool{gid: true, also[0]: true})
		asked := system.As(uid, gid, func() error { _, err := os.Lstat(m.Path(wire.Path(path)) + "/."); return err }, also...)
		if err != nil || got != (asked == nil) {
			t.Errorf("seed %d: %s of %d:%d, mode %o, %q lets %d in %d and %v through: %t, %v; the kernel says %v", seed, path, s.Uid, s.Gid, s.Mode&0o777, words, uid, gid, also, got, err, asked)
		}
		if got {
			let++
		}
	}
	if let < 40 || let > 360 {
		t.Errorf("of 400 directories %d let somebody through", let)
	}
}
