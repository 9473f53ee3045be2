package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"northstake/lab"
	"northstake/service/contract"
)

// ground copies the demo ground, with the addresses of this lab's hosts and of its registry. One that is
// there and is otherwise, because somebody has worked in it, is kept beside it.
func (d *demo) ground(l *lab.Lab, registry string) error {
	to := d.path("saltmarsh.new")
	if err := os.RemoveAll(to); err != nil {
		return err
	}
	if err := os.CopyFS(to, os.DirFS(filepath.Join(d.checkout, "demo", "saltmarsh"))); err != nil {
		return err
	}
	for _, name := range []string{"hosts.toml", "containers.toml"} {
		file := filepath.Join(to, name)
		b, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		text := strings.ReplaceAll(string(b), "10.88.0.1:5000", registry)
		for i := range hosts {
			text = strings.ReplaceAll(text, fmt.Sprintf("10.88.0.%d", 11+i), l.Address(i+1))
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return err
		}
	}
	if err := d.keepGround(to); err != nil {
		return err
	}
	return os.Rename(to, d.path("saltmarsh"))
}

// keepGround makes way for a fresh ground: the one that is there goes where it is the same, and is kept
// under another name where it is not.
func (d *demo) keepGround(fresh string) error {
	is := d.path("saltmarsh")
	if _, err := os.Stat(is); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	a, err := filesIn(is)
	if err != nil {
		return err
	}
	b, err := filesIn(fresh)
	if err != nil {
		return err
	}
	if maps.Equal(a, b) {
		return os.RemoveAll(is)
	}
	for i := 1; ; i++ {
		kept := d.path(fmt.Sprintf("saltmarsh-%d", i))
		if _, err := os.Lstat(kept); errors.Is(err, fs.ErrNotExist) {
			fmt.Printf("  what was changed in the ground by hand is kept in %s\n", kept)
			return os.Rename(is, kept)
		}
	}
}

// filesIn has the text of each file below a directory, by its path there.
func filesIn(dir string) (map[string]string, error) {
	out := map[string]string{}
	return out, fs.WalkDir(os.DirFS(dir), ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		if !e.Type().IsRegular() {
			out[p] = e.Type().String()
			return nil
		}
		b, err := os.ReadFile(filepath.Join(dir, p))
		out[p] = string(b)
		return err
	})
}

// command is the command line as a user would run it.
func (d *demo) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, d.bin("northstake"), args...)
	_, address := d.running()
	cmd.Env = append(os.Environ(), "NORTHSTAKE_SERVER=http://"+address, "NORTHSTAKE_TOKEN_FILE="+d.path("service", "admin.token"))
	return cmd
}

// northstake runs the command line as a user would, and returns what it printed
// and its exit status.
func (d *demo) northstake(ctx context.Context, args ...string) (string, int, error) {
	out, err := d.command(ctx, args...).CombinedOutput()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		if exit.ExitCode() >= 2 {
			return string(out), exit.ExitCode(), fmt.Errorf("northstake %s: %s", strings.Join(args, " "), out)
		}
		return string(out), exit.ExitCode(), nil
	}
	return string(out), 0, err
}

