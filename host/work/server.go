package work

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/sync/errgroup"

	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
)

// Server answers the service's requests on a host.
type Server struct {
	m   *platform.Machine
	mux *http.ServeMux

	mu     sync.Mutex
	wants  map[string][]rod.Want
	lock   *lock
	active sync.WaitGroup // steps that are being done
}

// NewServer makes a server for a machine.
func NewServer(m *platform.Machine) *Server {
	s := &Server{m: m, mux: http.NewServeMux(), wants: map[string][]rod.Want{}}
	s.mux.HandleFunc("POST /traits", s.traits)
	s.mux.HandleFunc("POST /survey", s.survey)
	s.mux.HandleFunc("POST /probe", s.probe)
	s.mux.HandleFunc("POST /blobs/missing", s.missing)
	s.mux.HandleFunc("POST /blobs", s.blobs)
	s.mux.HandleFunc("POST /runs/{run}/open", s.open)
	s.mux.HandleFunc("POST /runs/{run}/close", s.close)
	s.mux.HandleFunc("POST /runs/{run}/steps/{number}", s.step)
	s.mux.HandleFunc("POST /runs/{run}/steps/{number}/confirm", s.confirm)
	s.mux.HandleFunc("POST /runs/{run}/back", s.back)
	s.mux.HandleFunc("POST /runs/{run}/preflight", s.preflight)
	return s
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

// ServeConn speaks HTTP/2 on a connection until it ends, and returns when the
// step that was being done has ended too.
func (s *Server) ServeConn(c net.Conn) {
	(&http2.Server{MaxReadFrameSize: 1 << 20, MaxUploadBufferPerConnection: 8 << 20, MaxUploadBufferPerStream: 4 << 20}).
		ServeConn(c, &http2.ServeConnOpts{Handler: s})
	s.active.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lock != nil {
		s.lock.release()
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

func faultOf(err error) *rod.Fault {
	var f *rod.Fault
	if errors.As(err, &f) {
		if err.Error() != f.What {
			copied := *f
			copied.What = err.Error()
			return &copied
		}
		return f
	}
	return &rod.Fault{What: err.Error()}
}

func read(w http.ResponseWriter, r *http.Request, v any) bool {
	if err := json.NewDecoder(r.Body).Decode(v); err != nil {
		refuse(w, fmt.Errorf("the request cannot be understood: %w", err))
		return false
	}
	return true
}

func (s *Server) traits(w http.ResponseWriter, r *http.Request) {
	t, err := s.m.Traits(r.Context())
	if err != nil {
		refuse(w, err)
		return
	}
	answer(w, t)
}

func (s *Server) survey(w http.ResponseWriter, r *http.Request) {
	var req rod.SurveyRequest
	if !read(w, r, &req) {
		return
	}
	s.mu.Lock()
	if req.Wants != nil {
		if len(s.wants) > 8 {
			clear(s.wants)
		}
		s.wants[req.Digest] = req.Wants
	}
	wants, known := s.wants[req.Digest]
	s.mu.Unlock()
	if !known {
		answer(w, rod.SurveyAnswer{Again: true})
		return
	}
	readings, err := json.Marshal(Survey(r.Context(), s.m, wants))
	if err != nil {
		refuse(w, err)
		return
	}
	sum := sha256.Sum256(readings)
	out := rod.SurveyAnswer{Sum: hex.EncodeToString(sum[:])}
	if out.Same = out.Sum == req.Known; !out.Same {
		out.Readings = readings
	}
	if out.Traits, err = s.m.Traits(r.Context()); err != nil {
		refuse(w, err)
		return
	}
	out.Clock = time.Now()
	answer(w, out)
	if err := hashesOf(s.m).save(s.m); err != nil {
		fmt.Fprintln(os.Stderr, "rod: keep file sums:", err)
	}
}

// Survey reads stakes, each kind beside the others. It changes nothing.
func Survey(ctx context.Context, m *platform.Machine, wants []rod.Want) []plan.Reading {
	out := make([]plan.Reading, len(wants))
	byType := map[string][]int{}
	for i, w := range wants {
		byType[w.Type] = append(byType[w.Type], i)
	}
	var wg sync.WaitGroup
	for typ, index := range byType {
		wg.Go(func() {
			w, err := workerOf(typ)
			if err != nil {
				for _, i := range index {
					out[i] = plan.Reading{Name: stake.Local(wants[i].Type, wants[i].Name), Unread: err.Error()}
				}
				return
			}
			some := make([]rod.Want, len(index))
			for n, i := range index {
				some[n] = wants[i]
			}
			for n, reading := range w.Read(ctx, m, some) {
				out[index[n]] = reading
			}
		})
	}
	wg.Wait()
	return out
}

func (s *Server) probe(w http.ResponseWriter, r *http.Request) {
	var p resolve.Probe
	if read(w, r, &p) {
		answer(w, rod.Probe(r.Context(), p, "127.0.0.1", "inside"))
	}
}

func (s *Server) missing(w http.ResponseWriter, r *http.Request) {
	var want rod.Want
	if !read(w, r, &want) {
		return
	}
	var work stake.ContentWork
	if err := json.Unmarshal(want.Want, &work); err != nil {
		refuse(w, err)
		return
	}
	out, err := missingBlobs(s.m, work)
	if err != nil {
		refuse(w, err)
		return
	}
	if out == nil {
		out = []string{}
	}
	answer(w, out)
}

const blobLimit = 4 << 30

// blobs takes a tar stream of files that are named by their SHA-256.
func (s *Server) blobs(w http.ResponseWriter, r *http.Request) {
	if err := receiveBlobs(s.m, r.Body); err != nil {
		refuse(w, err)
		return
	}
	answer(w, struct{}{})
}

// smallBlob is the most bytes of a piece that is read whole, so that it is written
// while the next is read.
const smallBlob = 1 << 20

// buffers are those that pieces are read into, used again.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

func receiveBlobs(m *platform.Machine, in io.Reader) error {
	if err := makeBlobDirs(m); err != nil {
		return err
	}
	writing, failed := errgroup.WithContext(context.Background())
	writing.SetLimit(4)
	err := eachBlob(in, func(name string, size int64, piece io.Reader) error {
		if size > smallBlob {
			return receiveBlob(m, name, piece)
		}
		b, _ := buffers.Get().(*bytes.Buffer)
		b.Reset()
		if _, err := io.CopyN(b, piece, size); err != nil {
			return fmt.Errorf("receive content: %w", err)
		}
		writing.Go(func() error {
			defer buffers.Put(b)
			return receiveBlob(m, name, bytes.NewReader(b.Bytes()))
		})
		return failed.Err()
	})
	if first := writing.Wait(); first != nil {
		return first
	}
	return err
}

// makeBlobDirs makes the directories that nobody but root may look into.
func makeBlobDirs(m *platform.Machine) error {
	for i := range 16 {
		if err := os.MkdirAll(filepath.Dir(blobFile(m, fmt.Sprintf("%x", i))), 0o700); err != nil {
			return err
		}
	}
	return nil
}

// eachBlob reads a tar stream of pieces of content.
func eachBlob(in io.Reader, take func(name string, size int64, piece io.Reader) error) error {
	t := tar.NewReader(in)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("receive content: %w", err)
		}
		if b, err := hex.DecodeString(h.Name); err != nil || len(b) != sha256.Size || h.Size > blobLimit || h.Typeflag != tar.TypeReg {
			return fmt.Errorf("receive content: %q is not a piece of content", h.Name)
		}
		if err := take(h.Name, h.Size, t); err != nil {
			return err
		}
	}
}

// receiveBlob keeps one piece under the name that it must have the sum of. What is cut
// off, or lost a part in a power cut, has another sum, and is sent again.
func receiveBlob(m *platform.Machine, name string, in io.Reader) error {
	f, err := os.OpenFile(blobFile(m, name), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o644) // nobody else can enter the directory
	if err != nil {
		return err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(sum, f), in)
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		err = fmt.Errorf("receive content: %w", err)
	} else if got := hex.EncodeToString(sum.Sum(nil)); got != name {
		err = fmt.Errorf("receive content: piece %s arrived as %s", name, got)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

func (s *Server) open(w http.ResponseWriter, r *http.Request) {
	run := r.PathValue("run")
	if _, err := strconv.ParseInt(run, 10, 64); err != nil {
		refuse(w, fmt.Errorf("%q is not a run", run))
		return
	}
	l, err := takeLock(r.Context(), s.m, run)
	if err != nil {
		refuse(w, err)
		return
	}
	recovered, err := recoverSteps(context.WithoutCancel(r.Context()), s.m)
	if err != nil {
		l.release()
		refuse(w, fmt.Errorf("clear up after an interrupted run: %w", err))
		return
	}
	steps, err := journal{s.m}.steps(run)
	if err != nil {
		l.release()
		refuse(w, err)
		return
	}
	s.mu.Lock()
	s.lock = l
	s.mu.Unlock()
	if l.waited > time.Second {
		recovered = append([]string{fmt.Sprintf("waited %s until the step that was under way had ended", l.waited.Round(time.Second))}, recovered...)
	}
	out := rod.OpenAnswer{Recovered: recovered, Steps: []rod.StepRecord{}}
	for _, r := range steps {
		out.Steps = append(out.Steps, rod.StepRecord{Number: r.Step.Number, Address: r.Step.Address, State: r.State})
	}
	answer(w, out)
}

func (s *Server) close(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lock != nil && s.lock.run == r.PathValue("run") {
		s.lock.release()
		s.lock = nil
	}
	answer(w, struct{}{})
}

// locked says whether this rod holds the host's lock for the run.
func (s *Server) locked(run string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lock == nil || s.lock.run != run {
		return fmt.Errorf("run %s has not been opened on this host", run)
	}
	return nil
}

// events runs work that reports its progress, one JSON object a line. The work
// goes on when the connection breaks.
func (s *Server) events(w http.ResponseWriter, r *http.Request, work func(ctx context.Context, say func(string, ...any)) (rod.StepState, error)) {
	if err := s.locked(r.PathValue("run")); err != nil {
		refuse(w, err)
		return
	}
	s.active.Add(1)
	defer s.active.Done()
	w.Header().Set("Content-Type", "application/x-ndjson")
	enc := json.NewEncoder(w)
	flush := http.NewResponseController(w)
	var mu sync.Mutex
	send := func(e rod.Event) {
		mu.Lock()
		defer mu.Unlock()
		_ = enc.Encode(e)
		_ = flush.Flush()
	}
	state, err := work(context.WithoutCancel(r.Context()), func(format string, args ...any) {
		send(rod.Event{Say: fmt.Sprintf(format, args...)})
	})
	if err != nil {
		send(rod.Event{Fault: faultOf(err)})
		return
	}
	send(rod.Event{State: state})
}

func (s *Server) step(w http.ResponseWriter, r *http.Request) {
	var step plan.Step
	if !read(w, r, &step) {
		return
	}
	if strconv.Itoa(step.Number) != r.PathValue("number") {
		refuse(w, errors.New("the step's number is not that of its address"))
		return
	}
	s.events(w, r, func(ctx context.Context, say func(string, ...any)) (rod.StepState, error) {
		return doStep(ctx, s.m, r.PathValue("run"), step, say)
	})
}

func (s *Server) preflight(w http.ResponseWriter, r *http.Request) {
	var steps []plan.Step
	if !read(w, r, &steps) {
		return
	}
	run := r.PathValue("run")
	err := s.locked(run)
	if err == nil {
		err = preflight(r.Context(), s.m, run, steps)
	}
	if err != nil {
		refuse(w, err)
		return
	}
	answer(w, struct{}{})
}

func (s *Server) back(w http.ResponseWriter, r *http.Request) {
	s.events(w, r, func(ctx context.Context, say func(string, ...any)) (rod.StepState, error) {
		return rod.Back, backRun(ctx, s.m, r.PathValue("run"), say)
	})
}

// confirm needs no lock: it comes over a new connection, and so to another rod
// than the one that holds it.
func (s *Server) confirm(w http.ResponseWriter, r *http.Request) {
	number, err := strconv.Atoi(r.PathValue("number"))
	if err != nil {
		refuse(w, fmt.Errorf("%q is not a step", r.PathValue("number")))
		return
	}
	if err := confirmStep(r.Context(), s.m, r.PathValue("run"), number); err != nil {
		refuse(w, err)
		return
	}
	answer(w, struct{}{})
}
