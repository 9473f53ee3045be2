// Package requests reads a table of requests and what is to be answered, which people read
// as well, and makes the requests: byte by byte as they stand there.
package requests

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Row is one line of the table: what is asked, and what is to be answered.
type Row struct {
	Line     int
	Request  string   // "GET http://harbour.test/"
	With     []string // headers, "over IPv6", "body of 20 bytes", "20 bytes in chunks", "websocket"
	Statuses []string // one of these
	Wanted   []string // what else is to be so
}

var spans = regexp.MustCompile("`([^`]+)`")

// repeated is text that stands for many of itself: "{a x 300}".
var repeated = regexp.MustCompile(`\{([^ {}]+) x ([0-9]+)\}`)

// Parse reads the tables of a page: of each row the code spans of the first column are the
// request, and those of the second what is to be answered.
func Parse(page string) ([]Row, error) {
	var out []Row
	for i, line := range strings.Split(page, "\n") {
		if !strings.HasPrefix(line, "| `") {
			continue
		}
		columns := strings.Split(strings.ReplaceAll(line, `\|`, "\x00"), "|")
		if len(columns) < 4 {
			return nil, fmt.Errorf("line %d has no two columns", i+1)
		}
		in := func(column string) []string {
			var list []string
			for _, m := range spans.FindAllStringSubmatch(column, -1) {
				list = append(list, strings.ReplaceAll(m[1], "\x00", "|"))
			}
			return list
		}
		asked, answered := in(columns[1]), in(columns[2])
		if len(asked) == 0 || len(answered) == 0 {
			return nil, fmt.Errorf("line %d asks or answers nothing", i+1)
		}
		r := Row{Line: i + 1, Request: asked[0], With: asked[1:]}
		for _, a := range answered {
			if _, err := strconv.Atoi(a); err == nil {
				r.Statuses = append(r.Statuses, a)
			} else {
				r.Wanted = append(r.Wanted, a)
			}
		}
		if len(r.Statuses) == 0 {
			return nil, fmt.Errorf("line %d has no status", i+1)
		}
		out = append(out, r)
	}
	return out, nil
}

// Host is where a row's requests go: the server's address, and, over IPv6, what Inside
// connects to from the host itself. Values stand in the table as {NAME}.
type Host struct {
	Address string
	Inside  func(ctx context.Context, address string) (net.Conn, error)
	Values  map[string]string
}

