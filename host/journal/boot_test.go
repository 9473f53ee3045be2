package journal

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// early is a marker that can be taken back while the host boots.
type early struct{ marker }

func (early) Early() bool { return true }

// booting is a journal on a folder with systemd, whose commands are noted and not run.
func booting(t *testing.T) (Journal, *system.Machine, *[]string) {
	t.Helper()
	m := systemtest.Folder(t)
	if err := os.MkdirAll(m.Path("/run/systemd/system"), 0o755); err != nil {
		t.Fatal(err)
	}
	var ran []string
	m.Run = func(_ context.Context, _ io.Reader, name string, args ...string) ([]byte, error) {
		ran = append(ran, name+" "+strings.Join(args, " "))
		return nil, nil
	}
	return Journal{Machine: m, Worker: func(typ string) (Worker, error) {
		switch typ {
		case "marker":
			return marker{m}, nil
		case "early":
			return early{marker{m}}, nil
		}
		return nil, errors.New("there is no such type")
	}}, m, &ran
}

// armed are the units that are there, with what they run.
func armed(t *testing.T, m *system.Machine) map[string]string {
	t.Helper()
	out := map[string]string{}
	files, err := filepath.Glob(m.Path(units + "northstake-revert-*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		_, runs, _ := strings.Cut(string(b), " revert ")
		links, err := filepath.Glob(m.Path(wire.Path(units + "*.wants/" + filepath.Base(f))))
		if err != nil || len(links) != 1 || strings.Contains(string(b), "%!") {
			t.Errorf("%s is started by %v (%v):\n%s", f, links, err, b)
		}
		_, name, _ := strings.Cut(strings.TrimPrefix(filepath.Base(f), bootPrefix), "-")
		out[name] = strings.TrimSpace(runs)
	}
	return out
}

func whole(number int, typ, name string) wire.Step {
	s := step(number, name)
	s.Type, s.Whole, s.Confirm = typ, true, true
	return s
}

func markers(t *testing.T, m *system.Machine) string {
	t.Helper()
	left, err := filepath.Glob(m.Path("/t[a-z]*"))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, l := range left {
		names = append(names, filepath.Base(l))
	}
	return strings.Join(names, " ")
}

// A run with a step on the way in is taken back as the host boots, in two parts; the units for that are
// there from before the step until the run has ended, or somebody has come in.
func TestARunIsTakenBackAsTheHostBoots(t *testing.T) {
	ctx := context.Background()
	start := func(t *testing.T) (Journal, *system.Machine) {
		j, m, _ := booting(t)
		for _, s := range []wire.Step{step(1, "tide"), {}, whole(3, "early", "tower")} {
			if s.Number == 0 {
				s = step(2, "town")
				s.Type = "early"
			}
			if _, err := j.Do(ctx, own(1), s, silent); err != nil {
				t.Fatal(err)
			}
		}
		if err := j.Confirm(ctx, own(1), 3); err != nil {
			t.Fatal(err)
		}
		if got := armed(t, m); len(got) != 2 || !strings.HasSuffix(got["booting.service"], "--booting --after 0s") || !strings.HasSuffix(got["booted.service"], "--booted --after 0s") {
			t.Errorf("armed are %v", got)
		}
		return j, m
	}
	t.Run("it boots", func(t *testing.T) {
		j, m := start(t)
		if err := j.RevertBooting(ctx, own(1)); err != nil {
			t.Fatal(err)
		}
		if got := markers(t, m); got != "tide" {
			t.Errorf("while it boots there is %q", got)
		}
		for range 2 { // the second finds nothing to do
			if late, err := j.RevertBooted(ctx, own(1)); err != nil || late {
				t.Fatal(late, err)
			}
		}
		if got := markers(t, m); got != "" || len(armed(t, m)) > 0 || !m.Exists("/var/again.tower") {
			t.Errorf("once it has booted there is %q, and armed %v", got, armed(t, m))
		}
	})
	t.Run("somebody comes in first", func(t *testing.T) {
		j, m := start(t)
		if err := j.RevertBooting(ctx, own(1)); err != nil {
			t.Fatal(err)
		}
		if _, err := j.Recover(ctx, own(1)); err != nil {
			t.Fatal(err)
		}
		if whole, err := j.RevertBooted(ctx, own(1)); err != nil || whole {
			t.Errorf("%t, %v", whole, err)
		}
		if got := markers(t, m); got != "tide" || len(armed(t, m)) > 0 {
			t.Errorf("there is %q, and armed %v", got, armed(t, m))
		}
	})
	t.Run("it ends well", func(t *testing.T) {
		j, m := start(t)
		if err := j.Close(ctx, own(1)); err != nil {
			t.Fatal(err)
		}
		if got := armed(t, m); len(got) > 0 {
			t.Errorf("armed are %v", got)
		}
	})
	t.Run("it restarts the host itself", func(t *testing.T) {
		j, m := start(t)
		s := step(4, "tug")
		s.Returns = true
		if _, err := j.Do(ctx, own(1), s, silent); err != nil {
			t.Fatal(err)
		}
		if got := armed(t, m); len(got) != 1 || !strings.HasSuffix(got["booted.service"], "--booted --after 1m0s") {
			t.Errorf("armed are %v", got)
		}
		if whole, err := j.RevertBooted(ctx, own(1)); err != nil || !whole || markers(t, m) != "" {
			t.Errorf("nobody came in: %t, %v, left %q", whole, err, markers(t, m))
		}
	})
	t.Run("only what is held", func(t *testing.T) {
		j, m, _ := booting(t)
		if _, err := j.Do(ctx, own(1), step(1, "tide"), silent); err != nil {
			t.Fatal(err)
		}
		if err := j.write(Record{Run: own(1), Step: step(2, "town"), State: wire.Held, Before: []byte("{}")}); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(m.Path("/town"), nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := takeBackAtBoot(ctx, m, own(1), "/rod"); err != nil {
			t.Fatal(err)
		}
		if err := j.RevertBooting(ctx, own(1)); err != nil {
			t.Fatal(err)
		}
		if whole, err := j.RevertBooted(ctx, own(1)); err != nil || whole || markers(t, m) != "tide" || len(armed(t, m)) > 0 {
			t.Errorf("%t, %v, left %q, armed %v", whole, err, markers(t, m), armed(t, m))
		}
	})
}
