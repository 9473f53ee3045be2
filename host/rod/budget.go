package rod

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"northstake/core/wire"
)

// What a host may say and how long it may take, whatever its rod is: one that lies, or never ends, uses up
// its own share and nobody else's.
const (
	answerLimit = 64 << 20      // bytes of one answer
	lineLimit   = 4 << 10       // bytes of one line of progress, or of one part of a fault
	linesLimit  = 500           // lines of progress of one request
	outputLimit = 64 << 10      // bytes of what a program said, in a fault
	StepLimit   = 4 * time.Hour // for one step, or for taking a run back: a command has an hour
)

// decode reads one answer in JSON, of at most so many bytes.
func decode(body io.Reader, most int64, out any) error {
	limited := &io.LimitedReader{R: body, N: most + 1}
	err := json.NewDecoder(limited).Decode(out)
	if limited.N <= 0 {
		return fmt.Errorf("the host answers with more than %d MB, which no host has reason to; look at what runs there", most>>20)
	}
	if err != nil {
		return fmt.Errorf("read the rod's answer: %w", err)
	}
	return nil
}

// shortened is a text of at most so many bytes, at the boundary of a character.
func shortened(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for most > 0 && !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most] + " …"
}

// shorten brings a fault to what people read of it.
func shorten(f *wire.Fault) *wire.Fault {
	f.What, f.Fix = shortened(f.What, lineLimit), shortened(f.Fix, lineLimit)
	if len(f.Output) > outputLimit { // its end says why
		f.Output = "… " + strings.ToValidUTF8(f.Output[len(f.Output)-outputLimit:], "")
	}
	return f
}

// heard passes lines of progress on, as many and as long as a host may say.
func heard(say func(string)) func(string) {
	n := 0
	return func(line string) {
		switch n++; {
		case n < linesLimit:
			say(shortened(line, lineLimit))
		case n == linesLimit:
			say("it says more, which is left out")
		}
	}
}

// within bounds how long one step may take.
func within(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, StepLimit, fmt.Errorf("the host has not ended it in %s", StepLimit))
}
