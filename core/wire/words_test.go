package wire

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestPortsAreReadAndWritten(t *testing.T) {
	for text, want := range map[string]string{"80/tcp": "80", "8000-8100/udp": "8000-8100", "0/tcp": "", "80-80/tcp": "", "90-80/tcp": "", "80": "", "080/tcp": "", "80/sctp": "", "1-65536/tcp": "", "-5/tcp": ""} {
		w, ok := ParsePorts(text)
		if ok != (want != "") || ok && (w.Span() != want || !strings.HasSuffix(text, "/"+w.Protocol)) {
			t.Errorf("%q is read as %+v, %t", text, w, ok)
		}
	}
}

func TestAVersionIsMetButForTheFamilysRevision(t *testing.T) {
	for version, met := range map[string]bool{"1.22.1": true, "1.22.1-9+deb12u1": true, "1:1.22.1-3.el9": true, "1.22.10-1": false, "1.22": false, "2:1.22.1": true, "1.22.1-1-9": false} {
		if MeetsExactly(version, "1.22.1") != met {
			t.Errorf("%s meets 1.22.1: %t", version, !met)
		}
	}
}

func TestAMemoKnowsTheSameBytesAndNoOthers(t *testing.T) {
	m := NewMemo()
	big := func(text string) json.RawMessage {
		return JSON(map[string]string{"name": text + strings.Repeat("x", 5000)})
	}
	a, b := big("a"), big("b")
	for range 2 {
		for raw, first := range map[*json.RawMessage]byte{&a: 'a', &b: 'b'} {
			v, err := Decode[PackageWant](m, "same key", *raw)
			if err != nil || v.Name[0] != first {
				t.Fatalf("%q, %v", v.Name[:1], err)
			}
		}
	}
	if _, err := Decode[PackageWant](nil, "", json.RawMessage("{")); err == nil {
		t.Error("broken JSON is read")
	}
}

func TestSizesForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1500: "1.5 KB", 48_000: "48 KB", 1_500_000: "1.5 MB", 25e9: "25 GB", 5e12: "5000 GB"} {
		if got := Bytes(n); got != want {
			t.Errorf("%d is %q, want %q", n, got, want)
		}
	}
}
