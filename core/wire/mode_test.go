package wire

import "testing"

// Every mode that there is is read as it was written, and nothing else is one.
func TestModesAreWhatTheySay(t *testing.T) {
	for bits := range uint32(0o10000) {
		m := ModeOf(bits)
		if got, err := m.Bits(); err != nil || got != bits || len(m) != 4 {
			t.Fatalf("%o is %q, and that %o, %v", bits, m, got, err)
		}
	}
	if m := ModeOf(0o100644); m != "0644" {
		t.Error(m)
	}
	for _, m := range []Mode{"", "rwx", "0888", "10000", "-1", "0x1f", "+755"} {
		if bits, err := m.Bits(); err == nil {
			t.Errorf("%q is read as %o", m, bits)
		}
	}
}
