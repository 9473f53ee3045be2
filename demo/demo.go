package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"northstake/lab"
)

// demo is what runs for one checkout. Its state lies outside the checkout,
// where an unprivileged PostgreSQL may enter.
type demo struct {
	checkout string
	state    string
	uid, gid int // whom the client's files belong to
	home     string
}

func find() (*demo, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	d := &demo{checkout: filepath.Dir(filepath.Dir(self)), uid: os.Getuid(), gid: os.Getgid(), home: os.Getenv("HOME")}
	sum := sha256.Sum256([]byte(d.checkout))
	d.state = "/var/tmp/northstake-" + hex.EncodeToString(sum[:])[:8]
	if uid, err := strconv.Atoi(os.Getenv("SUDO_UID")); err == nil {
		d.uid = uid
	}
	if gid, err := strconv.Atoi(os.Getenv("SUDO_GID")); err == nil {
		d.gid = gid
	}
	return d, nil
}

func (d *demo) path(parts ...string) string {
	return filepath.Join(append([]string{d.state}, parts...)...)
}

func (d *demo) bin(name string) string { return filepath.Join(d.checkout, "bin", name) }

// hosts are the practice hosts, the first at the lab's first address.
var hosts = []string{"quay1", "quay2", "pier1"}

// families are those of the hosts that are no plain Debian: one of another family, and one that
// can run containers.
var families = map[string]lab.Family{"pier1": lab.RedHat, "quay2": lab.Debian.Able()}

func (d *demo) up(ctx context.Context) error {
	start := time.Now()
	if err := os.MkdirAll(d.state, 0o755); err != nil {
		return err
	}
	end := progress("practice hosts %s", strings.Join(hosts, ", "))
	l, err := lab.Open(ctx, d.path("lab"), os.Stdout)
	if err != nil {
		return err
	}
	defer l.Detach()
	before, err := l.List(ctx)
	if err != nil {
		return err
	}
	var addresses []string
	for i, h := range hosts {
		family, ok := families[h]
		if !ok {
			family = lab.Debian
		}
		if err := l.Ensure(ctx, family, h, i+1); err != nil {
			return err
		}
		addresses = append(addresses, l.Address(i+1))
	}
	end(map[bool]string{true: "kept", false: "started"}[len(before) == len(hosts)] + " at " + strings.Join(addresses, ", "))

	end = progress("PostgreSQL")
	p, err := lab.OpenPostgres(ctx, d.path("postgres"))
	if err != nil {
		return err
	}
	end(fmt.Sprintf("on 127.0.0.1:%d", p.Port))

	address, err := d.service(ctx, p.URL())
	if err != nil {
		return err
	}
	if err := d.client(address); err != nil {
		return err
	}
	registry, err := d.registry(ctx, l)
	if err != nil {
		return err
	}
	if err := d.ground(l, registry); err != nil {
		return err
	}
	drift, err := d.story(ctx, l)
	if err != nil {
		return err
	}
	charts, err := d.charts(ctx)
	if err != nil {
		return err
	}
	d.account(address, drift, charts, time.Since(start))
	return nil
}

func (d *demo) stop(ctx context.Context) error {
	if _, err := os.Stat(d.state); errors.Is(err, fs.ErrNotExist) {
		fmt.Println("  nothing of the demo runs")
		return nil
	}
	end := progress("stopping the service, PostgreSQL, the registry and the practice hosts")
	d.endService()
	d.endRegistry()
	if p := lab.FindPostgres(d.path("postgres")); p != nil {
		if err := p.Stop(ctx); err != nil {
			fmt.Println("  ", err)
		}
	}
	if err := lab.Stop(ctx, d.path("lab")); err != nil {
		return err
	}
	end("done; make demo starts them again as they were")
	return nil
}

func (d *demo) clean(ctx context.Context) error {
	d.endService()
	d.endRegistry()
	if p := lab.FindPostgres(d.path("postgres")); p != nil {
		if err := p.Stop(ctx); err != nil {
			fmt.Println("  ", err)
		}
	}
	if err := lab.Clean(ctx, d.path("lab"), os.Stdout); err != nil {
		return err
	}
	if err := lab.DropImages(); err != nil {
		return err
	}
	if old, err := os.ReadFile(d.clientPath()); err == nil && strings.HasPrefix(string(old), clientMark) {
		if err := os.Remove(d.clientPath()); err != nil {
			return err
		}
		os.Remove(filepath.Dir(d.clientPath())) // stays when something else is there
	}
	if err := os.RemoveAll(d.state); err != nil {
		return err
	}
	fmt.Println("  nothing of the demo is left on this machine, but for the Debian packages it installed")
	return nil
}
