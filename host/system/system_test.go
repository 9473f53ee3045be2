package system

import (
	"encoding/binary"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
)

const listed = `  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode
   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 4711 1 0
   1: 00000000:0050 00000000:0000 0A 00000000:00000000 00:00000000 00000000    33        0 4712 1 0
   2: 0100007F:1F90 0100007F:C001 01 00000000:00000000 00:00000000 00000000     0        0 4713 1 0
`

// A kernel that answers no questions about sockets lists them.
func TestListedSockets(t *testing.T) {
	if got, want := fmt.Sprint(parseListed([]byte(listed), "tcp", stateListen)), "[{{tcp 127.0.0.1 8080  0} 4711 0} {{tcp 0.0.0.0 80  0} 4712 33}]"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	list, err := listedSockets(syscall.AF_INET, "tcp", stateListen)
	if err != nil || !slices.ContainsFunc(list, func(s socket) bool { return s.Port == l.Addr().(*net.TCPAddr).Port && s.Address == "127.0.0.1" }) {
		t.Errorf("%v is not among %v, %v", l.Addr(), list, err)
	}
}

// The label of a file counts where SELinux is enforcing, and there alone.
func TestLabels(t *testing.T) {
	m := &Machine{Root: t.TempDir()}
	put := func(path, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(m.Path(wire.Path(path))), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(m.Path(wire.Path(path)), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("/srv/page", "")
	if err := unix.Setxattr(m.Path("/srv/page"), "security.selinux", []byte("unconfined_u:object_r:user_home_t:s0\x00"), 0); err != nil {
		t.Fatal(err)
	}
	label := func(path wire.Path) string { return strings.Join(m.Labels([]wire.Path{path}), ",") }
	if got := label("/srv/page"); got != "" {
		t.Errorf("without SELinux it is %q", got)
	}
	put("/sys/fs/selinux/enforce", "0")
	if got := label("/srv/page"); got != "" {
		t.Errorf("where it is permissive, it is %q", got)
	}
	put("/sys/fs/selinux/enforce", "1")
	if got := label("/srv/page"); got != "user_home_t" {
		t.Errorf("it is %q", got)
	}
	put("/srv/plain", "")
	for _, p := range []string{"/srv/plain", "/srv/none"} {
		if got := label(wire.Path(p)); got != "" {
			t.Errorf("the label of %s is %q", p, got)
		}
	}
}

func FuzzListedSockets(f *testing.F) {
	f.Add([]byte(listed))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, s := range parseListed(b, "tcp", stateListen) {
			if net.ParseIP(s.Address) == nil || s.Port > 65535 {
				t.Fatalf("%+v", s)
			}
		}
	})
}

func TestASocketIsRead(t *testing.T) {
	msg := make([]byte, 16+72)
	binary.NativeEndian.PutUint32(msg, uint32(len(msg)))
	binary.NativeEndian.PutUint16(msg[4:], sockDiagByFamily)
	msg[16] = 2
	binary.BigEndian.PutUint16(msg[16+4:], 8080)
	copy(msg[16+8:], []byte{127, 0, 0, 1})
	binary.NativeEndian.PutUint32(msg[16+68:], 4711)
	list, done, err := parseSockets(msg, "tcp")
	if err != nil || done || len(list) != 1 || list[0].Port != 8080 || list[0].Address != "127.0.0.1" || list[0].inode != "4711" {
		t.Errorf("%+v, %t, %v", list, done, err)
	}
}

// A program that listens is found, with its process.
func TestAListenerIsFound(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	list, err := (&Machine{Root: "/"}).Listeners()
	if err != nil || !slices.ContainsFunc(list, func(s wire.Listener) bool { return s.Port == port && s.Protocol == "tcp" && s.PID == os.Getpid() }) {
		t.Errorf("port %d of process %d is not among %+v, %v", port, os.Getpid(), list, err)
	}
}

func FuzzKernelAnswers(f *testing.F) {
	msg := make([]byte, 16+72)
	binary.NativeEndian.PutUint32(msg, uint32(len(msg)))
	binary.NativeEndian.PutUint16(msg[4:], sockDiagByFamily)
	binary.BigEndian.PutUint16(msg[16+4:], 80)
	f.Add(msg)
	f.Fuzz(func(t *testing.T, b []byte) {
		list, _, err := parseSockets(b, "tcp")
		if err == nil && len(list)*72 > len(b) {
			t.Fatalf("%d sockets in %d bytes", len(list), len(b))
		}
	})
}

// A remembered value is used only while its key stays the same, and the key of a
// file changes with an edit that puts the old time back.
func TestAnEditWithTheOldTimeIsSeen(t *testing.T) {
	m := &Machine{Root: t.TempDir()}
	file := filepath.Join(m.Root, "f")
	if err := os.WriteFile(file, []byte("one"), 0o644); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(file)
	if err != nil {
		t.Fatal(err)
	}
	before := m.FileKey("/f")
	if err := os.WriteFile(file, []byte("two"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(file, info.ModTime(), info.ModTime()); err != nil {
		t.Fatal(err)
	}
	if before == m.FileKey("/f") || before == "" {
		t.Error("an edit of the same size with the old time put back is not seen")
	}
}

func TestNamesFallBackToNumbers(t *testing.T) {
	m := &Machine{Root: t.TempDir()}
	if err := os.MkdirAll(filepath.Join(m.Root, "etc"), 0o755); err != nil {
		t.Fatal(err)
	}
	for file, text := range map[string]string{"passwd": "root:x:0:0::/root:/bin/sh\nbad line\n", "group": "root:x:0:\n"} {
		if err := os.WriteFile(filepath.Join(m.Root, "etc", file), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	n, err := m.Names()
	if err != nil {
		t.Fatal(err)
	}
	if n.User(0) != "root" || n.User(77) != "77" {
		t.Errorf("%q, %q", n.User(0), n.User(77))
	}
	if _, _, err := n.IDs(wire.Owners{Owner: "nobody-here", Group: "root"}); err == nil {
		t.Error("an unknown owner has an id")
	}
}

// A network is a container's own where all of its lines lead elsewhere; one that has the machine's
// cards, or of which nothing can be seen, is the machine's.
func TestWhoseNetworkItIs(t *testing.T) {
	m := &Machine{Root: t.TempDir()}
	if m.OwnNetwork() {
		t.Error("a network of which nothing can be seen is taken for a container's own")
	}
	put := func(name, index, link string) {
		t.Helper()
		for file, text := range map[string]string{"ifindex": index, "iflink": link} {
			at := m.Path(wire.Path("/sys/class/net/" + name + "/" + file))
			if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(at, []byte(text+"\n"), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	put("lo", "1", "1")
	put("eth0", "2", "17")
	if !m.OwnNetwork() {
		t.Error("a line that leads elsewhere is taken for a card")
	}
	put("eth1", "3", "3")
	if m.OwnNetwork() {
		t.Error("a card is taken for a line that leads elsewhere")
	}
}

// The ports on which something listens in a process's network are those of that network.
func TestPortsOfAProcess(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		port := l.Addr().(*net.TCPAddr).Port
		if !slices.Contains(PortsOf(os.Getpid()), port) {
			t.Errorf("%s is not among them", l.Addr())
		}
		l.Close()
		if slices.Contains(PortsOf(os.Getpid()), port) {
			t.Errorf("%s is among them once it is shut", l.Addr())
		}
	}
	if got := PortsOf(-1); len(got) > 0 {
		t.Errorf("of no process: %v", got)
	}
}
