package family

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

// unitDirs are where an administrator changes units, the first going over the others
// (systemd.unit(5)).
var unitDirs = []string{"/etc/systemd/system.control", "/run/systemd/system.control", "/etc/systemd/system", "/run/systemd/system", "/usr/local/lib/systemd/system"}

// dropInNames are the directories of drop-ins that count for a service, without ".d": of
// its own, of its template, of what its name begins with, and of all services.
func dropInNames(service string) []string {
	unit := unitName(service)
	sort := unit[strings.LastIndexByte(unit, '.')+1:]
	service = strings.TrimSuffix(unit, "."+sort)
	out := []string{unit}
	if at := strings.IndexByte(service, '@'); at > 0 && at < len(service)-1 {
		out = append(out, service[:at+1]+"."+sort)
	}
	for i := len(service) - 2; i > 0; i-- {
		if service[i] == '-' {
			out = append(out, service[:i+1]+"."+sort)
		}
	}
	return append(out, sort)
}

// DropIns lists the files by which an administrator changes a unit, each with what it
// holds: drop-ins, and a whole unit of the same name, or of its template. A link that
// enabling or masking makes is no such file.
func DropIns(m *system.Machine, service string) (map[string]string, error) {
	out := map[string]string{}
	for _, dir := range unitDirs {
		var files []string
		for _, name := range dropInNames(service) {
			found, err := filepath.Glob(m.Path(wire.Path(dir + "/" + name + ".d/*.conf")))
			if err != nil {
				return nil, err
			}
			files = append(files, found...)
			if !strings.Contains(name, ".") || strings.Contains(name, "-.") {
				continue
			}
			unit := m.Path(wire.Path(dir + "/" + name))
			if s, err := os.Lstat(unit); err == nil && (s.Mode().IsRegular() || linkedUnit(unit)) {
				files = append(files, unit)
			}
		}
		for _, f := range files {
			holds, err := holdsOf(f)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return nil, err
			}
			name := f
			if m.Root != "" && m.Root != "/" {
				name = strings.TrimPrefix(f, m.Root)
			}
			out[name] = holds
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

// linkedUnit says whether a unit is a link to a unit file of the same name elsewhere, and
// not one that makes an alias or masks.
func linkedUnit(unit string) bool {
	target, err := os.Readlink(unit)
	return err == nil && filepath.Base(target) == filepath.Base(unit)
}

// holdsOf says what a file that changes a unit is: the SHA-256 of its text, with its mode
// where that is not 0644, or where a link leads with the sum of that.
func holdsOf(file string) (string, error) {
	s, err := os.Lstat(file)
	if err != nil {
		return "", err
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(b)
	holds := hex.EncodeToString(sum[:])
	switch {
	case s.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(file)
		return holds + " " + target, err
	case s.Mode().Perm() != 0o644:
		holds += fmt.Sprintf(" %04o", s.Mode().Perm())
	}
	return holds, nil
}
