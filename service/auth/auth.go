// Package auth makes tokens and seals secrets.
package auth

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/crypto/chacha20poly1305"
)

// NewToken makes a token and the hash that it is known by.
func NewToken() (token string, hash []byte) {
	b := make([]byte, 32)
	rand.Read(b) // never fails (crypto/rand)
	token = "ns_" + base64.RawURLEncoding.EncodeToString(b)
	return token, Hash(token)
}

// Hash is what a token is stored as. Tokens are random, so a plain hash will do.
func Hash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// Seal keeps secrets unreadable at rest, with a key that lies in a file and not
// in the database.
type Seal struct{ key []byte }

// OpenSeal reads the key of the seal, and makes one where there is none. The
// file can be read by its owner alone.
func OpenSeal(file string) (*Seal, error) {
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		b = make([]byte, chacha20poly1305.KeySize)
		rand.Read(b)
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			return nil, fmt.Errorf("make the key that seals secrets: %w", err)
		}
		f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, fmt.Errorf("make the key that seals secrets: %w", err)
		}
		if _, err := f.Write(b); err != nil {
			f.Close()
			return nil, fmt.Errorf("make the key that seals secrets: %w", err)
		}
		return &Seal{b}, f.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("read the key that seals secrets: %w", err)
	}
	if len(b) != chacha20poly1305.KeySize {
		return nil, fmt.Errorf("the key that seals secrets, %s, has %d bytes instead of %d", file, len(b), chacha20poly1305.KeySize)
	}
	return &Seal{b}, nil
}

// Derive is a key for a use of its own, of which the seal's key cannot be told.
func (s *Seal) Derive(use string) []byte {
	h := hmac.New(sha256.New, s.key)
	h.Write([]byte(use))
	return h.Sum(nil)
}

// Close seals a value under a name; it opens under that name alone.
func (s *Seal) Close(name string, value []byte) ([]byte, error) {
	box, err := chacha20poly1305.NewX(s.key)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, box.NonceSize())
	rand.Read(nonce)
	return box.Seal(nonce, nonce, value, []byte(name)), nil
}

// Open opens a sealed value.
func (s *Seal) Open(name string, sealed []byte) ([]byte, error) {
	box, err := chacha20poly1305.NewX(s.key)
	if err != nil {
		return nil, err
	}
	if len(sealed) < box.NonceSize() {
		return nil, fmt.Errorf("secret %q is damaged", name)
	}
	v, err := box.Open(nil, sealed[:box.NonceSize()], sealed[box.NonceSize():], []byte(name))
	if err != nil {
		return nil, fmt.Errorf("secret %q cannot be opened: the service's key is not the one it was sealed with; keep the secret again", name)
	}
	return v, nil
}
