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
	"time"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"northstake/core/stake"
)

// socket is a listening socket with the inode that its owner holds open.
type socket struct {
	stake.Listener
	inode string
}

// The parts of the kernel's socket diagnosis that are used here (sock_diag(7),
// linux/inet_diag.h). Reading /proc/net/tcp instead walks every connection of
// the machine and takes milliseconds.
const (
	sockDiagByFamily = 20
	stateClose       = 7  // of an unconnected UDP socket
	stateListen      = 10 // of a TCP socket
)

// askLimit is how long the kernel may take to answer.
const askLimit = 2 * time.Second

// sockets asks the kernel for the sockets of one family and protocol in one
// state.
func sockets(family, protocol uint8, name string, state uint) ([]socket, error) {
	conn, err := netlink.Dial(unix.NETLINK_SOCK_DIAG, nil)
	if errors.Is(err, unix.EPROTONOSUPPORT) {
		return listedSockets(family, name, state)
	}
	if err != nil {
		return nil, fmt.Errorf("ask the kernel for listening sockets: %w", err)
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(askLimit)); err != nil {
		return nil, err
	}
	request := make([]byte, 56) // inet_diag_req_v2
	request[0], request[1] = family, protocol
	binary.NativeEndian.PutUint32(request[4:], 1<<state)
	answers, err := conn.Execute(netlink.Message{Header: netlink.Header{Type: sockDiagByFamily, Flags: netlink.Request | netlink.Dump}, Data: request})
	if err != nil {
		return nil, fmt.Errorf("ask the kernel for listening sockets: %w", err)
	}
	var out []socket
	for _, m := range answers {
		if s, ok := parseSocket(m.Data, name); ok {
			out = append(out, s)
		}
	}
	return out, nil
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
		out = append(out, socket{stake.Listener{Protocol: protocol, Address: net.IP(raw).String(), Port: int(number)}, f[9]})
	}
	return out
}

// parseSocket reads an inet_diag_msg: family and state, the socket's id with its
// ports and addresses in network order, and at the end its inode.
func parseSocket(b []byte, protocol string) (socket, bool) {
	if len(b) < 72 {
		return socket{}, false
	}
	ip := net.IP(b[8:12])
	if b[0] == syscall.AF_INET6 {
		ip = net.IP(b[8:24])
	}
	return socket{
		Listener: stake.Listener{Protocol: protocol, Address: ip.String(), Port: int(binary.BigEndian.Uint16(b[4:]))},
		inode:    strconv.FormatUint(uint64(binary.NativeEndian.Uint32(b[68:])), 10),
	}, true
}
