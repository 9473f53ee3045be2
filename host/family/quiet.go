package family

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net"
)

// quiet is a line to systemd without most of what it says unasked. On its private socket systemd tells everybody
// of every change of every unit, thousands while a host boots or a package is installed, and to take those to
// pieces is more work than all that is asked. Only the ends of jobs are passed on.
type quiet struct {
	net.Conn
	in     *bufio.Reader
	begun  bool   // messages follow; lines of text before that (D-Bus specification, Authentication Protocol)
	passes []byte // of a message that is passed on, what has not been read
	body   int64  // and how much follows of it
}

func newQuiet(c net.Conn) *quiet { return &quiet{Conn: c, in: bufio.NewReaderSize(c, 32<<10)} }

// What a message begins with is its order of bytes, its type,
// and lengths (D-Bus specification, Message Format).
const (
	headLength   = 16
	signalType   = 4
	longestWords = 1 << 20 // of the fields of a header: names and a path
	longest      = 1 << 27
)

var (
	begin     = []byte("BEGIN\r\n")
	jobsEnded = []byte("JobRemoved")
)

// Write passes on what is said to systemd.
func (q *quiet) Write(p []byte) (int, error) {
	q.begun = q.begun || bytes.Equal(p, begin)
	return q.Conn.Write(p)
}

// Read passes on what systemd says, but for signals that nobody waits for.
func (q *quiet) Read(p []byte) (int, error) {
	if !q.begun {
		return q.in.Read(p)
	}
	for len(q.passes) == 0 && q.body == 0 {
		if err := q.next(); err != nil {
			return 0, err
		}
	}
	if len(q.passes) > 0 {
		n := copy(p, q.passes)
		q.passes = q.passes[n:]
		return n, nil
	}
	n, err := q.in.Read(p[:min(int64(len(p)), q.body)])
	q.body -= int64(n)
	return n, cutOff(err)
}

// cutOff is what a line's end is within a message.
func cutOff(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

var errGarbled = errors.New("systemd's answer is no message of D-Bus")

// next reads the header of a message, and leaves out those that nobody waits for.
func (q *quiet) next() error {
	head, err := q.in.Peek(headLength)
	if len(head) > 0 && err != nil {
		return cutOff(err)
	}
	if err != nil {
		return err
	}
	var order binary.ByteOrder = binary.LittleEndian
	switch head[0] {
	case 'l':
	case 'B':
		order = binary.BigEndian
	default:
		return errGarbled
	}
	body, fields := int64(order.Uint32(head[4:])), int64(order.Uint32(head[12:]))
	fields = (fields + 7) &^ 7
	if fields > longestWords || headLength+fields+body > longest {
		return errGarbled
	}
	all := make([]byte, headLength+fields)
	if _, err := io.ReadFull(q.in, all); err != nil {
		return cutOff(err)
	}
	if all[1] == signalType && !bytes.Contains(all, jobsEnded) {
		_, err := io.CopyN(io.Discard, q.in, body)
		return cutOff(err)
	}
	q.passes, q.body = all, body
	return nil
}
