package main

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/term"
)

// programs says which programs of declarations may be run: those that the user has agreed to, as
// they were then, or, with all, any. Links are the directories outside of a declaration's own that links among
// its content may lead to.
type programs struct {
	all   bool
	ask   func(question string) (bool, error) // nil where nobody can be asked
	links []string
}

// programs are those that this call of the client may run.
func (a *app) programs() programs {
	p := programs{all: a.allowProgram, links: a.allowLinks}
	if term.IsTerminal(int(os.Stdin.Fd())) {
		p.ask = confirm
	}
	return p
}

// agreedFile is where is kept what the user has agreed to: a line for each program, with the SHA-256
// of its text and its path.
func agreedFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "northstake", "programs"), err
}

// run says whether a program may be run, and asks where nobody has said so yet.
func (p programs) run(path string) error {
	if p.all {
		return nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	file, err := agreedFile()
	if err != nil {
		return err
	}
	sum := sha256.Sum256(text)
	line := hex.EncodeToString(sum[:]) + "  " + absolute(path)
	agreed, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if slices.Contains(strings.Split(string(agreed), "\n"), line) {
		return nil
	}
	refused := fmt.Errorf("the declaration has %s run here to print more hosts, and nobody has agreed to that program as it is now: look at it, and give --allow-program", path)
	if p.ask == nil {
		return refused
	}
	yes, err := p.ask(fmt.Sprintf("the declaration has %s run on this machine, as you, to print more hosts. Run it, now and whenever it is the same?", path))
	if err != nil {
		return err
	}
	if !yes {
		return refused
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return os.WriteFile(file, append(agreed, line+"\n"...), 0o600)
}
