package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"sync"
	"time"

	"golang.org/x/net/http2"

	"northstake/core/wire"
	"northstake/host/journal"
)

// Server answers the service's requests on a host.
type Server struct {
	host *Host
	mux  *http.ServeMux

	mu     sync.Mutex
	wants  map[string][]wire.Want
	lock   *journal.Lock
	line   time.Duration           // for how long the line of the run may be gone
	cancel context.CancelCauseFunc // ends the step that is under way
	ended  bool                    // the connection has: nothing is begun any more
	active sync.WaitGroup          // requests about runs that are being answered
}

// NewServer makes a server for a machine.
func NewServer(h *Host) *Server {
	s := &Server{host: h, mux: http.NewServeMux(), wants: map[string][]wire.Want{}}
	s.mux.HandleFunc("POST /traits", s.traits)
	s.mux.HandleFunc("POST /survey", s.survey)
	s.mux.HandleFunc("POST /probe", s.probe)
	s.mux.HandleFunc("POST /containers/{name}/rod", s.inside)
	s.mux.HandleFunc("POST /journal", s.journal)
	s.mux.HandleFunc("POST /journal/{run}/{number}/dismiss", s.counted(s.dismiss))
	s.mux.HandleFunc("POST /blobs/missing", s.missing)
	s.mux.HandleFunc("POST /blobs", s.blobs)
	s.mux.HandleFunc("POST /runs/{run}/open", s.counted(s.open))
	s.mux.HandleFunc("POST /runs/{run}/close", s.counted(s.close))
	s.mux.HandleFunc("POST /runs/{run}/steps/{number}", s.counted(s.step))
	s.mux.HandleFunc("POST /runs/{run}/steps/{number}/confirm", s.counted(s.confirm))
	s.mux.HandleFunc("POST /runs/{run}/cancel", s.cancelStep)
	s.mux.HandleFunc("POST /runs/{run}/back", s.counted(s.back))
	s.mux.HandleFunc("POST /runs/{run}/preflight", s.counted(s.preflight))
	return s
}

// ServeHTTP answers what is asked in the rod's own version of the wire: a service sends the rod of its
// release, and another one's would be misunderstood.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if said := r.Header.Get(wire.VersionHeader); said != strconv.Itoa(wire.Version) {
		refuse(w, &wire.Fault{What: fmt.Sprintf("this rod speaks version %d of the wire, and was asked in version %q", wire.Version, said), Fix: "let the service send its own: it lies below /var/lib/northstake/rod by its sum"})
		return
	}
	s.mux.ServeHTTP(w, r)
}

// counted has ServeConn wait for a request about a run. One that comes to its turn when
// the connection has ended is not begun: nobody would wait for it, and the lock is gone.
func (s *Server) counted(handle http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		if s.ended {
			s.mu.Unlock()
			refuse(w, errors.New("the connection has ended"))
			return
		}
		s.active.Add(1)
		s.mu.Unlock()
		defer s.active.Done()
		handle(w, r)
	}
}

// silence is how long the service may say nothing until it is asked whether it is there, and how long
// it may take to say so.
const silence = 15 * time.Second

// ServeConn speaks HTTP/2 on a connection until it ends, and returns when the
// step that was being done has ended too.
func (s *Server) ServeConn(c net.Conn) {
	// A service that has vanished without a word is told by its silence, and the host's lock ends.
	(&http2.Server{ReadIdleTimeout: silence, PingTimeout: silence, MaxReadFrameSize: 1 << 20, MaxUploadBufferPerConnection: 8 << 20, MaxUploadBufferPerStream: 4 << 20}).
		ServeConn(c, &http2.ServeConnOpts{Handler: s})
	s.mu.Lock()
	s.ended = true
	s.mu.Unlock()
	s.active.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lock != nil {
		s.lock.Release()
	}
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	// The other side has gone when this fails, and there is nobody to tell.
	_ = json.NewEncoder(w).Encode(v)
}

func refuse(w http.ResponseWriter, err error) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusInternalServerError)
	_ = json.NewEncoder(w).Encode(faultOf(err))
}

func faultOf(err error) *wire.Fault {
	var f *wire.Fault
	if errors.As(err, &f) {
		if err.Error() != f.What {
			copied := *f
			copied.What = err.Error()
			return &copied
		}
		return f
	}
	return &wire.Fault{What: err.Error()}
}

func read(w http.ResponseWriter, r *http.Request, v any) bool {
	if err := json.NewDecoder(r.Body).Decode(v); err != nil {
		refuse(w, fmt.Errorf("the request cannot be understood: %w", err))
		return false
	}
	return true
}
