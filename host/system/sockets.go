package system

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"strconv"
	"strings"
	"syscall"

	"northstake/core/wire"
)

// socket is a listening socket with the inode that its owner holds open.
type socket struct {
	wire.Listener
	inode string
	uid   string // whose it is
}

// The parts of the kernel's socket diagnosis that are used here (sock_diag(7),
// linux/inet_diag.h). Reading /proc/net/tcp instead walks every connection of
// the machine and takes milliseconds; a library for netlink looks at each answer
// before it reads it, which takes twice as long.
const (
	netlinkSockDiag  = 4
	sockDiagByFamily = 20
	stateClose       = 7  // of an unconnected UDP socket
	stateListen      = 10 // of a TCP socket
)

// sockets asks the kernel for the sockets of one family and protocol in one
// state.
func sockets(family, protocol uint8, name string, state uint) ([]socket, error) {
	fd, err := syscall.Socket(syscall.AF_NETLINK, syscall.SOCK_DGRAM|syscall.SOCK_CLOEXEC, netlinkSockDiag)
	if errors.Is(err, syscall.EPROTONOSUPPORT) {
		return listedSockets(family, name, state)
	}
	if err != nil {
		return nil, fmt.Errorf("ask the kernel for listening sockets: %w", err)
	}
	defer syscall.Close(fd)
	limit := syscall.Timeval{Sec: 2}
	if err := syscall.SetsockoptTimeval(fd, syscall.SOL_SOCKET, syscall.SO_RCVTIMEO, &limit); err != nil {
		return nil, err
	}
	msg := make([]byte, 16+56) // nlmsghdr, inet_diag_req_v2
	binary.NativeEndian.PutUint32(msg[0:], uint32(len(msg)))
	binary.NativeEndian.PutUint16(msg[4:], sockDiagByFamily)
	binary.NativeEndian.PutUint16(msg[6:], syscall.NLM_F_REQUEST|syscall.NLM_F_DUMP)
	msg[16], msg[17] = family, protocol
	binary.NativeEndian.PutUint32(msg[20:], 1<<state)
	if err := syscall.Sendto(fd, msg, 0, &syscall.SockaddrNetlink{Family: syscall.AF_NETLINK}); err != nil {
		return nil, fmt.Errorf("ask the kernel for listening sockets: %w", err)
	}
	var out []socket
	buf := make([]byte, 64<<10)
	for {
		n, _, err := syscall.Recvfrom(fd, buf, 0)
		if err != nil {
			return nil, fmt.Errorf("ask the kernel for listening sockets: %w", err)
		}
		list, done, err := parseSockets(buf[:n], name)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
		if done {
			return out, nil
		}
	}
}

// listedSockets reads the list of sockets of a kernel that does not answer
// questions about them.
func listedSockets(family uint8, protocol string, state uint) ([]socket, error) {
	file := "/proc/net/" + protocol
	if family == syscall.AF_INET6 {
		file += "6"
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // no such protocol here
	}
	if err != nil {
		return nil, fmt.Errorf("list listening sockets: %w", err)
	}
	return parseListed(b, protocol, state), nil
}

// PortsOf are the TCP ports on which something listens as a process sees it: in its own network, such
// as a container's (proc(5), /proc/PID/net). There are none where the process is gone.
func PortsOf(pid int) []int {
	var out []int
	for _, file := range []string{"tcp", "tcp6"} {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/%s", pid, file))
		if err != nil {
			continue
		}
		for _, s := range parseListed(b, "tcp", stateListen) {
			out = append(out, s.Port)
		}
	}
	return out
}

// parseListed reads the lines of /proc/net/tcp and its like (proc(5)): after a number
// come address and port of both ends in hex, the state, and as the tenth field the
// inode. Addresses are in words of the machine's order.
func parseListed(b []byte, protocol string, state uint) []socket {
	var out []socket
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.Fields(line)
		if len(f) < 10 || f[3] != fmt.Sprintf("%02X", state) {
			continue
		}
		address, port, ok := strings.Cut(f[1], ":")
		raw, err := hex.DecodeString(address)
		number, err2 := strconv.ParseUint(port, 16, 16)
		if !ok || err != nil || err2 != nil || len(raw) != 4 && len(raw) != 16 {
			continue
		}
		for i := 0; i < len(raw); i += 4 {
			binary.BigEndian.PutUint32(raw[i:], binary.NativeEndian.Uint32(raw[i:]))
		}
		out = append(out, socket{wire.Listener{Protocol: protocol, Address: net.IP(raw).String(), Port: int(number)}, f[9], f[7]})
	}
	return out
}

// parseSockets reads a batch of the kernel's answers; done says that it was the
// last.
func parseSockets(b []byte, protocol string) (out []socket, done bool, err error) {
	for len(b) >= 16 {
		size := int(binary.NativeEndian.Uint32(b))
		if size < 16 || size > len(b) {
			return nil, true, fmt.Errorf("ask the kernel for listening sockets: an answer of %d bytes says it has %d", len(b), size)
		}
		body := b[16:size]
		switch binary.NativeEndian.Uint16(b[4:]) {
		case syscall.NLMSG_DONE:
			return out, true, nil
		case syscall.NLMSG_ERROR:
			if len(body) >= 4 {
				if code := int32(binary.NativeEndian.Uint32(body)); code != 0 {
					return nil, true, fmt.Errorf("ask the kernel for listening sockets: %w", syscall.Errno(-code))
				}
			}
			return out, true, nil
		case sockDiagByFamily:
			if s, ok := parseSocket(body, protocol); ok {
				out = append(out, s)
			}
		}
		b = b[min(len(b), (size+3)&^3):]
	}
	return out, false, nil
}

// parseSocket reads an inet_diag_msg: family and state, the socket's id with its
// ports and addresses in network order, and at the end its owner and its inode.
func parseSocket(b []byte, protocol string) (socket, bool) {
	if len(b) < 72 {
		return socket{}, false
	}
	ip := net.IP(b[8:12])
	if b[0] == syscall.AF_INET6 {
		ip = net.IP(b[8:24])
	}
	return socket{
		Listener: wire.Listener{Protocol: protocol, Address: ip.String(), Port: int(binary.BigEndian.Uint16(b[4:]))},
		uid:      strconv.FormatUint(uint64(binary.NativeEndian.Uint32(b[64:])), 10),
		inode:    strconv.FormatUint(uint64(binary.NativeEndian.Uint32(b[68:])), 10),
	}, true
}
