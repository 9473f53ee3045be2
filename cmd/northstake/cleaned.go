package main

import (
	"io"
	"os"
	"regexp"
	"strings"

	"golang.org/x/term"

	"northstake/core/form"
)

// stdout and stderr are where all that this program prints goes. What comes from hosts, from
// declarations of others and from the service is cleaned there, once, whatever printed it.
var (
	stdout io.Writer = cleaned(func() *os.File { return os.Stdout })
	stderr io.Writer = cleaned(func() *os.File { return os.Stderr })
)

// cleaned passes text on to a file with its hidden characters written out. On a terminal the few
// styles that paper has are let through.
type cleaned func() *os.File

// styles are the sequences that paper writes: bold, faint, its colours, and their end.
var styles = regexp.MustCompile(`\x1b\[(?:0|[12]|(?:1;)?(?:38;5;(?:130|215|124|210)|[39][0-7]))?m`)

func (c cleaned) Write(p []byte) (int, error) {
	to, text := c(), string(p)
	if term.IsTerminal(int(to.Fd())) {
		text = aroundStyles(text, form.Shown)
	} else {
		text = form.Shown(text)
	}
	if _, err := io.WriteString(to, text); err != nil {
		return 0, err
	}
	return len(p), nil
}

// aroundStyles cleans all of a text but the styles of paper.
func aroundStyles(text string, clean func(string) string) string {
	var b strings.Builder
	for at := styles.FindStringIndex(text); at != nil; at = styles.FindStringIndex(text) {
		b.WriteString(clean(text[:at[0]]) + text[at[0]:at[1]])
		text = text[at[1]:]
	}
	return b.String() + clean(text)
}
