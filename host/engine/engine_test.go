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

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/network"

	"northstake/core/wire"
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

// What a registry answers is told apart; a password is never sent where there is no TLS; and one
// that hands out tokens is asked for one, with the login or without.
func TestWhatARegistryOffers(t *testing.T) {
	const digest = "sha256:0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"
	status, clear := http.StatusOK, true
	answer := func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/v2/":
			return
		case r.Method != http.MethodHead || r.URL.Path != "/v2/tides/manifests/2.1":
			t.Errorf("it was asked for %s %s", r.Method, r.URL)
		}
		w.Header().Set("Content-Type", "application/vnd.oci.image.manifest.v1+json")
		w.Header().Set("Content-Length", "100")
		w.Header().Set("Docker-Content-Digest", digest)
		if status == http.StatusFound {
			w.Header().Set("Location", "http://192.0.2.1/")
		}
		w.WriteHeader(status)
	}
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			t.Error("a password came without TLS")
		}
		answer(w, r)
	}))
	defer plain.Close()
	var secure *httptest.Server
	secure = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, basic := r.BasicAuth()
		switch {
		case r.URL.Path == "/token" && (clear || basic && user == "purser" && password == "low"):
			fmt.Fprint(w, `{"token":"ebb"}`)
		case r.URL.Path == "/token":
			w.WriteHeader(http.StatusUnauthorized)
		case r.Header.Get("Authorization") != "Bearer ebb":
			w.Header().Set("WWW-Authenticate", `Bearer realm="`+secure.URL+`/token",service="tides"`)
			w.WriteHeader(http.StatusUnauthorized)
		default:
			answer(w, r)
		}
	}))
	defer secure.Close()
	login := wire.ImageWant{Login: &wire.Sealed{Secret: "registry-login", Text: "purser:low"}}
	ask := func(s *httptest.Server, w wire.ImageWant) (string, *wire.Trouble) {
		_, address, _ := strings.Cut(s.URL, "://")
		return offered(context.Background(), nameOf(address+"/tides:2.1"), w, secure.Client().Transport)
	}
	for code, want := range map[int]string{200: "", 302: "leads elsewhere", 401: "does not let in with secret registry-login", 404: "has no image tides with 2.1", 503: "answers with 503"} {
		for _, s := range []*httptest.Server{plain, secure} {
			status = code
			got, trouble := ask(s, login)
			if want == "" && (got != digest || trouble != nil) || want != "" && (trouble == nil || !strings.Contains(trouble.What, want)) {
				t.Errorf("%s %d: %s, %+v", s.URL, code, got, trouble)
			}
		}
	}
	status = http.StatusOK
	if got, trouble := ask(secure, wire.ImageWant{}); got != digest || trouble != nil {
		t.Errorf("a token for nobody: %s, %+v", got, trouble)
	}
	clear = false
	if got, trouble := ask(secure, login); got != digest || trouble != nil {
		t.Errorf("a token for a login: %s, %+v", got, trouble)
	}
	login.Login.Text = "purser:high"
	if _, trouble := ask(secure, login); trouble == nil || !strings.Contains(trouble.What, "does not let in with secret registry-login") {
		t.Errorf("a wrong login: %+v", trouble)
	}
	if got, trouble := ask(secure, wire.ImageWant{}); got != "" || trouble != nil {
		t.Errorf("no login where one is wanted: %s, %+v", got, trouble)
	}
	plain.Close()
	if _, trouble := ask(plain, login); trouble == nil || !strings.Contains(trouble.What, "does not answer") {
		t.Errorf("one that is away: %+v", trouble)
	}
}

// An environment is told in values that are wanted, in whether secrets are right, and in the
// names of the rest.
func TestAnEnvironmentTellsNoSecrets(t *testing.T) {
	key := []byte("key")
	w := wire.ContainerWant{Variables: map[string]string{"OFFICE": "north"}, Secrets: map[string]*wire.Sealed{
		"TOKEN": {Secret: "a", Key: key, Mark: wire.Mark(key, "low")}, "OTHER": {Secret: "b", Key: key, Mark: wire.Mark(key, "low")}}}
	var f wire.ContainerFound
	variables(&f, w, []string{"PATH=/x", "OFFICE=so\x1b[2Juth", "TOKEN=low", "OTHER=hidden-1", "STRAY=hidden-2", "TIDE=1"}, []string{"TIDE=1"})
	want := wire.ContainerFound{Variables: map[string]string{"OFFICE": "so[2Juth"}, Secrets: map[string]bool{"TOKEN": true, "OTHER": false}, More: []string{"STRAY"}}
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

// An engine that calls all its networks "bridge" tells their names elsewhere (K4), and a container
// that has lost its network is in none (V12).
func TestTheNetworkOfAContainer(t *testing.T) {
	inspect := func(mode string, running bool, names ...string) container.InspectResponse {
		c := container.InspectResponse{HostConfig: &container.HostConfig{NetworkMode: container.NetworkMode(mode)}, State: &container.State{Running: running}, NetworkSettings: &container.NetworkSettings{Networks: map[string]*network.EndpointSettings{}}}
		for _, n := range names {
			c.NetworkSettings.Networks[n] = &network.EndpointSettings{}
		}
		return c
	}
	for _, c := range []struct {
		is     container.InspectResponse
		wanted string
		got    string
	}{
		{inspect("bridge", true, "harbour"), "harbour", "harbour"},
		{inspect("bridge", false, "harbour"), "harbour", "harbour"},
		{inspect("bridge", true, "harbour", "podman"), "harbour", "harbour"},
		{inspect("bridge", true, "pier"), "harbour", "pier"},
		{inspect("bridge", true, "podman"), "harbour", ""},
		{inspect("bridge", true, "podman"), "", ""},
		{inspect("bridge", true, "bridge"), "", ""},
		{inspect("bridge", true, "pier"), "", "pier"},
		{inspect("harbour", true, "harbour"), "harbour", "harbour"},
		{inspect("bridge", true), "", "none"},
		{inspect("bridge", true), "harbour", "none"},
		{inspect("bridge", false), "", ""},
		{inspect("host", true, "host"), "host", "host"},
		{inspect("none", true), "none", "none"},
		{inspect("slirp4netns", true), "", ""},
	} {
		if got := networkIn(c.is, c.wanted); got != c.got {
			t.Errorf("%s, %v, wanted %q: it is in %q, not in %q", c.is.HostConfig.NetworkMode, c.is.NetworkSettings.Networks, c.wanted, got, c.got)
		}
	}
}
