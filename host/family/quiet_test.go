package family

import (
	"bytes"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"net"
	"testing"
	"testing/iotest"
	"time"

	godbus "github.com/godbus/dbus/v5"
)

// spoken is a message as a service manager may say it.
func spoken(t testing.TB, random *rand.Rand) (bytesOf []byte, heard bool) {
	t.Helper()
	m := &godbus.Message{Headers: map[godbus.HeaderField]godbus.Variant{godbus.FieldPath: godbus.MakeVariant(godbus.ObjectPath("/org/freedesktop/systemd1"))}}
	switch random.IntN(4) {
	case 0:
		m.Type, heard = godbus.TypeSignal, random.IntN(4) == 0
		m.Headers[godbus.FieldInterface] = godbus.MakeVariant("org.freedesktop.systemd1.Manager")
		m.Headers[godbus.FieldMember] = godbus.MakeVariant(map[bool]string{true: "JobRemoved", false: "UnitNew"}[heard])
	case 1:
		m.Type = godbus.TypeSignal
		m.Headers[godbus.FieldInterface] = godbus.MakeVariant("org.freedesktop.DBus.Properties")
		m.Headers[godbus.FieldMember] = godbus.MakeVariant("PropertiesChanged")
	default:
		m.Type, heard = godbus.TypeMethodReply, true
		m.Headers = map[godbus.HeaderField]godbus.Variant{godbus.FieldReplySerial: godbus.MakeVariant(random.Uint32())}
	}
	if words := random.IntN(3) * random.IntN(20_000); words > 0 {
		m.Body = []any{string(bytes.Repeat([]byte("JobRemoved "), 1+words/11)), random.Uint32()}
		m.Headers[godbus.FieldSignature] = godbus.MakeVariant(godbus.SignatureOf(m.Body...))
	}
	var order binary.ByteOrder = binary.LittleEndian
	if random.IntN(3) == 0 {
		order = binary.BigEndian
	}
	var out bytes.Buffer
	if err := m.EncodeTo(&out, order); err != nil {
		t.Fatal(err)
	}
	return out.Bytes(), heard
}

// pieces is a line that gives what it has in pieces.
type pieces struct {
	net.Conn
	r io.Reader
}

func (p pieces) Read(b []byte) (int, error) { return p.r.Read(b) }

// Answers and the ends of jobs pass byte for byte, and no other signal does, whatever pieces they come in.
func TestOnlyAnswersAndEndsOfJobsPass(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	for range 60 {
		var all, wanted []byte
		for range 40 {
			m, heard := spoken(t, random)
			if all = append(all, m...); heard {
				wanted = append(wanted, m...)
			}
		}
		var r io.Reader = bytes.NewReader(all)
		switch random.IntN(3) {
		case 0:
			r = iotest.HalfReader(r)
		case 1:
			r = iotest.OneByteReader(r)
		}
		q := newQuiet(pieces{r: r})
		q.begun = true
		got, err := io.ReadAll(q)
		if err != nil || !bytes.Equal(got, wanted) {
			t.Fatalf("%d bytes passed of %d, of which %d were to (%v)", len(got), len(all), len(wanted), err)
		}
	}
}

// Before messages begin, lines of text pass as they are; and a signal that comes with the last of them is left out.
func TestWhatComesBeforeMessagesPasses(t *testing.T) {
	ours, theirs := net.Pipe()
	defer ours.Close()
	go func() {
		defer theirs.Close()
		buf := make([]byte, 100)
		for _, line := range []string{"REJECTED EXTERNAL\r\n", "OK 0123456789abcdef0123456789abcdef\r\n", ""} {
			for { // a null byte comes alone
				if n, err := theirs.Read(buf); err != nil {
					return
				} else if n > 1 {
					break
				}
			}
			if line != "" {
				io.WriteString(theirs, line)
			}
		}
		random := rand.New(rand.NewPCG(7, 7))
		for range 20 {
			m, _ := spoken(t, random)
			theirs.Write(m)
		}
	}()
	q := newQuiet(ours)
	c, err := godbus.NewConn(q)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Auth([]godbus.Auth{godbus.AuthExternal("0")}); err != nil {
		t.Fatal(err)
	}
	select {
	case <-c.Context().Done():
	case <-time.After(10 * time.Second):
		t.Fatal("the end of the line was not heard")
	}
}

// What is no message ends the line, and is not waited for.
func FuzzQuiet(f *testing.F) {
	random := rand.New(rand.NewPCG(1, 1))
	for range 4 {
		m, _ := spoken(f, random)
		f.Add(m)
		f.Add(m[:len(m)/2])
	}
	f.Add([]byte("l\x04\x00\x01\xff\xff\xff\xff\x01\x00\x00\x00\xff\xff\xff\xff"))
	f.Fuzz(func(t *testing.T, in []byte) {
		q := newQuiet(pieces{r: bytes.NewReader(in)})
		q.begun = true
		out, err := io.ReadAll(q)
		if len(out) > len(in) || err == nil && len(in) > 0 && (len(in) < headLength || in[0] != 'l' && in[0] != 'B') {
			t.Errorf("%d bytes of %d, %v", len(out), len(in), err)
		}
	})
}
