package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Former words are shown with what is written now, and are written so on a yes alone; a file
// keeps its mode, a link stays one, and comments stay where they are.
func TestFormerWordsAreWrittenAnew(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "real.txt")
	before := "# ours\n[ground]\nname = \"saltmarsh\"\n[reach]\nuser = \"keeper\"\nkey  = \"keeper\" # by name\n[host.quay1]\naddress = \"10.88.0.11\"\n"
	if err := os.WriteFile(file, []byte(before), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("real.txt", filepath.Join(dir, "ground.toml")); err != nil {
		t.Fatal(err)
	}
	other := filepath.Join(dir, "other.toml")
	if err := os.WriteFile(other, []byte("[kit.base]\npackages=['curl']\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	untouched, err := os.Stat(other)
	if err != nil {
		t.Fatal(err)
	}
	if out, code := northstake(t, "lint", dir); code != trouble || !strings.Contains(out, "key is written key_secret now") || !strings.Contains(out, "lint --rewrite") || !strings.Contains(out, "1 mistake\n") {
		t.Errorf("lint says %d\n%s", code, out)
	}
	out, code := northstake(t, "lint", "--rewrite", dir)
	if text, err := os.ReadFile(file); code != trouble || err != nil || string(text) != before || !strings.Contains(out, "+key_secret = \"keeper\" # by name") || !strings.Contains(out, "--yes") {
		t.Errorf("without a yes: %d\n%s\n%s", code, out, text)
	}
	if out, code := northstake(t, "lint", "--rewrite", "--yes", dir); code != asDeclared || !strings.Contains(out, "wrote 1 word in 1 file") {
		t.Errorf("with one: %d\n%s", code, out)
	}
	text, err := os.ReadFile(file)
	if want := strings.Replace(before, "key  = ", "key_secret = ", 1); err != nil || string(text) != want {
		t.Errorf("%v\n%s", err, text)
	}
	if s, err := os.Stat(file); err != nil || s.Mode().Perm() != 0o640 {
		t.Errorf("its mode is %v, %v", s.Mode(), err)
	}
	if to, err := os.Readlink(filepath.Join(dir, "ground.toml")); err != nil || to != "real.txt" {
		t.Errorf("the link leads to %q, %v", to, err)
	}
	if s, err := os.Stat(other); err != nil || !s.ModTime().Equal(untouched.ModTime()) || !os.SameFile(s, untouched) {
		t.Errorf("a file without former words was written, %v", err)
	}
	if out, code := northstake(t, "lint", dir); code != asDeclared {
		t.Errorf("then lint says %d\n%s", code, out)
	}
	if out, code := northstake(t, "lint", "--rewrite", dir); code != asDeclared || !strings.Contains(out, "no former words") {
		t.Errorf("once more: %d\n%s", code, out)
	}
	if left, err := filepath.Glob(filepath.Join(dir, ".north*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

// Who edits a file while the question stands loses nothing.
func TestFilesThatChangeMeanwhileAreLeft(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("a.toml", "[ground]\nname = \"a\"\n")
	sources, err := readSources(dir)
	if err != nil || unchanged(dir, sources) != nil {
		t.Fatalf("%v, %v", err, unchanged(dir, sources))
	}
	write("a.toml", "[ground]\nname = \"b\"\n")
	if err := unchanged(dir, sources); err == nil || !strings.Contains(err.Error(), "none was written") {
		t.Errorf("an edit: %v", err)
	}
	write("a.toml", "[ground]\nname = \"a\"\n")
	write("b.toml", "")
	if err := unchanged(dir, sources); err == nil {
		t.Error("a file more is not seen")
	}
}
