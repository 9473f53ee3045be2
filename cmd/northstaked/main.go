// Command northstaked is North Stake's service.
package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"

	"northstake/host/reach"
	"northstake/service/api"
	"northstake/service/auth"
	"northstake/service/console"
	"northstake/service/jobs"
	"northstake/service/store"
)

// version is set when the program is built.
var version = "dev"

type settings struct {
	listen, database, state, rods, engine string
	silence, mostAge, renewEvery          time.Duration
	newKey                                bool
	newToken                              bool
	fetchOwn                              bool
}

func main() {
	var s settings
	self, err := os.Executable()
	if err != nil {
		self = "."
	}
	cmd := &cobra.Command{
		Use:           "northstaked",
		Short:         "North Stake's service: keeps declarations, plans, applies and checks web server hosts",
		Version:       version,
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          cobra.NoArgs,
		RunE:          func(cmd *cobra.Command, _ []string) error { return serve(cmd.Context(), s) },
	}
	f := cmd.Flags()
	f.StringVar(&s.listen, "listen", "127.0.0.1:7311", "address to serve on")
	f.StringVar(&s.database, "database", os.Getenv("NORTHSTAKE_DATABASE"), "PostgreSQL address (NORTHSTAKE_DATABASE)")
	f.StringVar(&s.state, "state", "/var/lib/northstaked", "directory for the key that secrets are encrypted with, and for the first token")
	f.BoolVar(&s.newKey, "new-key", false, "start although the key that the database's secrets were encrypted with is lost: they have to be kept again")
	f.BoolVar(&s.newToken, "new-token", false, "make the administrator's token anew, where it was lost, and end; the former one is not known any more")
	f.StringVar(&s.rods, "rods", filepath.Join(filepath.Dir(self), "rods"), "directory with the rods that are sent to hosts")
	f.StringVar(&s.engine, "engine", os.Getenv("NORTHSTAKE_ENGINE"), "socket of this machine's container engine, where it is not at its usual place (NORTHSTAKE_ENGINE)")
	f.BoolVar(&s.fetchOwn, "fetch-own-machine", false, "let content be fetched from this machine's own addresses, too: whoever may declare can then read what is served there")
	f.DurationVar(&s.silence, "takeover", jobs.Silence, "how long a replica may be silent before another takes its runs over")
	f.DurationVar(&s.renewEvery, "renew-every", jobs.RenewEvery, "how often it is looked whether a certificate is to be made anew, and brought to where it is shown")
	f.DurationVar(&s.mostAge, "keep-connections", reach.MostAge, "how old a connection to a host gets before the next look makes a new one, by which a host that lets nobody in any more is found")
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := cmd.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "northstaked:", err)
		os.Exit(2)
	}
}

func serve(ctx context.Context, s settings) error {
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	if s.database == "" {
		return errors.New("no database was named: give --database or NORTHSTAKE_DATABASE, such as postgres://northstake@127.0.0.1:5432/northstake")
	}
	if s.newToken {
		return renewToken(ctx, s, log)
	}
	// Before anything is begun: an address that is taken is said at once.
	listener, err := net.Listen("tcp", s.listen)
	if err != nil {
		return fmt.Errorf("serve on %s: %w; choose another address with --listen", s.listen, err)
	}
	defer listener.Close()
	st, err := store.Open(ctx, s.database, 30*time.Second, log)
	if err != nil {
		return err
	}
	defer st.Close()
	seal, err := sealOf(ctx, st, s, log)
	if err != nil {
		return err
	}
	if err := firstToken(ctx, st, filepath.Join(s.state, "admin.token"), log); err != nil {
		return err
	}
	pool := reach.NewPool(&reach.RodDir{Dir: s.rods})
	pool.MostAge = s.mostAge
	defer pool.Close()
	j, err := jobs.New(st, pool, seal, s.silence, log)
	if err != nil {
		return err
	}
	j.Engine, j.Fetching.OwnMachine, j.RenewEvery = s.engine, s.fetchOwn, s.renewEvery
	bell := store.NewBell(st, log)
	go bell.Run(ctx)
	if err := j.Start(ctx); err != nil {
		return err
	}
	defer j.Stop()
	server := &http.Server{
		Handler:           (&api.Server{Store: st, Jobs: j, Bell: bell, Seal: seal, Log: log, Version: version}).Handler(console.Files()),
		ReadHeaderTimeout: 10 * time.Second,
		BaseContext:       func(net.Listener) context.Context { return ctx },
	}
	log.Info("serving", "address", "http://"+listener.Addr().String(), "version", version, "replica", j.ID)
	if _, err := daemon.SdNotify(false, daemon.SdNotifyReady); err != nil {
		log.Warn("the service manager could not be told that the service is ready", "error", err)
	}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	log.Info("ending")
	limited, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return server.Shutdown(limited)
}

// sealOf reads the key that secrets are encrypted with, and makes one at the first start. A
// database that holds secrets wants the key that they were encrypted with.
func sealOf(ctx context.Context, st *store.Store, s settings, log *slog.Logger) (*auth.Seal, error) {
	secrets, err := st.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	seal, err := auth.OpenSeal(s.state)
	if none := (auth.NoKey{}); errors.As(err, &none) && (len(secrets) == 0 || s.newKey) {
		log.Info("made the key that secrets are encrypted with", "file", none.File)
		return auth.NewSeal(s.state)
	} else if errors.As(err, &none) {
		return nil, fmt.Errorf("the database holds %d secrets, and %w: put it back from a backup, or name its directory with --state; where it is lost, start once with --new-key, and keep the secrets again", len(secrets), err)
	}
	if err != nil || len(secrets) == 0 {
		return seal, err
	}
	for _, one := range secrets {
		value, err := st.Secret(ctx, one.Name)
		if err != nil {
			return nil, err
		}
		if _, err := seal.Open(one.Name, value); err == nil || s.newKey {
			return seal, nil
		}
	}
	return nil, fmt.Errorf("%s is not the key that the database's secrets were encrypted with: put that back from a backup; where it is lost, start once with --new-key, and keep the secrets again", filepath.Join(s.state, auth.KeyFile))
}

// adminToken is the name of the administrator's token.
const adminToken = "admin"

// firstToken makes the administrator's token when there is none yet.
func firstToken(ctx context.Context, st *store.Store, file string, log *slog.Logger) error {
	list, err := st.Tokens(ctx)
	if err != nil {
		return err
	}
	if len(list) > 0 {
		return nil
	}
	return makeToken(ctx, st, file, log)
}

// renewToken makes the administrator's token anew.
func renewToken(ctx context.Context, s settings, log *slog.Logger) error {
	st, err := store.Open(ctx, s.database, 30*time.Second, log)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.DeleteToken(ctx, adminToken); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return makeToken(ctx, st, filepath.Join(s.state, "admin.token"), log)
}

// makeToken makes the administrator's token, and keeps it in a file that its owner alone can read.
func makeToken(ctx context.Context, st *store.Store, file string, log *slog.Logger) error {
	token, hash := auth.NewToken()
	if err := st.AddToken(ctx, adminToken, hash, 0); err != nil {
		if again, e := st.Tokens(ctx); e == nil && len(again) > 0 {
			return nil // another replica has just made it
		}
		return err
	}
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.WriteFile(file, []byte(token+"\n"), 0o600); err != nil {
		return errors.Join(fmt.Errorf("keep the first token: %w", err), st.DeleteToken(ctx, adminToken))
	}
	log.Info("made the first administrator token", "file", file)
	return nil
}