func (h Host) dial(ctx context.Context, ipv6 bool, port string) (net.Conn, error) {
	if ipv6 {
		return h.Inside(ctx, net.JoinHostPort("::1", port))
	}
	return (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", net.JoinHostPort(h.Address, port))
}

func (h Host) fill(s string) string {
	for name, v := range h.Values {
		s = strings.ReplaceAll(s, "{"+name+"}", v)
	}
	return s
}

// answer is what came back.
type answer struct {
	*http.Response
	body []byte
	took time.Duration
}

// Try makes the request of a row, and says what is not as wanted.
func (r Row) Try(ctx context.Context, h Host) error {
	a, err := r.ask(ctx, h, nil)
	if err != nil {
		return fmt.Errorf("no answer: %w", err)
	}
	if slices.ContainsFunc(r.With, func(w string) bool { return strings.Contains(w, "{etag}") || strings.Contains(w, "{modified}") }) {
		if a, err = r.ask(ctx, h, a); err != nil {
			return fmt.Errorf("no second answer: %w", err)
		}
	}
	if !slices.Contains(r.Statuses, strconv.Itoa(a.StatusCode)) {
		return fmt.Errorf("answered %d, wanted %s; %v %.200s", a.StatusCode, strings.Join(r.Statuses, " or "), a.Header, a.body)
	}
	for _, w := range r.Wanted {
		if err := r.meets(a, h.fill(w)); err != nil {
			return fmt.Errorf("%w; %d %v %.200q", err, a.StatusCode, a.Header, a.body)
		}
	}
	return nil
}

// ask makes the request; former is the answer to the same without conditions.
func (r Row) ask(ctx context.Context, h Host, former *answer) (*answer, error) {
	q, err := r.message(h, former)
	if err != nil {
		return nil, err
	}
	start := time.Now()
	c, err := h.dial(ctx, q.ipv6, q.port)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if err := c.SetDeadline(time.Now().Add(30 * time.Second)); err != nil {
		return nil, err
	}
	if _, err := c.Write(q.head()); err != nil {
		return nil, err
	}
	go c.Write(append(q.body, q.chunks...)) // the server may answer before it has read all of it
	in := bufio.NewReader(c)
	res, err := http.ReadResponse(in, &http.Request{Method: q.method})
	if err != nil {
		return nil, err
	}
	a := &answer{Response: res}
	if res.StatusCode == http.StatusSwitchingProtocols {
		a.body, err = frames(c, in)
		return a, err
	}
	first := make([]byte, 1)
	n, _ := res.Body.Read(first)
	a.took = time.Since(start)
	a.body, err = io.ReadAll(res.Body)
	a.body = append(first[:n], a.body...)
	if err != nil {
		return nil, fmt.Errorf("the answer broke off: %w", err)
	}
	return a, nil
}

// message is a request as it goes over the line.
type message struct {
	method, host, port, path, version string
	ipv6, stays                       bool // it stays open
	headers                           []string
	body, chunks                      []byte
}

// message makes the request of a row; former is the answer to the same without conditions.
func (r Row) message(h Host, former *answer) (message, error) {
	method, target, _ := strings.Cut(h.fill(r.Request), " ")
	target = repeated.ReplaceAllStringFunc(target, func(s string) string {
		m := repeated.FindStringSubmatch(s)
		n, _ := strconv.Atoi(m[2])
		return strings.Repeat(m[1], n)
	})
	rest := strings.TrimPrefix(target, "http://")
	q := message{method: method, host: rest, port: "80", path: "/", version: "HTTP/1.1"}
	if cut := strings.IndexAny(rest, "/?"); cut >= 0 {
		q.host, q.path = rest[:cut], rest[cut:]
	}
	if _, p, ok := strings.Cut(q.host, ":"); ok {
		q.port = p
	}
	for _, w := range r.With {
		if err := q.with(w, former); err != nil {
			return q, err
		}
	}
	return q, nil
}

// with adds one thing that a request is made with.
func (q *message) with(w string, former *answer) error {
	switch {
	case w == "over IPv6":
		q.ipv6 = true
	case w == "websocket":
		key := make([]byte, 16)
		if _, err := rand.Read(key); err != nil {
			return err
		}
		q.stays = true
		q.headers = append(q.headers, "Connection: Upgrade", "Upgrade: websocket", "Sec-WebSocket-Version: 13", "Sec-WebSocket-Key: "+base64.StdEncoding.EncodeToString(key))
	case w == "no Host":
		q.host, q.version = "", "HTTP/1.0"
	case strings.HasPrefix(w, "account "):
		q.headers = append(q.headers, "Authorization: Basic "+base64.StdEncoding.EncodeToString([]byte(strings.TrimPrefix(w, "account "))))
	case strings.HasPrefix(w, "body of "):
		n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(w, "body of "), " bytes"))
		if err != nil {
			return err
		}
		q.body = bytes.Repeat([]byte("x"), n)
	case strings.HasSuffix(w, " bytes in chunks"):
		n, err := strconv.Atoi(strings.TrimSuffix(w, " bytes in chunks"))
		if err != nil {
			return err
		}
		q.headers = append(q.headers, "Transfer-Encoding: chunked")
		q.chunks = inChunks(n)
	case strings.Contains(w, "{etag}") || strings.Contains(w, "{modified}"):
		if former != nil {
			w = strings.ReplaceAll(w, "{etag}", former.Header.Get("ETag"))
			q.headers = append(q.headers, strings.ReplaceAll(w, "{modified}", former.Header.Get("Last-Modified")))
		}
	default:
		q.headers = append(q.headers, w)
	}
	return nil
}

