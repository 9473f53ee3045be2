package e2e

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

// service is one northstaked.
type service struct {
	address, state, database, log string
	options                       []string // of the service, beside those that all have
	programs                      string   // where the programs lie; "" for those of this checkout
	cmd                           *exec.Cmd
	mu                            sync.Mutex
}

func startService(state, database string, options ...string) (*service, error) {
	s := &service{state: state, database: database, log: state + ".log", options: options}
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, err
	}
	return s, s.start()
}

// bin is where the service's programs lie.
func (s *service) bin() string { return cmp.Or(s.programs, filepath.Join(root, "bin")) }

// start starts the service, on its former address where it had one.
func (s *service) start() error {
	listen := "127.0.0.1:0"
	if s.address != "" {
		listen = strings.TrimPrefix(s.address, "http://")
	}
	log, err := os.OpenFile(s.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	at, err := log.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	rods := filepath.Join(root, "bin", "rehearsal") // which stop where a test tells them to
	if s.programs != "" {
		rods = filepath.Join(s.programs, "rods")
	}
	options := []string{"--listen", listen, "--state", s.state, "--rods", rods, "--takeover", "4s"}
	if s.programs == "" { // earlier releases do not know these
		options = append(options, "--engine", labs.Socket(), "--fetch-own-machine")
	}
	cmd := exec.Command(filepath.Join(s.bin(), "northstaked"), append(options, s.options...)...)
	cmd.Env = []string{"NORTHSTAKE_DATABASE=" + s.database, "PATH=/usr/bin:/bin"}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return err
	}
	go cmd.Wait()
	if err := os.WriteFile(s.state+".pid", []byte(strconv.Itoa(cmd.Process.Pid)), 0o644); err != nil {
		return err
	}
	s.mu.Lock()
	s.cmd = cmd
	s.mu.Unlock()
	for range 600 {
		b, err := os.ReadFile(s.log)
		if err != nil {
			return err
		}
		if _, rest, ok := strings.Cut(string(b[at:]), "address="); ok {
			s.address = strings.Fields(rest)[0]
			if res, err := http.Get(s.address + "/readyz"); err == nil {
				res.Body.Close()
				if res.StatusCode == http.StatusOK {
					return nil
				}
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	b, _ := os.ReadFile(s.log)
	return fmt.Errorf("the service did not start:\n%s", b)
}

func (s *service) end(sig syscall.Signal) {
	s.mu.Lock()
	cmd := s.cmd
	s.mu.Unlock()
	cmd.Process.Signal(sig)
	for range 200 {
		if cmd.Process.Signal(syscall.Signal(0)) != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (s *service) token(t testing.TB) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(s.state, "admin.token"))
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(b))
}
