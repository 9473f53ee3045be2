package family

import (
	"strings"

	"northstake/host/system"
)

// Release reads what system the machine has, by os-release(5).
func Release(m *system.Machine) (map[string]string, error) {
	b, err := m.Read("/etc/os-release")
	if err != nil {
		if b, err = m.Read("/usr/lib/os-release"); err != nil {
			return nil, err
		}
	}
	return ParseOSRelease(b), nil
}

// ParseOSRelease reads os-release(5).
func ParseOSRelease(b []byte) map[string]string {
	out := map[string]string{}
	for _, line := range strings.Split(string(b), "\n") {
		k, v, ok := strings.Cut(strings.TrimSpace(line), "=")
		if ok && !strings.HasPrefix(k, "#") {
			out[k] = strings.Trim(v, `"'`)
		}
	}
	return out
}
