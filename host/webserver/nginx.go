package webserver

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// nginx writes its process id once, and starts workers when it has read its
// configuration: the youngest is younger than the change.
var _ = register("nginx", server{
	complaint: nginxComplaint,
	includes:  nginxIncludes,
	generation: func(_ *system.Machine, _ wire.Layout, workers []string) map[string]bool {
		ids := map[string]bool{}
		for _, pid := range workers {
			ids[pid] = true
		}
		return ids
	},
	readAt: func(m *system.Machine, _ wire.Layout, workers []string) (time.Time, bool) {
		return youngEnough(m, workers)
	},
	names: func(text string) (out []claim) {
		begins := append(serverBlock.FindAllStringIndex(text, -1), []int{len(text), len(text)})
		out = claimed(listed(text[:begins[0][0]], nginxNames), nil) // of a block that another file opens
		for i, b := range begins[:len(begins)-1] {
			text := text[b[1]:begins[i+1][0]]
			block, whole := ownLines(text)
			switch ports, known := nginxPorts(block); {
			case !whole || !known:
				out = append(out, claimed(listed(text, nginxNames), nil)...)
			case len(ports) > 0: // else it listens on sockets alone
				out = append(out, claimed(listed(block, nginxNames), ports)...)
			}
		}
		return out
	},
	firsts: func(text string) []int {
		var out []int
		for _, m := range defaultServer.FindAllStringSubmatch(comments.ReplaceAllString(text, ""), -1) {
			n, err := strconv.Atoi(m[1])
			if err != nil {
				n = 80
			}
			out = append(out, n)
		}
		return out
	},
	hosts: func(text string) []int {
		text = comments.ReplaceAllString(text, "")
		var out []int
		for range serverBlock.FindAllString(text, -1) {
			out = append(out, 80) // where it says nothing
		}
		said := listens.FindAllStringSubmatch(text, -1)
		out = out[:max(0, len(out)-len(said))]
		for _, m := range said {
			if port, ok := portOf(m[1]); ok {
				out = append(out, port)
			}
		}
		return out
	},
	alone: func(text string, c candidate) string { return pidLine.ReplaceAllString(text, "${1}pid "+c.pid+";") },
})

var defaultServer = regexp.MustCompile(`(?m)(?:^|[\s;{}])listen\s+(?:[^;\s]*:)?(\d*)[^;\s]*\s[^;]*\bdefault(?:_server)?\b[^;]*;`)

// A server block, and where it listens: [::]:80, 127.0.0.1:8080, 8096, or an address alone.
var (
	serverBlock = regexp.MustCompile(`(?m)(?:^|[\s;{}])server\s*\{`)
	listens     = regexp.MustCompile(`(?m)(?:^|[\s;{}])listen\s+([^\s;]+)`)
)

// ownLines is what a block says itself, without the blocks in it, up to its end; whole is false where
// that is not found. Text is what stands behind its brace.
func ownLines(text string) (own string, whole bool) {
	var out strings.Builder
	depth, quote, from := 1, byte(0), 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && (i == 0 || strings.IndexByte(" \t\r\n;{}", text[i-1]) >= 0):
			quote = c
		case c == '{':
			if depth == 1 {
				out.WriteString(text[from:i])
			}
			depth++
		case c == '}':
			depth--
			if depth == 1 {
				out.WriteByte(';') // what stood before it has ended
				from = i + 1
			}
			if depth == 0 {
				out.WriteString(text[from:i])
				return out.String(), true
			}
		}
	}
	return "", false
}

// nginxPorts are those that a server block listens on, none where it does on sockets alone; they are not
// known where it takes something in.
func nginxPorts(block string) (ports []int, known bool) {
	said := listens.FindAllStringSubmatch(block, -1)
	if nginxIncludes.MatchString(block) {
		return nil, false
	}
	if len(said) == 0 {
		return []int{80}, true
	}
	for _, m := range said {
		if port, ok := portOf(m[1]); ok {
			ports = append(ports, port)
		}
	}
	return ports, true
}

// portOf is the port of what a server block listens on, false for a socket
// (ngx_http_core_module, "listen").
func portOf(at string) (int, bool) {
	if strings.HasPrefix(at, "unix:") {
		return 0, false
	}
	if i := strings.LastIndexByte(at, ':'); i > strings.LastIndexByte(at, ']') {
		at = at[i+1:]
	}
	if n, err := strconv.Atoi(at); err == nil {
		return n, true
	}
	return 80, true
}

var nginxNames = regexp.MustCompile(`(?m)(?:^|[\s;{}])server_name\s+([^;]+);`)

var pidLine = regexp.MustCompile(`(?m)^(\s*)pid\s+[^;]*;`)

// nginxLine is a line by which nginx refuses a configuration: "[emerg] 12#12: what
// is wrong in /file:3", with its name or the time in front.
var nginxLine = regexp.MustCompile(`\[(?:emerg|crit|alert)\] (?:\d+#\d+: )?(.*?)(?: in (/\S+):(\d+))?\s*$`)

func nginxComplaint(output string) (complaint, bool) {
	for _, line := range strings.Split(output, "\n") {
		if m := nginxLine.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
			n, _ := strconv.Atoi(m[3])
			return complaint{m[1], wire.Path(m[2]), n}, true
		}
	}
	return complaint{}, false
}
