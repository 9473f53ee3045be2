package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

const clientMark = "# written by the demo; make clean removes it\n"

func (d *demo) clientPath() string {
	return filepath.Join(d.home, ".config", "northstake", "client.toml")
}

// client lets the command line find the service, unless the user has told it
// where another one is.
func (d *demo) client(address string) error {
	token, err := os.ReadFile(d.path("service", "admin.token"))
	if err != nil {
		return err
	}
	if old, err := os.ReadFile(d.clientPath()); err == nil && !strings.HasPrefix(string(old), clientMark) {
		fmt.Printf("  %s belongs to you and is kept: give --server %s --token-file %s\n", d.clientPath(), address, d.path("service", "admin.token"))
		return nil
	}
	dir := filepath.Dir(d.clientPath())
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	text := fmt.Sprintf("%sserver = %q\ntoken = %q\n", clientMark, address, strings.TrimSpace(string(token)))
	if err := os.WriteFile(d.clientPath(), []byte(text), 0o600); err != nil {
		return err
	}
	for _, p := range []string{filepath.Dir(dir), dir, d.clientPath()} {
		if err := os.Chown(p, d.uid, d.gid); err != nil {
			return err
		}
	}
	return nil
}
