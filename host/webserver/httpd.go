package webserver

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// httpd writes its process id anew whenever it has read its configuration
// (ap_log_pid, at each start and graceful restart), and adds workers at any time.
var _ = register("httpd", server{
	complaint: httpdComplaint,
	includes:  httpdIncludes,
	generation: func(m *system.Machine, l wire.Layout, _ []string) map[string]bool {
		if at, ok := m.ChangedAt(l.Pid); ok {
			return map[string]bool{at.String(): true}
		}
		return nil
	},
	readAt: func(m *system.Machine, l wire.Layout, _ []string) (time.Time, bool) {
		return m.ChangedAt(l.Pid)
	},
	names: func(text string) (out []claim) {
		rest := text
		for m := virtualHosts.FindStringSubmatchIndex(rest); m != nil; m = virtualHosts.FindStringSubmatchIndex(rest) {
			out = append(out, claimed(listed(rest[:m[0]], serverNames), nil)...)
			block, after := rest[m[1]:], ""
			if end := virtualHostEnd.FindStringIndex(block); end != nil {
				block, after = block[:end[0]], block[end[1]:]
			}
			out = append(out, claimed(listed(block, serverNames), portsSaid(rest[m[2]:m[3]]))...)
			rest = after
		}
		return append(out, claimed(listed(rest, serverNames), nil)...)
	},
	// The first virtual host of an address is the one, and files are read in the order of
	// their names.
	byName: true,
	firsts: func(text string) []int {
		var out []int
		for _, m := range virtualHosts.FindAllStringSubmatch(comments.ReplaceAllString(text, ""), -1) {
			out = append(out, portsSaid(m[1])...)
		}
		return out
	},
	hosts: func(text string) []int {
		var out []int
		for _, m := range virtualHosts.FindAllStringSubmatch(comments.ReplaceAllString(text, ""), -1) {
			said := portsSaid(m[1])
			if len(said) == 0 {
				said = []int{0}
			}
			out = append(out, said...)
		}
		return out
	},
	// What is bound to a condition may hold or not; North Stake's own lines are.
	listens: func(text string) []int {
		var out []int
		depth := 0
		for line := range strings.Lines(comments.ReplaceAllString(wire.SwitchedOn(text), "")) {
			switch line = strings.TrimSpace(line); {
			case ifOpens.MatchString(line):
				depth++
			case ifCloses.MatchString(line):
				depth--
			case depth == 0:
				if m := listenLine.FindStringSubmatch(line); m != nil {
					n, _ := strconv.Atoi(m[1])
					out = append(out, n)
				}
			}
		}
		return out
	},
	alone: func(text string, _ candidate) string { return text },
})

var (
	virtualHostEnd = regexp.MustCompile(`(?mi)^\s*</VirtualHost>`)
	virtualHosts   = regexp.MustCompile(`(?mi)^\s*<VirtualHost\s+([^>]*)>`)
	ports          = regexp.MustCompile(`:(\d+)(?:\s|$)`)
	listenLine     = regexp.MustCompile(`(?i)^Listen\s+(?:\S*:)?(\d+)(?:\s|$)`)
	ifOpens        = regexp.MustCompile(`(?i)^<If`)
	ifCloses       = regexp.MustCompile(`(?i)^</If`)
)

var serverNames = regexp.MustCompile(`(?mi)^\s*Server(?:Name|Alias)\s+([^\n]+)$`)

// portsSaid are the ports of the addresses of a virtual host, none where it answers on any.
func portsSaid(addresses string) (out []int) {
	for _, port := range ports.FindAllStringSubmatch(addresses, -1) {
		n, _ := strconv.Atoi(port[1])
		out = append(out, n)
	}
	return out
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
		c := complaint{strings.TrimSpace(m[3]), wire.Path(m[2]), n}
		if c.What == "" && i+1 < len(lines) {
			c.What = strings.TrimSpace(lines[i+1])
		}
		return c, true
	}
	for _, line := range lines {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "AH"); ok {
			if _, what, ok := strings.Cut(text, ": "); ok && !strings.Contains(what, "ServerName") {
				return complaint{What: what}, true
			}
		}
	}
	return complaint{}, false
}
