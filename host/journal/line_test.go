package journal

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// watching is a journal whose run is watched over in this very process, and what comes of it.
func watching(t *testing.T, after time.Duration) (Journal, string, <-chan bool) {
	t.Helper()
	j, m := folder(t)
	run := own(7)
	systemtest.Put(t, m, "/var/lib/northstake/lines/"+run, "")
	if j.line(run) != m.Path(wire.Path("/var/lib/northstake/lines/"+run)) {
		t.Fatalf("the line is at %s", j.line(run))
	}
	lock, err := Take(t.Context(), m, run)
	if err != nil {
		t.Fatal(err)
	}
	for i, name := range []string{"one", "two"} {
		if _, err := j.Do(t.Context(), run, step(i+1, name), silent); err != nil {
			t.Fatal(err)
		}
	}
	done := make(chan bool, 1)
	go func() {
		taken, err := j.Watch(context.Background(), run, after)
		if err != nil {
			t.Error(err)
		}
		done <- taken
	}()
	for !j.watched(run) {
		time.Sleep(time.Millisecond)
	}
	time.Sleep(2 * after)
	if !m.Exists("/one") {
		t.Fatal("a run whose line is there was taken back")
	}
	lock.Release()
	return j, run, done
}

// A run whose line is gone, and to which nobody comes back, is taken back by its host, and says why
// when somebody does (X5).
func TestARunWhoseLineIsGoneGoesBack(t *testing.T) {
	j, run, done := watching(t, 100*time.Millisecond)
	if !<-done || j.Machine.Exists("/one") || j.Machine.Exists("/two") || j.stands(run) {
		t.Fatal("it was not taken back")
	}
	steps, err := j.Steps(run)
	if err != nil || len(steps) != 2 || steps[0].State != wire.Back || !strings.Contains(steps[1].Why, "nobody came back in 100ms") {
		t.Errorf("the journal has %+v, %v", steps, err)
	}
	out, err := j.Recover(t.Context(), run)
	if err != nil || len(out) != 1 || !strings.Contains(out[0], "this host took it back by itself") {
		t.Errorf("who comes back is told %q, %v", out, err)
	}
}

// Who comes back in time goes on; a run that is closed is left, and so is one whose service has come
// in with another since.
func TestARunThatSomebodyComesBackToStays(t *testing.T) {
	j, run, done := watching(t, 300*time.Millisecond)
	lock, err := Take(t.Context(), j.Machine, run)
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(500 * time.Millisecond)
	if !j.Machine.Exists("/one") {
		t.Fatal("it was taken back under who came back")
	}
	if err := j.Close(t.Context(), run); err != nil {
		t.Fatal(err)
	}
	lock.Release()
	if <-done || !j.Machine.Exists("/one") || j.stands(run) {
		t.Error("a run that had ended was taken back")
	}

	j, _, done = watching(t, 300*time.Millisecond)
	if _, err := j.Recover(t.Context(), own(8)); err != nil {
		t.Fatal(err)
	}
	if <-done || !j.Machine.Exists("/one") {
		t.Error("a run was taken back though its service had come in with another")
	}
}

// Another's run holds the watcher up for as long as it works, and no longer.
func TestTheLineOfAnotherRunIsNoneOfThisOne(t *testing.T) {
	j, _, done := watching(t, 200*time.Millisecond)
	other, err := Take(t.Context(), j.Machine, "9xabcxdef")
	if err != nil {
		t.Fatal(err)
	}
	select {
	case <-done:
		t.Fatal("it was taken back while another worked")
	case <-time.After(500 * time.Millisecond):
	}
	other.Release()
	if !<-done {
		t.Error("it was not taken back")
	}
}

// The watcher stands before the first step works, over a boot too, and is one.
func TestTheWatcherStandsFirst(t *testing.T) {
	j, m := folder(t)
	run := own(7)
	program := filepath.Join(t.TempDir(), "watcher")
	if err := os.WriteFile(program, fmt.Appendf(nil, "#!/bin/sh\ncd %q\necho $$ \"$@\" >> started\nexec flock -x \"lines/$5\" sleep 60\n", m.State()), 0o755); err != nil {
		t.Fatal(err)
	}
	j.Line = Line{program, 10 * time.Minute}
	for i, name := range []string{"fails", "one", "two"} {
		_, err := j.Do(t.Context(), run, step(i+1, name), silent)
		if (err != nil) != (name == "fails") {
			t.Fatal(err)
		}
		if !j.watched(run) {
			t.Errorf("after %s nobody watches", name)
		}
	}
	b, err := os.ReadFile(m.State("started"))
	pid, words, _ := strings.Cut(strings.TrimSpace(string(b)), " ")
	if err != nil || strings.Contains(words, "\n") || words != string("revert --state "+m.StateDir+" --run ")+run+" --line 10m0s" {
		t.Errorf("what was started is %q, %v", b, err)
	}
	if err := j.Close(t.Context(), run); err != nil || j.stands(run) {
		t.Errorf("the run has ended, and is watched over: %v", err)
	}
	if err := exec.Command("kill", pid).Run(); err != nil {
		t.Error(err)
	}
	// Where it cannot be started, no step works.
	j.Line.Program = filepath.Join(t.TempDir(), "none")
	if _, err := j.Do(t.Context(), own(8), step(1, "unwatched"), silent); err == nil || !strings.Contains(err.Error(), "takes the run back when the line to this host breaks") || m.Exists("/unwatched") {
		t.Errorf("unwatched: %v", err)
	}
}

// Those that look whether somebody watches keep nobody from it.
func TestLooksKeepNobodyFromWatching(t *testing.T) {
	j, m := folder(t)
	run := own(7)
	systemtest.Put(t, m, "/var/lib/northstake/lines/"+run, "")
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-end:
				return
			default:
				j.watched(run)
			}
		}
	}()
	for range 20 {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		if _, err := j.Watch(ctx, run, 400*time.Millisecond); err == nil {
			t.Error("it gave way to who only looked")
		}
		cancel()
	}
	close(end)
	<-ended
}
