package engine

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"northstake/core/stake"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// What keeps an engine from answering is told apart.
func TestAnEngineThatDoesNotAnswer(t *testing.T) {
	m := systemtest.Folder(t)
	says := func(want string) {
		t.Helper()
		if _, trouble := Of(context.Background(), m); trouble == nil || !strings.Contains(trouble.What, want) || trouble.Fix == "" {
			t.Errorf("%+v, want %s", trouble, want)
		}
	}
	says("there is no socket at /run/podman/podman.sock or /run/docker.sock")
	l := listen(t, m)
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	l.Close()
	says("nothing listens at /run/podman/podman.sock")
	os.Remove(m.Path("/run/podman/podman.sock"))
	serve(t, m, func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "no \x1b[2Jwater", http.StatusInternalServerError)
	})
	says("the container engine at /run/podman/podman.sock does not answer")
	if _, trouble := Of(context.Background(), m); strings.ContainsRune(trouble.What, 0x1b) {
		t.Errorf("%q reaches the terminal raw", trouble.What)
	}
}

// listen listens where an engine does.
func listen(t *testing.T, m *system.Machine) net.Listener {
	t.Helper()
	socket := m.Path("/run/podman/podman.sock")
	if err := os.MkdirAll(filepath.Dir(socket), 0o755); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// serve is a stand-in for an engine, which answers as handle does.
func serve(t *testing.T, m *system.Machine, handle http.HandlerFunc) {
	t.Helper()
	s := httptest.NewUnstartedServer(handle)
	s.Listener.Close()
	s.Listener = listen(t, m)
	s.Start()
	t.Cleanup(s.Close)
}

func TestNamesOfImages(t *testing.T) {
	for image, want := range map[string]named{
		"registry.test:5000/tides:2.1":               {"registry.test:5000", "tides", "2.1"},
		"registry.test/quays/tides:2.1":              {"registry.test", "quays/tides", "2.1"},
		"registry.test:5000/tides":                   {"registry.test:5000", "tides", "latest"},
		"registry.test:5000/tides@sha256:0123456789": {"registry.test:5000", "tides", "sha256:0123456789"},
	} {
		if got := nameOf(image); got != want {
			t.Errorf("%s is %+v", image, got)
		}
	}
}

// What a registry answers is told apart; a password is never sent where there is no TLS.
func TestWhatARegistryOffers(t *testing.T) {
	status := http.StatusOK
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, _, ok := r.BasicAuth(); ok {
			t.Error("a password came without TLS")
		}
		if r.Method != http.MethodHead || r.URL.Path != "/v2/tides/manifests/2.1" {
			t.Errorf("it was asked for %s %s", r.Method, r.URL)
		}
		w.Header().Set("Docker-Content-Digest", "sha256:abc")
		w.WriteHeader(status)
	}))
	defer s.Close()
	n := nameOf(strings.TrimPrefix(s.URL, "http://") + "/tides:2.1")
	w := stake.ImageWant{Login: &stake.Sealed{Secret: "registry-login", Text: "purser:low"}}
	for code, want := range map[int]string{200: "", 401: "does not let in with secret registry-login", 404: "has no image tides with 2.1", 503: "answers with 503"} {
		status = code
		digest, trouble := offered(context.Background(), n, w)
		if want == "" && (digest != "sha256:abc" || trouble != nil) || want != "" && (trouble == nil || !strings.Contains(trouble.What, want)) {
			t.Errorf("%d: %s, %+v", code, digest, trouble)
		}
	}
	s.Close()
	if _, trouble := offered(context.Background(), n, w); trouble == nil || !strings.Contains(trouble.What, "does not answer") {
		t.Errorf("one that is away: %+v", trouble)
	}
}

// An environment is told in values that are wanted, in whether secrets are right, and in the
// names of the rest.
func TestAnEnvironmentTellsNoSecrets(t *testing.T) {
	key := []byte("key")
	w := stake.ContainerWant{Variables: map[string]string{"OFFICE": "north"}, Secrets: map[string]*stake.Sealed{
		"TOKEN": {Secret: "a", Key: key, Mark: stake.Mark(key, "low")}, "OTHER": {Secret: "b", Key: key, Mark: stake.Mark(key, "low")}}}
	var f stake.ContainerFound
	variables(&f, w, []string{"PATH=/x", "OFFICE=so\x1b[2Juth", "TOKEN=low", "OTHER=hidden-1", "STRAY=hidden-2", "TIDE=1"}, []string{"TIDE=1"})
	want := stake.ContainerFound{Variables: map[string]string{"OFFICE": "so[2Juth"}, Secrets: map[string]bool{"TOKEN": true, "OTHER": false}, More: []string{"STRAY"}}
	if !reflect.DeepEqual(f, want) {
		t.Errorf("%+v", f)
	}
	if text := fmt.Sprintf("%+v", f); strings.Contains(text, "hidden") || strings.Contains(text, "low") {
		t.Errorf("it tells %s", text)
	}
}

func FuzzFrames(f *testing.F) {
	frame := func(text string) []byte {
		return append(append([]byte{1, 0, 0, 0}, binary.BigEndian.AppendUint32(nil, uint32(len(text)))...), text...)
	}
	f.Add(append(frame("one\n"), frame("two\x1b[2J\n")...))
	f.Add([]byte{1, 0, 0, 0, 255, 255, 255, 255, 'x'})
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, line := range frames(b) {
			if !utf8.ValidString(line) || strings.IndexFunc(line, unicode.IsControl) >= 0 || len(line) > 520 {
				t.Errorf("%q", line)
			}
		}
		text := strings.Map(func(r rune) rune {
			if r == '\n' || r == utf8.RuneError || unicode.IsControl(r) {
				return 'x'
			}
			return r
		}, string(bytes.ToValidUTF8(b, nil)))
		if len(text) > 0 && len(text) < 400 && strings.TrimSpace(text) != "" {
			if got := frames(frame(text)); len(got) != 1 || got[0] != text {
				t.Errorf("%q comes back as %q", text, got)
			}
		}
	})
}
