package wire

import (
	"fmt"
	"strconv"
)

// Mode says who may read, write and go into something, as four octal digits: "0755" (chmod(1)). "" leaves that
// as it is. It is what such a thing has on systems of the POSIX kind.
type Mode string

// What modes say, as Bits has it.
const (
	GroupWrites    = 0o020
	EveryoneWrites = 0o002
	OwnersRemove   = 0o1000 // of a directory, that only the owner of what lies in it takes that away
)

// Bits are what the digits say.
func (m Mode) Bits() (uint32, error) {
	n, err := strconv.ParseUint(string(m), 8, 32)
	if err != nil || n > 0o7777 {
		return 0, fmt.Errorf("%q is not a mode", string(m))
	}
	return uint32(n), nil
}

// ModeOf is the mode that bits say, whatever else than a mode they hold.
func ModeOf(bits uint32) Mode { return Mode(fmt.Sprintf("%04o", bits&0o7777)) }