// story declares, trusts, plans and applies the ground, changes one thing by
// hand, and returns what the drift check says.
func (d *demo) story(ctx context.Context, l *lab.Lab) (string, error) {
	end := progress("ground saltmarsh")
	if _, _, err := d.northstake(ctx, "secret", "keep", "keeper", "--file", l.KeyFile()); err != nil {
		return "", err
	}
	out, _, err := d.northstake(ctx, "declare", d.path("saltmarsh"))
	if err != nil {
		return "", err
	}
	end(strings.TrimSpace(out))
	for _, h := range hosts {
		// The fingerprint comes from the host itself, past the network.
		key, err := l.Shell(ctx, h, "ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub | cut -d' ' -f2")
		if err != nil {
			return "", err
		}
		if _, _, err := d.northstake(ctx, "trust", h, "--ground", "saltmarsh", "--yes", "--fingerprint", strings.TrimSpace(key)); err != nil {
			return "", err
		}
	}
	end = progress("drift check of what is there")
	before, status, err := d.northstake(ctx, "drift", "saltmarsh")
	if err != nil {
		return "", err
	}
	if status == 1 {
		end("something has shifted already, and is kept")
		return before, nil
	}
	end("nothing has shifted")
	for what := "plan and apply"; ; what = "plan and apply what was made" {
		end = progress("%s", what)
		applied, err := d.planned(ctx)
		if err != nil {
			return "", err
		}
		if applied == "" {
			end("nothing to do")
			break
		}
		end("plan " + applied + " applied")
	}
	end = progress("a change by hand on quay1")
	if _, err := l.Shell(ctx, "quay1", "sed -i 's/07:40/08:10/' /srv/www/timetable/index.html"); err != nil {
		return "", err
	}
	if _, err := l.Shell(ctx, "quay2", "install -d -m 700 /srv/archive"); err != nil { // which nobody but root may enter
		return "", err
	}
	end("the sailing of 07:40 now says 08:10")
	out, _, err = d.northstake(ctx, "drift", "saltmarsh")
	return out, err
}

// planned plans the ground and applies the plan, and returns its number, "" where there was
// nothing to do.
func (d *demo) planned(ctx context.Context) (string, error) {
	out, _, err := d.northstake(ctx, "plan", "saltmarsh", "--json")
	if err != nil {
		return "", err
	}
	var p contract.Plan
	if err := json.Unmarshal([]byte(out), &p); err != nil {
		return "", fmt.Errorf("what northstake plan printed cannot be read: %w", err)
	}
	if p.Steps == 0 {
		return "", nil
	}
	number := strconv.FormatInt(p.Id, 10)
	_, _, err = d.northstake(ctx, "apply", number, "--ground", "saltmarsh", "--yes")
	return number, err
}

// charts plans one site more, which could not be served, and returns what the plan says of
// it. The ground is then declared again as it was.
func (d *demo) charts(ctx context.Context) (string, error) {
	end := progress("a site that could not be served")
	dir := d.path("charts")
	if err := os.RemoveAll(dir); err != nil {
		return "", err
	}
	for _, part := range []string{d.path("saltmarsh"), filepath.Join(d.checkout, "demo", "charts")} {
		if err := os.CopyFS(dir, os.DirFS(part)); err != nil {
			return "", err
		}
	}
	if _, _, err := d.northstake(ctx, "declare", dir); err != nil {
		return "", err
	}
	cmd := d.command(ctx, "plan", "saltmarsh", "--on", "quay2")
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return "", err
	}
	for _, args := range [][]string{{"declare", d.path("saltmarsh")}, {"survey", "saltmarsh"}} {
		if _, _, err := d.northstake(ctx, args...); err != nil {
			return "", err
		}
	}
	end("the plan says why")
	return string(out), nil
}

func (d *demo) account(address, drift, charts string, took time.Duration) {
	fmt.Printf(`
North Stake runs (%.0f s). Three machines of two families, and a container that a plan
has made, serve seven sites of Saltmarsh Ferries, with nginx, httpd and Caddy, one of
them in a container; one page was changed by hand, and the drift check says so:

%s

A site more, whose root nobody but root may enter, was planned and not applied:

%s

Console   %s
Sign in   with the token in %s
Ground    %s
Log       %s

Next, from %s:
  bin/northstake drift saltmarsh      what has shifted, and since when
  bin/northstake restore saltmarsh    put it back
  bin/northstake show quay1           what a host is, and how its stakes stand
  bin/northstake probe islands        how a site answers, from where

make stop ends all of it; make clean leaves nothing of it here.
`, took.Seconds(), "    "+strings.ReplaceAll(strings.TrimSpace(drift), "\n", "\n    "), "    "+strings.ReplaceAll(strings.TrimSpace(charts), "\n", "\n    "), address, d.path("service", "admin.token"), d.path("saltmarsh"), d.path("service.log"), d.checkout)
}
