package stage

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// Service is one northstaked.
type Service struct {
	Address, State, Database, Log string
	Programs                      string // where the programs lie; "" for those of this checkout
	Cmd                           *exec.Cmd

	options []string // of the service, beside those that all have
	mu      sync.Mutex
}

// StartService starts a service that keeps its state in a directory, and its records in a database.
func StartService(state, database string, options ...string) (*Service, error) {
	s := &Service{State: state, Database: database, Log: state + ".log", options: options}
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, err
	}
	return s, s.Start()
}

// bin is where the service's programs lie.
func (s *Service) bin() string { return cmp.Or(s.Programs, filepath.Join(Root, "bin")) }

// Start starts the service, on its former address where it had one.
func (s *Service) Start() error {
	listen := "127.0.0.1:0"
	if s.Address != "" {
		listen = strings.TrimPrefix(s.Address, "http://")
	}
	log, err := os.OpenFile(s.Log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	at, err := log.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	rods := filepath.Join(Root, "bin", "rehearsal") // which stop where a test tells them to
	if s.Programs != "" {
		rods = filepath.Join(s.Programs, "rods")
	}
	options := []string{"--listen", listen, "--state", s.State, "--rods", rods, "--takeover", "4s"}
	if s.Programs == "" { // earlier releases do not know these
		options = append(options, "--engine", Lab().Socket(), "--fetch-own-machine")
	}
	cmd := exec.Command(filepath.Join(s.bin(), "northstaked"), append(options, s.options...)...)
	cmd.Env = []string{"NORTHSTAKE_DATABASE=" + s.Database, "PATH=/usr/bin:/bin"}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return err
	}
	go cmd.Wait()
	if err := os.WriteFile(s.State+".pid", []byte(strconv.Itoa(cmd.Process.Pid)), 0o644); err != nil {
		return err
	}
	s.mu.Lock()
	s.Cmd = cmd
	s.mu.Unlock()
	for range 600 {
		b, err := os.ReadFile(s.Log)
		if err != nil {
			return err
		}
		if _, rest, ok := strings.Cut(string(b[at:]), "address="); ok {
			s.Address = strings.Fields(rest)[0]
			if res, err := http.Get(s.Address + "/readyz"); err == nil {
				res.Body.Close()
				if res.StatusCode == http.StatusOK {
					return nil
				}
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	b, _ := os.ReadFile(s.Log)
	return fmt.Errorf("the service did not start:\n%s", b)
}

// End sends the service a signal, and waits for its end, ten seconds at most.
func (s *Service) End(sig syscall.Signal) {
	s.mu.Lock()
	cmd := s.Cmd
	s.mu.Unlock()
	cmd.Process.Signal(sig)
	for range 200 {
		if cmd.Process.Signal(syscall.Signal(0)) != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// Token is the administrator's token.
func (s *Service) Token(t testing.TB) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(s.State, "admin.token"))
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(b))
}
