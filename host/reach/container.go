package reach

import (
	"context"
	"errors"
	"fmt"

	"northstake/core/wire"
	"northstake/host/rod"
)

// A container: the rod of its engine's host puts itself into it and starts there, through the
// engine's API, and the two speak over that. Nothing listens, and nobody logs in.
var _ = Register("container", Transport{Within: func(ctx context.Context, engine *rod.Conn, t Target) (*rod.Conn, func(), error) {
	in, out, end, err := engine.Inside(ctx, t.Container)
	var fault *wire.Fault
	if errors.As(err, &fault) {
		kind := "other"
		if fault.Missing {
			kind = NoContainer
		}
		return nil, nil, &Trouble{Kind: kind, What: fmt.Sprintf("host %s cannot be reached: %s", t.Host, fault.What), Fix: fault.Fix, err: err}
	}
	if err != nil {
		return nil, nil, &Trouble{Kind: "other", What: fmt.Sprintf("host %s, which is container %s, cannot be reached: %v", t.Host, t.Container, err), err: err}
	}
	c := &stdio{in: in, out: out, end: func() error { end(); return nil }}
	if err := greeted(ctx, out); err != nil {
		c.Close()
		return nil, nil, &Trouble{Kind: "other", What: fmt.Sprintf("the rod does not start in container %s, host %s: %v", t.Container, t.Host, err), Fix: "check that programs may run from /var/lib inside, and the host's load", err: err}
	}
	conn, err := rod.NewConn(c)
	if err != nil {
		c.Close()
		return nil, nil, err
	}
	return conn, func() {}, nil
}})
