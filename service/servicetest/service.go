// Package servicetest runs the whole service in the process of a test: a real
// PostgreSQL, the HTTP interface on loopback, and hosts that are folders, each with a
// rod of its own behind a pipe.
package servicetest

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"northstake/core/declare"
	"northstake/core/wire"
	"northstake/host/journal"
	"northstake/host/reach"
	"northstake/host/rehearse"
	"northstake/host/rod"
	"northstake/host/system/systemtest"
	"northstake/host/work"
	"northstake/lab"
	"northstake/service/api"
	"northstake/service/auth"
	"northstake/service/contract"
	"northstake/service/jobs"
	"northstake/service/store"
)

// Main runs the tests of a package with a PostgreSQL cluster of their own, and returns
// their exit status. Its address is then that of Database.
func Main(m *testing.M) int {
	return lab.WithPostgres(func(address string) int {
		Database = address
		return m.Run()
	})
}

// Database is the address of the cluster.
var Database string

// Via is what a declaration says of a host that is a folder: via = "folder".
const Via = "folder"

var (
	_ = declare.RegisterTransport(Via, declare.Transport{Address: "127.0.0.1"})
	_ = reach.Register(Via, reach.Transport{Start: start})
)

// folders are the hosts there are, by their names.
var folders sync.Map

// Host is a host that is a folder.
type Host struct {
	*work.Host
	t testing.TB

	mu    sync.Mutex
	lines []net.Conn
	late  int
}

// NewHost makes a host that is an empty folder, under a name that no other test has.
func NewHost(t testing.TB, name string) *Host {
	h := &Host{Host: &work.Host{Machine: systemtest.Folder(t)}, t: t}
	h.Boundary = rehearse.Hold(h.Machine)
	systemtest.Put(t, h.Machine, "/etc/os-release", "ID=debian\nPRETTY_NAME=\"A folder\"\n")
	if _, taken := folders.LoadOrStore(name, h); taken {
		t.Fatalf("there is a host %s already", name)
	}
	t.Cleanup(func() { folders.Delete(name) })
	return h
}

// Cut breaks all lines to the host.
func (h *Host) Cut() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, l := range h.lines {
		l.Close()
	}
	h.lines = nil
}

// Late has the host not answer in time to so many of the next connections.
func (h *Host) Late(connections int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.late = connections
}

// isLate says whether this connection is one of those.
func (h *Host) isLate() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.late = max(h.late-1, -1)
	return h.late >= 0
}

// Text is what a file of the host holds, "" where there is none.
func (h *Host) Text(path string) string {
	b, err := os.ReadFile(h.Path(wire.Path(path)))
	if err != nil {
		return ""
	}
	return string(b)
}

// Hold makes the host stop at a boundary of a step, as "2 worked", and Reached waits
// until it has. Unhold lets it go on.
func (h *Host) Hold(boundary string) {
	h.t.Helper()
	if err := os.MkdirAll(h.State(), 0o700); err != nil {
		h.t.Fatal(err)
	}
	name, _ := rehearse.File(h.Machine)
	if err := os.WriteFile(name, []byte(boundary), 0o600); err != nil {
		h.t.Fatal(err)
	}
}

// Reached waits until the host stands at the boundary.
func (h *Host) Reached() {
	h.t.Helper()
	_, reached := rehearse.File(h.Machine)
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		if _, err := os.Stat(reached); err == nil {
			return
		}
	}
	h.t.Fatal("the boundary was not reached")
}

// Unhold lets the host go on.
func (h *Host) Unhold() {
	name, reached := rehearse.File(h.Machine)
	os.Remove(name)
	os.Remove(reached)
}

// Busy has another run hold the host's lock, until end is called.
func (h *Host) Busy(run string) (end func()) {
	h.t.Helper()
	l, err := journal.Take(context.Background(), h.Machine, run)
	if err != nil {
		h.t.Fatal(err)
	}
	return l.Release
}

func start(_ context.Context, t reach.Target, _ reach.KnownKeys, _ reach.Rods) (*rod.Conn, func(), error) {
	v, ok := folders.Load(t.Host)
	if !ok {
		return nil, nil, &reach.Trouble{Kind: "no-route", What: fmt.Sprintf("no folder is called %s", t.Host), Fix: "make it"}
	}
	h := v.(*Host)
	if h.isLate() {
		return nil, nil, &reach.Trouble{Kind: reach.NoAnswer, What: fmt.Sprintf("host %s does not answer", t.Host), Fix: "look at its load"}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	defer listener.Close()
	ours, err := net.Dial("tcp", listener.Addr().String())
	if err != nil {
		return nil, nil, err
	}
	theirs, err := listener.Accept()
	if err != nil {
		return nil, nil, err
	}
	h.mu.Lock()
	h.lines = append(h.lines, theirs)
	h.mu.Unlock()
	go work.NewServer(h.Host).ServeConn(theirs)
	conn, err := rod.NewConn(ours)
	return conn, func() { theirs.Close() }, err
}

// Service is a running service with a client of its own.
type Service struct {
	URL    string
	Token  string
	Client *contract.ClientWithResponses
	Store  *store.Store
	Jobs   *jobs.Service
}

// Start starts a service on the cluster of Main.
func Start(t testing.TB) *Service {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	log := slog.New(slog.DiscardHandler)
	st, err := store.Open(ctx, Database, 10*time.Second, log)
	if err != nil {
		t.Fatal(err)
	}
	seal, err := auth.NewSeal(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	pool := reach.NewPool(nil)
	j, err := jobs.New(st, pool, seal, jobs.Silence, log)
	if err == nil {
		j.Fetching.OwnMachine = true  // what tests serve lies there
		j.RenewEvery = 24 * time.Hour // tests do it themselves: of grounds of others the key is missing
		err = j.Start(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	bell := store.NewBell(st, log)
	go bell.Run(ctx)
	token, hash := auth.NewToken()
	if err := st.AddToken(ctx, "keeper-"+token[len(token)-8:], hash, 0); err != nil {
		t.Fatal(err)
	}
	web := httptest.NewServer((&api.Server{Store: st, Jobs: j, Bell: bell, Seal: seal, Log: log, Version: "test"}).Handler(fstest.MapFS{"index.html": {Data: []byte("<h1>console</h1>")}}))
	s := &Service{URL: web.URL, Token: token, Store: st, Jobs: j}
	s.Client, err = contract.NewClientWithResponses(web.URL+"/api/v1", contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		s.Sign(r)
		return nil
	}))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		web.CloseClientConnections()
		web.Close()
		j.Stop()
		cancel()
		pool.Close()
		st.Close()
	})
	return s
}

// Sign puts the token on a request.
func (s *Service) Sign(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Token) }

// Follow waits for the end of a record's stream of events.
func (s *Service) Follow(t testing.TB, path string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := contract.Follow(ctx, http.DefaultClient, s.URL+"/api/v1"+path, 0, s.Sign, time.Second, func(contract.StreamEvent) error { return nil }); err != nil {
		t.Fatalf("follow %s: %v", path, err)
	}
}
