package declare

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"
)

var (
	colonLine = regexp.MustCompile(`^\s*-?\s*[A-Za-z0-9_.-]+\s*:(\s|$)`)
	braceLine = regexp.MustCompile(`^\s*([A-Za-z0-9_.\-" ]+?)?\s*[{}]\s*;?\s*$`)
)

// explain turns the parser's error into one that says what to write instead.
func explain(name string, data []byte, p *unstable.Parser, err error) *syntaxError {
	out := &syntaxError{at: span{Position: Position{File: name, Line: 1, Column: 1}, width: 1}, what: err.Error()}
	var pe *unstable.ParserError
	if errors.As(err, &pe) {
		out.what = pe.Message
		offset := len(data)
		if len(pe.Highlight) > 0 {
			offset = int(p.Range(pe.Highlight).Offset)
		}
		start := lineStart(data, offset)
		out.at.Line = strings.Count(string(data[:offset]), "\n") + 1
		out.at.Column = utf8.RuneCount(data[start:offset]) + 1
		out.at.width = max(1, min(len(pe.Highlight), 40))
		if offset == len(data) && offset > 0 && data[offset-1] == '\n' {
			// The end of the file: show the last line that has something on it.
			trimmed := strings.TrimRight(string(data), " \t\r\n")
			out.at.Line = strings.Count(trimmed, "\n") + 1
			out.at.Column = utf8.RuneCountInString(trimmed[lineStart(data, len(trimmed)):]) + 1
		}
	}
	lines := strings.Split(string(data), "\n")
	line := ""
	if out.at.Line-1 < len(lines) {
		line = lines[out.at.Line-1]
	}
	switch {
	case braceLine.MatchString(line) && !strings.Contains(line, "="):
		out.what = "a brace opens or closes nothing here: TOML groups keys under a header in square brackets"
		if m := braceLine.FindStringSubmatch(line); m[1] != "" {
			words := strings.Fields(strings.ReplaceAll(m[1], `"`, ""))
			out.fix = fmt.Sprintf("write [%s] on a line of its own, and no closing brace", strings.Join(words, "."))
		} else {
			out.fix = "remove this line; a table ends where the next header begins"
		}
		out.at.Column = utf8.RuneCountInString(line[:strings.IndexAny(line, "{}")]) + 1
		out.at.width = 1
	case colonLine.MatchString(line):
		out.what = "a colon does not set a key: TOML writes key = value, and indentation means nothing"
		key, value, _ := strings.Cut(strings.TrimSpace(line), ":")
		if v := strings.TrimSpace(value); v == "" {
			out.fix = fmt.Sprintf("write [%s], or %s = and a value", key, key)
		} else {
			out.fix = fmt.Sprintf("write %s = %s", key, quoted(v))
		}
		out.at.Column = utf8.RuneCountInString(line[:strings.IndexByte(line, ':')]) + 1
		out.at.width = 1
	case aTab.MatchString(out.what) || (out.at.Column-1 < len(line) && out.at.Column > 0 && strings.HasPrefix(string([]rune(line)[min(out.at.Column-1, utf8.RuneCountInString(line)):]), "\t")):
		out.what = "there is a tab where TOML allows none: " + out.what
		out.fix = "use a space, or \\t inside quotes"
	case unquotedValue.MatchString(line):
		at := unquotedValue.FindStringSubmatchIndex(line)
		v := line[at[2]:at[3]]
		out.what = "text stands in quotes in TOML: " + out.what
		out.fix = fmt.Sprintf("write %q", v)
		out.at.Column = utf8.RuneCountInString(line[:at[2]]) + 1
		out.at.width = utf8.RuneCountInString(v)
	}
	return out
}

var (
	// unquotedValue is a line that gives a key a value of bare characters.
	unquotedValue = regexp.MustCompile(`^\s*[A-Za-z0-9_-]+\s*=\s*([^\s"'\[\]{}#,](?:[^"'\[\]{}#,]*[^\s"'\[\]{}#,])?)\s*$`)
	aTab          = regexp.MustCompile(`\btab\b`)
)

func quoted(v string) string {
	if v == "true" || v == "false" || regexp.MustCompile(`^[0-9]+$`).MatchString(v) || strings.ContainsAny(v[:1], `"'[{`) {
		return v
	}
	return fmt.Sprintf("%q", v)
}
