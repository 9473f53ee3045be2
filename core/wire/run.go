package wire

import (
	"fmt"
	"regexp"
	"strconv"
)

// Run names a run on the hosts that it works on, and its journals there. Number is its number in
// the service that is called Service; Once is what no other run has, whatever becomes of that
// service's records.
type Run struct {
	Number        int64
	Service, Once string // 12 hexadecimal digits each
}

func (r Run) String() string { return fmt.Sprintf("%dx%sx%s", r.Number, r.Service, r.Once) }

// Words names the run for people.
func (r Run) Words() string { return fmt.Sprintf("run %d", r.Number) }

var runName = regexp.MustCompile(`^([1-9][0-9]{0,18})x([0-9a-f]{12})x([0-9a-f]{12})$`)

// ParseRun reads the name of a run.
func ParseRun(name string) (Run, bool) {
	m := runName.FindStringSubmatch(name)
	if m == nil {
		return Run{}, false
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	return Run{n, m[2], m[3]}, err == nil
}
