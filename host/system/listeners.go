package system

import (
	"northstake/core/stake"
	"os"
	"strconv"
	"strings"
	"syscall"
)

// Listeners reads the ports that programs listen on: the sockets from the
// kernel, and whose they are from the programs' open files (proc(5)).
func (m *Machine) Listeners() ([]stake.Listener, error) {
	var all []socket
	for _, family := range []uint8{syscall.AF_INET, syscall.AF_INET6} {
		tcp, err := sockets(family, syscall.IPPROTO_TCP, "tcp", stateListen)
		if err != nil {
			return nil, err
		}
		udp, err := sockets(family, syscall.IPPROTO_UDP, "udp", stateClose)
		if err != nil {
			return nil, err
		}
		all = append(append(all, tcp...), udp...)
	}
	var key strings.Builder
	for _, s := range all {
		key.WriteString(s.inode)
		key.WriteByte(' ')
	}
	return Cached(m, "listeners", key.String(), func() ([]stake.Listener, error) {
		owners := m.socketOwners(all)
		out := []stake.Listener{}
		seen := map[string]bool{}
		for _, s := range all {
			s.Program, s.PID = owners[s.inode].program, owners[s.inode].pid
			k := s.Protocol + s.Address + strconv.Itoa(s.Port)
			if !seen[k] {
				seen[k] = true
				out = append(out, s.Listener)
			}
		}
		return out, nil
	})
}

type owner struct {
	program string
	pid     int
}

// socketOwners finds the program that holds each socket; of several, the one
// with the lowest process id, which is the parent.
func (m *Machine) socketOwners(all []socket) map[string]owner {
	want := map[string]string{}
	for _, s := range all {
		want["socket:["+s.inode+"]"] = s.inode
	}
	out := map[string]owner{}
	procs, err := os.ReadDir(m.Path("/proc"))
	if err != nil {
		return out
	}
	for _, p := range procs {
		pid, err := strconv.Atoi(p.Name())
		if err != nil {
			continue
		}
		dir := m.Path("/proc/" + p.Name() + "/fd")
		fds, err := os.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, fd := range fds {
			target, err := os.Readlink(dir + "/" + fd.Name())
			if err != nil {
				continue
			}
			inode, ok := want[target]
			if !ok {
				continue
			}
			if o, known := out[inode]; known && o.pid < pid && o.pid != 1 {
				continue
			}
			comm, err := os.ReadFile(m.Path("/proc/" + p.Name() + "/comm"))
			if err == nil {
				out[inode] = owner{strings.TrimSpace(string(comm)), pid}
			}
		}
	}
	return out
}
