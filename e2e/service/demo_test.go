package service

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"northstake/e2e/stage"
)

// The demo applies its ground, and finds what was changed by hand; started again it keeps all
// that, and cleaned up it leaves nothing.
func TestTheDemo(t *testing.T) {
	t.Parallel()
	checkout, home := t.TempDir(), t.TempDir()
	for _, part := range []string{"bin", "demo"} {
		if err := os.CopyFS(filepath.Join(checkout, part), os.DirFS(filepath.Join(stage.Root, part))); err != nil {
			t.Fatal(err)
		}
	}
	demo := func(does string) string {
		t.Helper()
		cmd := exec.Command(filepath.Join(checkout, "bin", "demo"), does)
		cmd.Env = append(os.Environ(), "HOME="+home)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("demo %s: %v:\n%s", does, err, out)
		}
		return string(out)
	}
	t.Cleanup(func() { // with a home of its own: what a demo of the caller's wrote is not this one's
		last := exec.Command(filepath.Join(checkout, "bin", "demo"), "clean")
		last.Env = append(os.Environ(), "HOME="+home)
		_ = last.Run()
	})
	var ground string
	for i, says := range []string{"applied (", "something has shifted already"} {
		if i == 1 { // somebody has worked in the ground meanwhile
			if err := os.WriteFile(filepath.Join(ground, "content", "timetable", "index.html"), []byte("<p>Next sailing: mine</p>"), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		out := demo("up")
		if m := regexp.MustCompile(`(?m)^Ground +(/\S+)$`).FindStringSubmatch(out); m != nil {
			ground = m[1]
		}
		if i == 1 {
			if b, err := os.ReadFile(filepath.Join(ground+"-1", "content", "timetable", "index.html")); err != nil || !strings.Contains(string(b), "mine") || !strings.Contains(out, "is kept in "+ground+"-1") {
				t.Errorf("what somebody wrote in the ground is lost: %s, %v\n%s", b, err, out)
			}
		}
		for _, s := range []string{says, "quay1/content/srv/www/timetable", "index.html", "cannot get to /srv/archive/charts: /srv/archive", "anybody could fetch depths.sql (a dump)"} {
			if !strings.Contains(out, s) {
				t.Errorf("the demo does not say %q:\n%s", s, out)
			}
		}
	}
	demo("stop")
	if out := demo("clean"); strings.Contains(out, "cannot") {
		t.Errorf("cleaning up:\n%s", out)
	}
	if left, err := os.ReadDir(filepath.Join(home, ".config", "northstake")); err == nil && len(left) > 0 {
		t.Errorf("it leaves %v", left)
	}
}
