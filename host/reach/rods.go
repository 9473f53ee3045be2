package reach

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// Rods finds the rod program for a kind of machine, such as "linux/amd64".
type Rods interface {
	// Rod returns the program and the hash it is named by.
	Rod(platform string) (program []byte, hash string, err error)
}

// RodDir finds rods in a directory, as files rod-linux-amd64 and so on.
type RodDir struct {
	Dir string

	mu   sync.Mutex
	rods map[string]loadedRod
}

type loadedRod struct {
	program []byte
	hash    string
}

// Rod reads the rod for a platform, once.
func (d *RodDir) Rod(platform string) ([]byte, string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if r, ok := d.rods[platform]; ok {
		return r.program, r.hash, nil
	}
	file := filepath.Join(d.Dir, "rod-"+strings.ReplaceAll(platform, "/", "-"))
	b, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, "", fmt.Errorf("the service has no rod for %s: %s is missing", platform, file)
	}
	if err != nil {
		return nil, "", err
	}
	sum := sha256.Sum256(b)
	if d.rods == nil {
		d.rods = map[string]loadedRod{}
	}
	r := loadedRod{b, hex.EncodeToString(sum[:])[:32]}
	d.rods[platform] = r
	return r.program, r.hash, nil
}
