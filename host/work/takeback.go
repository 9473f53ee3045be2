package work

import (
	"bytes"
	"errors"
	"fmt"
	"os"

	"northstake/core/wire"
	"northstake/host/system"
)

// takeBack makes a path what it was before a step that left there a file with a text, or,
// with a target, a link. What is neither as the step left it nor as it was before somebody
// has changed since: that stays, and the run says so, and where the former text is. It
// returns whether anything was done.
func takeBack(m *Host, j Job, before system.KeptFile, text []byte, target string) (bool, error) {
	return takeBackFrom(m, j, before, func(found []byte) bool { return bytes.Equal(found, text) }, target)
}

// takeBackFrom is takeBack of a file that is told by what it holds.
func takeBackFrom(m *Host, j Job, before system.KeptFile, wrote func([]byte) bool, target string) (bool, error) {
	now, err := m.Entry(before.Path)
	if err != nil {
		return false, err
	}
	if now.Kind != "" && now.Kind != wire.EntryFile && now.Kind != wire.EntryLink {
		return false, leaveFile(m, j, before)
	}
	if s, err := os.Lstat(m.Path(before.Path)); err == nil && s.Size() > system.KeptLimit {
		return false, leaveFile(m, j, before)
	}
	if same, err := before.IsThere(m.Machine); err != nil || same {
		return false, err
	}
	left := wire.Entry{Kind: wire.EntryFile}
	if target != "" {
		left = wire.Entry{Kind: wire.EntryLink, Target: target}
	}
	as := func(e wire.Entry, holds func([]byte) bool) bool {
		if now.Kind != e.Kind || now.Target != e.Target {
			return false
		}
		if now.Kind != wire.EntryFile {
			return true
		}
		is, err := m.Read(before.Path)
		return err == nil && holds(is)
	}
	if now.Kind == "" || as(left, wrote) || as(before.Entry, func(found []byte) bool { return bytes.Equal(found, before.Text) }) {
		if why, err := before.NotTheirs(m.Machine); err != nil || why != "" {
			return false, errors.Join(err, putAside(m, j, before, why))
		}
		return true, before.PutBack(m.Machine)
	}
	return false, leaveFile(m, j, before)
}

func leaveFile(m *Host, j Job, before system.KeptFile) error {
	return putAside(m, j, before, "it was changed after the step")
}

// putAside leaves a file as it is, and keeps what was there before.
func putAside(m *Host, j Job, before system.KeptFile, why string) error {
	kept, err := before.PutAside(m.Machine, fmt.Sprintf("%s-%d", j.Run, j.Number))
	if err == nil {
		j.Say("left %s as it is: %s%s", before.Path, why, keptAt(kept))
	}
	return err
}

// leave says that something stays because somebody has changed it since the step.
func leave(j Job, what, more string) {
	j.Say("left %s as it is: it was changed after the step%s", what, more)
}

func keptAt(kept string) string {
	if kept == "" {
		return ""
	}
	return "; what was there before is kept in " + kept
}
