package system

import (
	"errors"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"northstake/core/wire"
)

// Listeners reads the ports that programs listen on: the sockets from the
// kernel, and whose they are from the programs' open files (proc(5)).
func (m *Machine) Listeners() ([]wire.Listener, error) {
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
	return Cached(m, "listeners", key.String(), func() ([]wire.Listener, error) {
		owners := m.socketOwners(all)
		out := []wire.Listener{}
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
	want, uidOf := map[string]string{}, map[string]string{}
	for _, s := range all {
		want["socket:["+s.inode+"]"], uidOf[s.inode] = s.inode, s.uid
	}
	out := map[string]owner{}
	proc, err := m.proc()
	if err != nil {
		return out
	}
	procs, err := proc.AllProcs()
	if err != nil {
		return out
	}
	shut := map[string][]owner{} // programs whose open files cannot be seen, by their user
	for _, p := range procs {
		targets, err := p.FileDescriptorTargets()
		seen := slices.ContainsFunc(targets, func(t string) bool { return t != "" })
		if errors.Is(err, fs.ErrPermission) || err == nil && len(targets) > 0 && !seen {
			if status, err := p.NewStatus(); err == nil {
				uid := strconv.FormatUint(status.UIDs[1], 10)
				shut[uid] = append(shut[uid], owner{status.Name, p.PID})
			}
			continue
		}
		if err != nil {
			continue // it has ended
		}
		for _, target := range targets {
			inode, ok := want[target]
			if !ok {
				continue
			}
			if o, known := out[inode]; known && o.pid < p.PID && o.pid != 1 {
				continue
			}
			if comm, err := p.Comm(); err == nil {
				out[inode] = owner{comm, p.PID}
			}
		}
	}
	// A container may not look into programs of other users that hold capabilities: where
	// one program of the socket's user is shut, the socket is its own.
	for inode, uid := range uidOf {
		if others := shut[uid]; out[inode].program == "" && len(others) > 0 && !slices.ContainsFunc(others, func(o owner) bool { return o.program != others[0].program }) {
			out[inode] = others[0]
		}
	}
	return out
}
