package engine

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/moby/moby/client"

	"northstake/core/wire"
	"northstake/host/system"
)

// wellTime is how long the command may take that says whether a container is well.
const wellTime = 5 * time.Second

// unwell says why a container is not well, "" where it is.
func (e *Engine) unwell(ctx context.Context, id string, command []string) string {
	ctx, cancel := context.WithTimeout(ctx, wellTime)
	defer cancel()
	status, lines, err := e.exec(ctx, id, command)
	switch {
	case ctx.Err() != nil:
		return fmt.Sprintf("%s has not ended in %s", plain(strings.Join(command, " ")), wellTime)
	case err != nil:
		return plain(strings.Join(command, " ")) + " cannot be run: " + short(err)
	case status != 0:
		text := fmt.Sprintf("%s ends with status %d", plain(strings.Join(command, " ")), status)
		if len(lines) > 0 {
			text += ": " + lines[len(lines)-1]
		}
		return text
	}
	return ""
}

// saidLimit bounds what is read of what a command or a container says, in bytes.
const saidLimit = 64 << 10

// exec runs a command in a container, and returns the lines that it said.
func (e *Engine) exec(ctx context.Context, id string, command []string) (status int, said []string, err error) {
	made, err := e.cli.ExecCreate(ctx, id, client.ExecCreateOptions{Cmd: command, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return 0, nil, err
	}
	run, err := e.cli.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return 0, nil, err
	}
	defer run.Close()
	stop := context.AfterFunc(ctx, run.Close)
	defer stop()
	b, err := io.ReadAll(io.LimitReader(run.Reader, saidLimit))
	if err != nil && ctx.Err() == nil {
		return 0, nil, err
	}
	said = frames(b)
	for {
		is, err := e.cli.ExecInspect(ctx, made.ID, client.ExecInspectOptions{})
		if err != nil {
			return 0, said, err
		}
		if !is.Running {
			return is.ExitCode, said, nil
		}
		if err := system.Pause(ctx, 20*time.Millisecond); err != nil {
			return 0, said, err
		}
	}
}

// logLines is how many lines are kept of what a container said last.
const logLines = 5

// log is the end of what a container said.
func (e *Engine) log(ctx context.Context, id string) []string {
	lines := e.said(ctx, id, strconv.Itoa(logLines))
	return lines[max(0, len(lines)-logLines):]
}

// said is what a container said, of which tail is how many lines from the end.
func (e *Engine) said(ctx context.Context, id, tail string) []string {
	ctx, cancel := limited(ctx)
	defer cancel()
	r, err := e.cli.ContainerLogs(ctx, id, client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Tail: tail})
	if err != nil {
		return nil
	}
	defer r.Close()
	b, _ := io.ReadAll(io.LimitReader(r, saidLimit)) // what there is, is of use
	return frames(b)
}

// frames are the lines in a stream of the engine's, whose parts have a head of eight bytes: of
// which stream they are, and how long.
func frames(b []byte) []string {
	var text bytes.Buffer
	for len(b) >= 8 {
		n := int(min(binary.BigEndian.Uint32(b[4:8]), uint32(len(b)-8)))
		text.Write(b[8 : 8+n])
		b = b[8+n:]
	}
	var out []string
	for line := range strings.Lines(text.String()) {
		if line = brief(strings.TrimRight(line, "\r\n")); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// upFor is how long a container has to run to count as started, upWithin how long it may take to be
// well, and heardWithin how long a server in it until it listens.
const (
	upFor       = time.Second
	upWithin    = 60 * time.Second
	heardWithin = 30 * time.Second
)

// listens says whether the server of a container that serves sites listens on all of their ports.
func listens(in Inspected, w wire.ContainerWant) bool {
	if w.Serves == "" {
		return true
	}
	at := system.PortsOf(in.is.State.Pid)
	return !slices.ContainsFunc(w.Ports, func(p int) bool { return !slices.Contains(at, p) })
}

// AwaitUp waits until a container runs and is well, and what serves sites in it listens: where it
// does not, probes say so. The error says what it said instead.
func (e *Engine) AwaitUp(ctx context.Context, id string, w wire.ContainerWant) error {
	begun := time.Now()
	for {
		in, err := e.Inspect(ctx, id)
		if err != nil {
			return err
		}
		if in.ID == "" || !in.Running {
			text := "it is gone"
			if in.ID != "" {
				text = fmt.Sprintf("it ended with status %d", in.is.State.ExitCode)
				if said := e.log(ctx, id); len(said) > 0 {
					text += "; its last words: " + strings.Join(said, " / ")
				}
			}
			return fmt.Errorf("container %s does not stay up: %s", w.Name, text)
		}
		unwell := ""
		if len(w.WellWhen) > 0 {
			unwell = e.unwell(ctx, id, w.WellWhen)
		}
		if unwell == "" && time.Since(begun) > upFor && (listens(in, w) || time.Since(begun) > heardWithin) {
			return nil
		}
		if time.Since(begun) > upWithin {
			return fmt.Errorf("container %s is not well after %s: %s", w.Name, upWithin, unwell)
		}
		if err := system.Pause(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}
