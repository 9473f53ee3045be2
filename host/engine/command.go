package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// Failed is a command inside a container that did not end well.
type Failed struct {
	Command []string
	Status  int
	Lines   []string // that it said
}

func (f *Failed) Error() string {
	text := fmt.Sprintf("%s ended with status %d", plain(f.Command[0]), f.Status)
	if len(f.Lines) > 0 {
		text += ": " + f.Lines[len(f.Lines)-1]
	}
	return text
}

// commandTime is how long a command inside may take.
const commandTime = 30 * time.Second

// Command runs a command in a container that runs. The error of one that does not end well is a
// *Failed.
func (e *Engine) Command(ctx context.Context, id string, command []string) error {
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	status, lines, err := e.exec(ctx, id, command)
	if err != nil {
		return fmt.Errorf("run %s inside: %s", plain(command[0]), short(err))
	}
	if status != 0 {
		return &Failed{command, status, lines}
	}
	return nil
}

// Once runs a command in a container of its own, which is made for that as is wanted, and taken
// away again. One of its name that an earlier call of the step left goes first.
func (e *Engine) Once(ctx context.Context, w wire.ContainerWant, name, step string, command []string) (err error) {
	if err := e.DropOnce(ctx, name, step); err != nil {
		return err
	}
	w.Entry, w.Command, w.Policy, w.ReachedAt = command[:1], command[1:], wire.PolicyNever, nil
	id, err := e.Create(ctx, w, name, step)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, e.Remove(context.WithoutCancel(ctx), id)) }()
	if err := e.Start(ctx, id); err != nil {
		return err
	}
	begun := time.Now()
	for {
		is, err := e.Inspect(ctx, id)
		switch {
		case err != nil:
			return err
		case is.ID == "":
			return fmt.Errorf("the container in which %s was tried is gone", plain(command[0]))
		case !is.Running && is.is.State.ExitCode != 0:
			return &Failed{command, is.is.State.ExitCode, e.said(ctx, id, "all")}
		case !is.Running:
			return nil
		case time.Since(begun) > commandTime:
			return fmt.Errorf("%s has not ended within %s", plain(strings.Join(command, " ")), commandTime)
		}
		if err := system.Pause(ctx, 20*time.Millisecond); err != nil {
			return err
		}
	}
}

// DropOnce takes away what a call of Once left that was cut off.
func (e *Engine) DropOnce(ctx context.Context, name, step string) error {
	is, err := e.Inspect(ctx, name)
	if err != nil || is.ID == "" || is.Step != step {
		return err
	}
	return e.Remove(ctx, is.ID)
}
