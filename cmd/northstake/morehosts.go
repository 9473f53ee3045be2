package main

import (
	"bytes"
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
	"time"

	"northstake/core/declare"
)

// listLimit is how long a program may take to print hosts.
const listLimit = time.Minute

// moreHosts runs the program beside the declaration that prints more hosts. What it
// printed is held for a while. Nil says that there is no such program; lint says so
// in its place.
func moreHosts(dir, program string, hold time.Duration, may programs) (*declare.Source, error) {
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
	if source.Text, err = printHosts(dir, path); err != nil {
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

func printHosts(dir, path string) (string, error) {
	program, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	cmd := exec.Command(program)
	cmd.Dir = dir
	// It is told nothing of the service, nor of the token.
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "NORTHSTAKE_") })
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.WaitDelay = time.Second
	timer := time.AfterFunc(listLimit, func() {
		if cmd.Process != nil {
			cmd.Process.Kill()
		}
	})
	defer timer.Stop()
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("%s did not print hosts: %w\n%s", path, err, strings.TrimSpace(errs.String()))
	}
	return out.String(), nil
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
