package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"northstake/core/wire"
	"northstake/host/engine"
	"northstake/host/system"
	"northstake/host/webserver"
)

// What the workers of sites and of containers share for a server that runs in a container.

// onceName is the name of a container in which a configuration is tested.
func onceName(container string, j Job) string { return container + "-test-" + stepOf(j) }

// testWithin has the server of a container test its sites: inside the container that runs, where
// that sees all that they need, else in one of its own of the same image. Where that image is not
// there yet, as before a run's first step, nothing is tested: the step comes after it.
func testWithin(ctx context.Context, m *Host, j Job, l wire.Layout, sites []wire.SiteWant) error {
	if !m.Exists(l.Config) {
		return nil
	}
	e, err := engineOf(ctx, m)
	if err != nil {
		return err
	}
	container, image := sites[0].Within, sites[0].Image
	id, err := e.ImageID(ctx, image)
	if err != nil || id == "" {
		return err
	}
	is, err := e.Inspect(ctx, container)
	if err != nil {
		return err
	}
	var sees []wire.HeldAt
	for _, w := range sites {
		for _, h := range w.Sees {
			if h.Made || m.Exists(h.From) {
				sees = append(sees, h)
			}
		}
	}
	run := func(command []string) error { return e.Command(ctx, is.ID, command) }
	if !is.Running || is.Image != id || !is.Sees(sees) {
		if err := makeHeld(m, sees); err != nil {
			return err
		}
		want := wire.ContainerWant{Name: container, By: is.By, Image: image, Network: "host", Mounts: is.Seen(sees)}
		run = func(command []string) error { return e.Once(ctx, want, onceName(container, j), stepOf(j), command) }
	}
	return webserver.TestIn(m.Machine, filepath.Join(m.Path(l.Dir), ".candidate-"+stepOf(j)), "/tmp/northstake-test.pid", l, func(command []string) (string, error) {
		err := run(command)
		var failed *engine.Failed
		if !errors.As(err, &failed) {
			return "", err
		}
		return strings.Join(failed.Lines, "\n"), nil
	}, sites...)
}

// makeHeld makes the directories of the host that a container writes to and that are made for it.
func makeHeld(m *Host, holds []wire.HeldAt) error {
	for _, h := range holds {
		if !h.Made || m.Exists(h.From) {
			continue
		}
		if err := os.MkdirAll(m.Path(h.From), 0o755); err != nil {
			return err
		}
		if err := system.Flush(filepath.Dir(m.Path(h.From))); err != nil {
			return err
		}
	}
	return nil
}

// reloadContainer has a server in a container take its configuration in, which it tests first:
// what lies there may be another's by now.
func reloadContainer(ctx context.Context, m *Host, e *engine.Engine, is engine.Inspected, reload []string, server string) error {
	l, err := m.LayoutOf(wire.SiteWant{Server: server, Within: is.Name})
	if err != nil {
		return err
	}
	test := make([]string, len(l.Test))
	for i, word := range l.Test {
		test[i] = strings.ReplaceAll(word, "{dir}", string(l.Dir))
	}
	if err := e.Command(ctx, is.ID, test); err != nil {
		var failed *engine.Failed
		if !errors.As(err, &failed) {
			return err
		}
		return &wire.Fault{What: fmt.Sprintf("the server in container %s does not accept its configuration as it lies there", is.Name), Output: strings.Join(failed.Lines, "\n"), Fix: "it goes on with the one that it has; correct what it names"}
	}
	taken := webserver.TakesInWithin(m.Machine, server, is.PID)
	if err := e.Command(ctx, is.ID, reload); err != nil {
		return err
	}
	return taken(ctx)
}

// tellWithin has the server of a container take notice of what was taken back, where it runs.
func tellWithin(ctx context.Context, m *Host, j Job, w wire.SiteWant) error {
	e, err := engineOf(ctx, m)
	if err != nil {
		return err
	}
	is, err := e.Inspect(ctx, w.Within)
	if err != nil || !is.Running {
		return err
	}
	l, err := m.LayoutOf(w)
	if err != nil {
		return err
	}
	if err := reloadContainer(ctx, m, e, is, l.Reload, w.Server); err != nil {
		j.Say("container %s did not take the former configuration in: %v", w.Within, err)
	}
	return nil
}

// taken lists the programs outside of a site's container that have its ports.
func taken(w wire.SiteWant, all []wire.Listener, first int) []wire.Listener {
	var out []wire.Listener
	for _, port := range w.Listen.Ports() {
		for _, l := range all {
			if l.Port != port || l.Protocol != "tcp" || l.PID == 0 {
				continue
			}
			if first == 0 || system.MountsOf(l.PID) != system.MountsOf(first) {
				out = append(out, l)
				break
			}
		}
	}
	return out
}
