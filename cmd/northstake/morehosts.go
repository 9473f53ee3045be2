package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"northstake/core/declare"
)

// listLimit is how long a program may take to print hosts.
const listLimit = time.Minute

// moreHosts runs the program beside the declaration that prints more hosts. What it
// printed is held for a while. Nil says that there is no such program; lint says so
// in its place.
func moreHosts(ctx context.Context, dir, program string, hold time.Duration, may programs) (*declare.Source, error) {
	path := filepath.Join(dir, filepath.FromSlash(program))
	if !filepath.IsLocal(filepath.FromSlash(program)) {
		return nil, nil // lint says that it has to lie beside the declaration
	}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Mode().Perm()&0o111 == 0 {
		return nil, fmt.Errorf("%s is to print more hosts, and is not a program: make it executable (chmod +x)", path)
	}
	if leadsOut(dir, path) {
		return nil, fmt.Errorf("%s leads out of the declaration's directory by a link: put the program itself there", path)
	}
	source := declare.Source{Name: declare.PrintedBy(program)}
	held := heldHosts(path)
	if old, err := os.Stat(held); hold > 0 && err == nil && time.Since(old.ModTime()) < hold && old.ModTime().After(info.ModTime()) {
		b, err := os.ReadFile(held)
		source.Text = string(b)
		return &source, err
	}
	if err := may.run(path); err != nil {
		return nil, err
	}
	if source.Text, err = printHosts(ctx, dir, path); err != nil {
		return nil, err
	}
	if hold > 0 && held != "" {
		if err := os.MkdirAll(filepath.Dir(held), 0o700); err != nil {
			return nil, err
		}
		return &source, os.WriteFile(held, []byte(source.Text), 0o600)
	}
	return &source, nil
}

// mostPrinted is how much a program may print: the hosts of 20,000 machines are some 4 MB.
const mostPrinted = 16 << 20

// upTo takes so many bytes, and ends the program that goes on.
type upTo struct {
	text bytes.Buffer // by itself: as a part it would be read into past Write
	stop func()
	over bool
}

func (u *upTo) Write(p []byte) (int, error) {
	if u.text.Len()+len(p) > mostPrinted {
		u.over = true
		u.stop()
		return len(p), nil
	}
	return u.text.Write(p)
}

func printHosts(ctx context.Context, dir, path string) (string, error) {
	program, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	ctx, stop := context.WithTimeout(ctx, listLimit)
	defer stop()
	cmd := exec.CommandContext(ctx, program)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // what it starts ends with it
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.Dir = dir
	// It is told nothing of the service, nor of the token.
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "NORTHSTAKE_") })
	out, errs := upTo{stop: stop}, upTo{stop: stop}
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.WaitDelay = time.Second
	err = cmd.Run()
	switch {
	case out.over || errs.over:
		return "", fmt.Errorf("%s prints more than %d MB, and was ended\n  it is to print [host.NAME] tables, in TOML like any file of the declaration", path, mostPrinted>>20)
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return "", fmt.Errorf("%s did not print hosts within %s, and was ended", path, listLimit)
	case err != nil:
		return "", fmt.Errorf("%s did not print hosts: %w\n%s", path, err, strings.TrimSpace(errs.text.String()))
	}
	return out.text.String(), nil
}

// heldHosts is where what a program printed is held, "" where there is no place for
// it.
func heldHosts(path string) string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	sum := sha256.Sum256([]byte(absolute(path)))
	return filepath.Join(cache, "northstake", "hosts-"+hex.EncodeToString(sum[:8])+".toml")
}
