// Package auth makes tokens and encrypts secrets.
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

// Seal keeps secrets encrypted at rest, with a key that lies in a file and not in the
// database.
type Seal struct{ key []byte }

// KeyFile is the name of the file with the key that secrets are encrypted with, in the
// service's state directory; releases before called it formerKeyFile.
const (
	KeyFile       = "secrets.key"
	formerKeyFile = "seal.key"
)

// NoKey says that a state directory has no key for secrets.
type NoKey struct{ File string }

func (e NoKey) Error() string { return e.File + " is not there" }

// OpenSeal reads the key in a state directory. The error is a NoKey where there is none.
func OpenSeal(dir string) (*Seal, error) {
	file := filepath.Join(dir, KeyFile)
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if before, e := os.ReadFile(filepath.Join(dir, formerKeyFile)); e == nil {
			file, b, err = filepath.Join(dir, formerKeyFile), before, nil
		}
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, NoKey{file}
	case err != nil:
		return nil, fmt.Errorf("read the key that secrets are encrypted with: %w", err)
	case len(b) != chacha20poly1305.KeySize:
		return nil, fmt.Errorf("the key that secrets are encrypted with, %s, has %d bytes instead of %d; put it back from a backup", file, len(b), chacha20poly1305.KeySize)
	}
	return &Seal{b}, nil
}

// NewSeal makes a key in a state directory that has none. The file can be read by its owner
// alone; it is whole, or not there.
func NewSeal(dir string) (*Seal, error) {
	b := make([]byte, chacha20poly1305.KeySize)
	rand.Read(b) // never fails (crypto/rand)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the key that secrets are encrypted with: %w", err)
	}
	f, err := os.CreateTemp(dir, "."+KeyFile+"-") // of mode 0600
	if err != nil {
		return nil, fmt.Errorf("make the key that secrets are encrypted with: %w", err)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, fmt.Errorf("make the key that secrets are encrypted with: %w", err)
	}
	if err := os.Link(f.Name(), filepath.Join(dir, KeyFile)); errors.Is(err, fs.ErrExist) {
		return OpenSeal(dir) // another replica has just made it
	} else if err != nil {
		return nil, fmt.Errorf("make the key that secrets are encrypted with: %w", err)
	}
	return &Seal{b}, nil
}

// Derive is a key for a use of its own, from which the secrets' key cannot be told.
func (s *Seal) Derive(use string) []byte {
	h := hmac.New(sha256.New, s.key)
	h.Write([]byte(use))
	return h.Sum(nil)
}

// Close encrypts a value under a name; it opens under that name alone.
func (s *Seal) Close(name string, value []byte) ([]byte, error) {
	box, err := chacha20poly1305.NewX(s.key)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, box.NonceSize())
	rand.Read(nonce)
	return box.Seal(nonce, nonce, value, []byte(name)), nil
}

// Open decrypts a value.
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
		return nil, fmt.Errorf("secret %q cannot be decrypted: the service's key is not the one that it was encrypted with; keep the secret again", name)
	}
	return v, nil
}
