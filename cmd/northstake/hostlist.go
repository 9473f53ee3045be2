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
	"strings"
	"time"

	"northstake/core/declare"
)

// listLimit is how long a program may take to list hosts.
const listLimit = time.Minute

// hostList reads the list of hosts that a file beside the declaration holds, or
// that a program there prints. What a program has printed is kept for a while. Nil
// says that nothing is there; lint says so in its place.
func hostList(dir, from string, keep time.Duration) (*declare.Source, error) {
	path := filepath.Join(dir, filepath.FromSlash(from))
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	source := declare.Source{Name: declare.HostListName(from)}
	if strings.HasSuffix(from, ".json") {
		b, err := os.ReadFile(path)
		source.Text = string(b)
		return &source, err
	}
	if info.Mode().Perm()&0o111 == 0 {
		return nil, fmt.Errorf("%s lists hosts and is not a program: make it executable, or give a .json file", path)
	}
	kept := keptList(path)
	if old, err := os.Stat(kept); keep > 0 && err == nil && time.Since(old.ModTime()) < keep && old.ModTime().After(info.ModTime()) {
		b, err := os.ReadFile(kept)
		source.Text = string(b)
		return &source, err
	}
	text, err := runList(dir, path)
	if err != nil {
		return nil, err
	}
	source.Text = text
	if keep > 0 && kept != "" {
		if err := os.MkdirAll(filepath.Dir(kept), 0o700); err != nil {
			return nil, err
		}
		return &source, os.WriteFile(kept, []byte(text), 0o600)
	}
	return &source, nil
}

func runList(dir, path string) (string, error) {
	program, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	cmd := exec.Command(program)
	cmd.Dir = dir
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
		return "", fmt.Errorf("%s did not list hosts: %w\n%s", path, err, strings.TrimSpace(errs.String()))
	}
	return out.String(), nil
}

// keptList is where the list that a program printed is kept, "" where there is no
// place for it.
func keptList(path string) string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	sum := sha256.Sum256([]byte(absolute(path)))
	return filepath.Join(cache, "northstake", "hosts-"+hex.EncodeToString(sum[:8])+".json")
}
