package auth

import (
	"bytes"
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
	file := filepath.Join(t.TempDir(), "state", "seal.key")
	s, err := OpenSeal(file)
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
	reopened, err := OpenSeal(file)
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
	other, err := OpenSeal(filepath.Join(t.TempDir(), "other.key"))
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
	file := filepath.Join(t.TempDir(), "seal.key")
	if err := os.WriteFile(file, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenSeal(file); err == nil || !strings.Contains(err.Error(), "5 bytes instead of 32") {
		t.Errorf("%v", err)
	}
}