// head is all of a request before its body.
func (q message) head() []byte {
	var out bytes.Buffer
	fmt.Fprintf(&out, "%s %s %s\r\n", q.method, q.path, q.version)
	if q.host != "" {
		fmt.Fprintf(&out, "Host: %s\r\n", q.host)
	}
	for _, l := range q.headers {
		fmt.Fprintf(&out, "%s\r\n", l)
	}
	if q.body != nil {
		fmt.Fprintf(&out, "Content-Length: %d\r\n", len(q.body))
	}
	if !q.stays {
		out.WriteString("Connection: close\r\n")
	}
	out.WriteString("\r\n")
	return out.Bytes()
}

// inChunks is a body of so many bytes in chunks of a thousand (RFC 9112, 7.1).
func inChunks(n int) []byte {
	var out []byte
	for n > 0 {
		one := min(n, 1000)
		out = fmt.Appendf(out, "%x\r\n%s\r\n", one, strings.Repeat("x", one))
		n -= one
	}
	return append(out, "0\r\n\r\n"...)
}

// frames sends a text as a WebSocket does (RFC 6455, 5.2), and returns what comes back.
func frames(c net.Conn, in *bufio.Reader) ([]byte, error) {
	text := []byte("ahoy")
	mask := []byte{1, 2, 3, 4}
	frame := []byte{0x81, 0x80 | byte(len(text)), 1, 2, 3, 4}
	for i, b := range text {
		frame = append(frame, b^mask[i%4])
	}
	if _, err := c.Write(frame); err != nil {
		return nil, err
	}
	head := make([]byte, 2)
	if _, err := io.ReadFull(in, head); err != nil {
		return nil, fmt.Errorf("the frame was not answered: %w", err)
	}
	body := make([]byte, head[1]&0x7f)
	_, err := io.ReadFull(in, body)
	return body, err
}

// meets says whether an answer is as one of the wanted things says.
func (r Row) meets(a *answer, want string) error {
	body, err := a.text()
	if err != nil {
		return err
	}
	word, value, _ := strings.Cut(want, " ")
	switch word {
	case "has":
		if !bytes.Contains(body, []byte(value)) {
			return fmt.Errorf("the body lacks %q", value)
		}
	case "hasn't":
		if bytes.Contains(body, []byte(value)) {
			return fmt.Errorf("the body has %q", value)
		}
	case "is":
		if string(body) != value {
			return fmt.Errorf("the body is not %q", value)
		}
	case "empty":
		if len(a.body) > 0 {
			return fmt.Errorf("the body is not empty")
		}
	case "no":
		if v := a.Header.Values(value); len(v) > 0 {
			return fmt.Errorf("header %s is %q", value, v)
		}
	case "soon":
		if a.took > time.Second {
			return fmt.Errorf("the first byte took %s", a.took)
		}
	case "to":
		return r.leadsTo(a, value)
	default:
		return a.hasHeader(want)
	}
	return nil
}

// text is the body as it was before it was compressed.
func (a *answer) text() ([]byte, error) {
	if a.Header.Get("Content-Encoding") != "gzip" || len(a.body) == 0 {
		return a.body, nil
	}
	z, err := gzip.NewReader(bytes.NewReader(a.body))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(z)
}

// leadsTo says whether an answer sends a visitor to a URL.
func (r Row) leadsTo(a *answer, value string) error {
	_, target, _ := strings.Cut(r.Request, " ")
	at, err := url.Parse(strings.ReplaceAll(target, `\`, "%5C"))
	if err != nil {
		return err
	}
	to, err := at.Parse(a.Header.Get("Location"))
	if err != nil {
		return err
	}
	if to.String() != value {
		return fmt.Errorf("leads to %s, wanted %s", to, value)
	}
	return nil
}

// hasHeader says whether an answer has a header with a value, or one that begins so.
func (a *answer) hasHeader(want string) error {
	name, value, ok := strings.Cut(want, ": ")
	got := strings.Join(slices.DeleteFunc(a.Header.Values(name), func(v string) bool { return v == "" }), ", ") // RFC 9110, 5.6.1.2
	if part, loose := strings.CutSuffix(value, "…"); loose {
		ok = strings.HasPrefix(got, part)
	} else {
		ok = ok && strings.EqualFold(strings.ReplaceAll(got, " ", ""), strings.ReplaceAll(value, " ", ""))
	}
	if !ok {
		return fmt.Errorf("header %s is %q, wanted %q", name, got, value)
	}
	return nil
}
