package auth

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestTokensAreRandomAndKnownByTheirHash(t *testing.T) {
	a, hash := NewToken()
	b, _ := NewToken()
	if a == b || !strings.HasPrefix(a, "ns_") || len(a) < 40 {
		t.Errorf("%q, %q", a, b)
	}
	if !bytes.Equal(Hash(a), hash) || bytes.Contains(hash, []byte(a)) {
		t.Error("the hash is not the token's")
	}
}

// A secret opens with the key it was sealed with, under its own name, and in no
// other way.
func TestASealOpensForItsOwnNameAlone(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	file := filepath.Join(dir, "secrets.key")
	if _, err := OpenSeal(dir); !errors.As(err, new(NoKey)) {
		t.Errorf("without a key: %v", err)
	}
	s, err := NewSeal(dir)
	if err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key's mode is %v, %v", info.Mode(), err)
	}
	sealed, err := s.Close("keeper", []byte("low tide"))
	if err != nil || bytes.Contains(sealed, []byte("low tide")) {
		t.Fatalf("%q, %v", sealed, err)
	}
	again, err := s.Close("keeper", []byte("low tide"))
	if err != nil || bytes.Equal(sealed, again) {
		t.Error("the same secret is sealed the same way twice")
	}
	reopened, err := OpenSeal(dir)
	if err != nil {
		t.Fatal(err)
	}
	if v, err := reopened.Open("keeper", sealed); err != nil || string(v) != "low tide" {
		t.Errorf("%q, %v", v, err)
	}
	if _, err := s.Open("warden", sealed); err == nil {
		t.Error("it opens under another name")
	}
	for i := range sealed {
		bad := bytes.Clone(sealed)
		bad[i] ^= 1
		if _, err := s.Open("keeper", bad); err == nil {
			t.Fatalf("it opens with byte %d changed", i)
		}
	}
	if twice, err := NewSeal(dir); err != nil || !bytes.Equal(twice.key, s.key) {
		t.Errorf("a second replica makes another key: %v", err)
	}
	// The file that releases before wrote.
	if err := os.Rename(file, filepath.Join(dir, "seal.key")); err != nil {
		t.Fatal(err)
	}
	if former, err := OpenSeal(dir); err != nil || !bytes.Equal(former.key, s.key) {
		t.Errorf("the former file: %v", err)
	}
	other, err := NewSeal(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Open("keeper", sealed); err == nil || !strings.Contains(err.Error(), "keep the secret again") {
		t.Errorf("another key: %v", err)
	}
	for _, short := range [][]byte{nil, {1}, sealed[:24]} {
		if _, err := s.Open("keeper", short); err == nil {
			t.Errorf("%d bytes open", len(short))
		}
	}
}

func TestADamagedKeyIsSaid(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "secrets.key"), []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenSeal(dir); err == nil || !strings.Contains(err.Error(), "5 bytes instead of 32") {
		t.Errorf("%v", err)
	}
}
