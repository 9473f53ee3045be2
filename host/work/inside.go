package work

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"sync"

	"northstake/core/wire"
	"northstake/host/engine"
)

// inside starts the rod in a container of the host's engine, and carries what the service and
// that rod say to each other for as long as both are there.
func (s *Server) inside(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("name")
	e, trouble := engine.Of(r.Context(), s.host.Machine)
	if trouble != nil {
		refuse(w, &wire.Fault{What: trouble.What, Fix: trouble.Fix, Missing: true})
		return
	}
	is, err := e.Inspect(r.Context(), name)
	switch {
	case err != nil:
		refuse(w, err)
		return
	case is.ID == "":
		refuse(w, &wire.Fault{What: fmt.Sprintf("there is no container called %s", name), Fix: "declare it with the host of its engine, and apply that first; or correct the name", Missing: true})
		return
	case !is.Running:
		refuse(w, &wire.Fault{What: fmt.Sprintf("container %s does not run", name), Fix: "start it; northstake show says how the containers of its engine's host stand"})
		return
	}
	program, err := ownProgram()
	if err != nil {
		refuse(w, err)
		return
	}
	inner, err := e.Stand(r.Context(), is.ID, program)
	if err != nil {
		refuse(w, fmt.Errorf("put the rod into container %s: %w", name, err))
		return
	}
	defer inner.Close()
	w.WriteHeader(http.StatusOK)
	out := http.NewResponseController(w)
	if out.Flush() != nil {
		return
	}
	go func() {
		_, _ = io.Copy(inner, r.Body) // it has ended when the other side has
		inner.CloseWrite()
	}()
	_, _ = io.Copy(flushing{w, out}, inner)
	if said := inner.Said(); said != "" {
		fmt.Fprintf(os.Stderr, "the rod in container %s: %s\n", name, said)
	}
}

// ownProgram is the rod that runs here, named as the service names it.
var ownProgram = sync.OnceValues(func() (engine.Program, error) {
	read := func() ([]byte, error) { return os.ReadFile("/proc/self/exe") }
	text, err := read()
	sum := sha256.Sum256(text)
	return engine.Program{Hash: hex.EncodeToString(sum[:])[:32], Size: int64(len(text)), Read: read}, err
})

// flushing sends what is written at once.
type flushing struct {
	w   io.Writer
	out *http.ResponseController
}

func (f flushing) Write(b []byte) (int, error) {
	n, err := f.w.Write(b)
	if err == nil {
		err = f.out.Flush()
	}
	return n, err
}
