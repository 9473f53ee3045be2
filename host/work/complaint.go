package work

import (
	"regexp"
	"strconv"
	"strings"
)

// complaint is what a web server said of a configuration that it refuses. File
// is "" where it named none.
type complaint struct {
	what string
	file string
	line int
}

// complaints reads the output of each web server's test.
var complaints = map[string]func(output string) (complaint, bool){"nginx": nginxComplaint, "httpd": httpdComplaint}

// nginxLine is a line by which nginx refuses a configuration: "[emerg] 12#12: what
// is wrong in /file:3", with its name or the time in front.
var nginxLine = regexp.MustCompile(`\[(?:emerg|crit|alert)\] (?:\d+#\d+: )?(.*?)(?: in (/\S+):(\d+))?\s*$`)

func nginxComplaint(output string) (complaint, bool) {
	for _, line := range strings.Split(output, "\n") {
		if m := nginxLine.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
			n, _ := strconv.Atoi(m[3])
			return complaint{m[1], m[2], n}, true
		}
	}
	return complaint{}, false
}

// httpdLine is how the Apache HTTP server names a line: "AH00526: Syntax error on
// line 3 of /file:", with what is wrong on the same line or the next.
var httpdLine = regexp.MustCompile(`(?:AH\d+: )?Syntax error on line (\d+) of (\S+?):(.*)$`)

func httpdComplaint(output string) (complaint, bool) {
	lines := strings.Split(output, "\n")
	for i, line := range lines {
		// Of included files the innermost is named last.
		m := httpdLine.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		if rest := strings.TrimSpace(m[3]); strings.Contains(rest, "Syntax error on line ") {
			if inner, ok := httpdComplaint(rest + "\n" + strings.Join(lines[i+1:], "\n")); ok {
				return inner, true
			}
		}
		n, _ := strconv.Atoi(m[1])
		c := complaint{strings.TrimSpace(m[3]), m[2], n}
		if c.what == "" && i+1 < len(lines) {
			c.what = strings.TrimSpace(lines[i+1])
		}
		return c, true
	}
	for _, line := range lines {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "AH"); ok {
			if _, what, ok := strings.Cut(text, ": "); ok && !strings.Contains(what, "ServerName") {
				return complaint{what: what}, true
			}
		}
	}
	return complaint{}, false
}
