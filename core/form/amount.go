package form

import (
	"strconv"
	"strings"
)

// unit is what a number may be followed by.
type unit struct {
	word string
	is   int64
}

var spans = []unit{{"s", 1}, {"m", 60}, {"h", 3600}, {"d", 86400}, {"w", 7 * 86400}}

var sizes = []unit{{"KB", 1 << 10}, {"MB", 1 << 20}, {"GB", 1 << 30}, {"B", 1}}

// Seconds reads a length of time such as "90s", "10m", "12h", "7d" or "2w".
func Seconds(s string) (int64, bool) { return amount(s, spans) }

// Bytes reads a size such as "500KB", "20MB" or "1GB"; a KB is 1024 bytes.
func Bytes(s string) (int64, bool) { return amount(s, sizes) }

func amount(s string, units []unit) (int64, bool) {
	for _, u := range units {
		number, ok := strings.CutSuffix(s, u.word)
		if !ok {
			continue
		}
		n, err := strconv.ParseUint(number, 10, 31)
		return int64(n) * u.is, err == nil && strconv.FormatUint(n, 10) == number
	}
	return 0, false
}
