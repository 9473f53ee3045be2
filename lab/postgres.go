package lab

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Postgres is a PostgreSQL cluster of its own, on loopback, run by an
// unprivileged user.
type Postgres struct {
	Dir  string
	Port int
	bin  string
	user string // "" for the present user
}

const postgresBase = "northstake"

// OpenPostgres makes the cluster in dir, or finds it there, and starts it. As
// root it runs as the user postgres, so dir must lie where that user may enter.
// The port is kept in dir; a new cluster takes a free one.
func OpenPostgres(ctx context.Context, dir string) (*Postgres, error) {
	p := &Postgres{Dir: dir}
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(bins) == 0 {
		return nil, fmt.Errorf("start PostgreSQL: it is not installed: install Debian's postgresql package (make demo does)")
	}
	p.bin = filepath.Dir(bins[len(bins)-1])
	if os.Geteuid() == 0 {
		p.user = "postgres"
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	if p.user != "" {
		u, err := user.Lookup(p.user)
		if err != nil {
			return nil, fmt.Errorf("start PostgreSQL: %w", err)
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		if err := os.Chown(dir, uid, gid); err != nil {
			return nil, fmt.Errorf("start PostgreSQL: %w", err)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "PG_VERSION")); err != nil {
		if out, err := p.run(ctx, "initdb", "-D", dir, "-U", postgresBase, "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8"); err != nil {
			return nil, fmt.Errorf("make a PostgreSQL cluster: %w\n%s", err, out)
		}
	}
	if err := p.Start(ctx); err != nil {
		return nil, err
	}
	_, err = p.Database(ctx, postgresBase)
	return p, err
}

// Start starts the cluster unless it runs.
func (p *Postgres) Start(ctx context.Context) error {
	port := filepath.Join(p.Dir, "northstake.port")
	if b, err := os.ReadFile(port); err == nil {
		if p.Port, err = strconv.Atoi(strings.TrimSpace(string(b))); err != nil {
			return fmt.Errorf("start PostgreSQL: %w", err)
		}
	}
	if out, err := p.run(ctx, "pg_ctl", "-D", p.Dir, "status"); err == nil && bytes.Contains(out, []byte("is running")) && p.Port != 0 {
		return nil
	}
	if p.Port == 0 || !free(p.Port) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return fmt.Errorf("start PostgreSQL: %w", err)
		}
		p.Port = l.Addr().(*net.TCPAddr).Port
		l.Close()
	}
	if err := os.WriteFile(port, []byte(strconv.Itoa(p.Port)), 0o644); err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	options := fmt.Sprintf("-p %d -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=200", p.Port)
	if out, err := p.run(ctx, "pg_ctl", "-D", p.Dir, "-w", "-t", "30", "-l", filepath.Join(p.Dir, "server.log"), "-o", options, "start"); err != nil {
		return fmt.Errorf("start PostgreSQL on port %d: %w\n%s", p.Port, err, out)
	}
	return nil
}

func free(port int) bool {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return false
	}
	l.Close()
	return true
}

// Database makes a database in a cluster that runs, unless it has one of that name, and returns
// its address.
func (p *Postgres) Database(ctx context.Context, name string) (string, error) {
	out, err := p.run(ctx, "psql", "-h", "127.0.0.1", "-p", strconv.Itoa(p.Port), "-U", postgresBase, "-d", "postgres", "-Atc",
		"SELECT 1 FROM pg_database WHERE datname = '"+name+"'")
	if err == nil && len(bytes.TrimSpace(out)) == 0 {
		out, err = p.run(ctx, "createdb", "-h", "127.0.0.1", "-p", strconv.Itoa(p.Port), "-U", postgresBase, name)
	}
	if err != nil {
		return "", fmt.Errorf("make the database: %w\n%s", err, out)
	}
	return p.address(name), nil
}

// URL is the address of the database.
func (p *Postgres) URL() string { return p.address(postgresBase) }

func (p *Postgres) address(database string) string {
	return fmt.Sprintf("postgres://%s@127.0.0.1:%d/%s?sslmode=disable", postgresBase, p.Port, database)
}

// Stop stops the cluster at once, cutting connections.
func (p *Postgres) Stop(ctx context.Context) error {
	if out, err := p.run(ctx, "pg_ctl", "-D", p.Dir, "-m", "fast", "-w", "stop"); err != nil {
		return fmt.Errorf("stop PostgreSQL: %w\n%s", err, out)
	}
	return nil
}

// FindPostgres finds the cluster of a directory, whether it runs or not; nil
// when there is none.
func FindPostgres(dir string) *Postgres {
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(bins) == 0 {
		return nil
	}
	if _, err := os.Stat(filepath.Join(dir, "postmaster.pid")); err != nil {
		return nil
	}
	p := &Postgres{Dir: dir, bin: filepath.Dir(bins[len(bins)-1])}
	if os.Geteuid() == 0 {
		p.user = "postgres"
	}
	return p
}

func (p *Postgres) run(ctx context.Context, program string, args ...string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, filepath.Join(p.bin, program), args...)
	cmd.Dir = "/"
	if p.user != "" {
		u, err := user.Lookup(p.user)
		if err != nil {
			return nil, err
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
		cmd.Env = []string{"PATH=/usr/bin:/bin", "HOME=/", "LC_ALL=C.UTF-8"}
	}
	var out bytes.Buffer
	if program == "pg_ctl" && args[len(args)-1] == "start" {
		// The server keeps what it is given: a pipe would never end.
		cmd.Stdout, cmd.Stderr = nil, nil
	} else {
		cmd.Stdout, cmd.Stderr = &out, &out
	}
	cmd.WaitDelay = 5 * time.Second
	err := cmd.Run()
	return out.Bytes(), err
}

// WithPostgres runs a package's tests with a cluster of their own, whose address it
// hands them, and returns their exit status.
func WithPostgres(run func(url string) int) int {
	dir, err := os.MkdirTemp("/var/tmp", "northstake-test-")
	if err == nil {
		defer os.RemoveAll(dir)
		err = os.Chmod(dir, 0o755) // the cluster belongs to another user
	}
	var p *Postgres
	if err == nil {
		p, err = OpenPostgres(context.Background(), dir+"/pg")
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer p.Stop(context.Background())
	return run(p.URL())
}
