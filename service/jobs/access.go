package jobs

import (
	"context"
	"errors"
	"fmt"

	"northstake/core/declare"
	"northstake/core/wire"
	"northstake/host/reach"
	"northstake/service/place"
	"northstake/service/store"
)

// access is how to get to a place, with its secrets, and the version of what is
// remembered of it.
type access struct {
	sort    place.Sort
	to      place.To
	version int64
	kept    string // changes when any secret does
}

// fresh is a new line to the place.
func (a access) fresh(ctx context.Context) (place.Line, func(), error) {
	return a.sort.Fresh(ctx, a.to)
}

// proves says whether a new line to the place proves that it can still be reached over the network.
func (a access) proves() bool {
	way, err := reach.TransportOf(a.to.Host.Target.Via)
	return err == nil && way.Proves
}

func (j *Service) access(ctx context.Context, s scope, name string) (a access, err error) {
	sort := s.d.SortOf(name)
	if sort == "" {
		return access{}, Unknown{name}
	}
	if a.sort, err = j.Places.Of(sort); err != nil {
		return access{}, err
	}
	names := a.sort.Secrets(s.d, name)
	kept, err := j.Store.Access(ctx, s.groundID, name, names)
	if err != nil {
		return a, err
	}
	a.version, a.kept = kept.Version, kept.Kept
	a.to = place.To{Name: name, Declared: s.d, Secrets: map[string][]byte{}}
	for _, n := range names {
		sealed, ok := kept.Secrets[n]
		if !ok {
			return a, &reach.Trouble{Kind: "wrong-key", What: fmt.Sprintf("there is no secret called %q, which %s %s is reached with", n, sort, name),
				Fix: fmt.Sprintf("give it to northstake secret keep %s", n)}
		}
		if a.to.Secrets[n], err = j.Seal.Open(n, sealed); err != nil {
			return a, err
		}
	}
	if sort == declare.HostSort {
		a.to.Host, err = j.hostAccess(ctx, s, name, a.to.Secrets, kept)
	}
	return a, err
}

// hostAccess is how to get to a host, whose secrets are given.
func (j *Service) hostAccess(ctx context.Context, s scope, host string, secrets map[string][]byte, kept store.Access) (out place.Host, err error) {
	h, r := s.d.Hosts[host], s.d.ReachOf(host)
	via, way := h.Transport()
	out.Target = reach.Target{Host: host, Address: h.Address, Port: r.Port, User: r.User, Sudo: r.Sudo != nil && *r.Sudo, Via: via, Engine: j.Engine}
	if way.Within {
		var engine string
		out.Target.Container, engine = s.d.InContainer(host)
		if out.Target.Through, err = j.through(ctx, s, engine); err != nil {
			return out, err
		}
	}
	out.Target.Key, out.Target.Password, out.Target.SudoPassword = secrets[r.KeySecret], string(secrets[r.PasswordSecret]), string(secrets[r.SudoSecret])
	if way.Login && r.AsksForSudo() {
		out.Target.SudoPassword = s.passwords[host]
		if out.Target.SudoPassword == "" {
			out.Target.SudoPassword = s.passwords["*"]
		}
		if out.Target.SudoPassword == "" {
			return out, &reach.Trouble{Kind: "no-sudo", What: fmt.Sprintf("host %s takes a password for sudo that is asked for each time, and none was given", host), Fix: "ask again, and give it"}
		}
	}
	out.Known = reach.KnownKeys{Own: kept.Keys, Authorities: s.d.AuthoritiesOf(host), Owner: func(fingerprint string) string {
		other, err := j.Store.KeyOwner(ctx, s.groundID, fingerprint)
		if err != nil {
			j.Log.Warn("could not look up whose a host key is", "error", err)
		}
		return other
	}}
	return out, nil
}

// ownEngine names the connection to the machine that the service runs on, where only its engine
// is asked for.
const ownEngine = "the service's own machine"

// through is how to get to the host of an engine, "" for the service's own machine.
func (j *Service) through(ctx context.Context, s scope, engine string) (*reach.Through, error) {
	if engine == "" {
		return &reach.Through{Key: ownEngine, Target: reach.Target{Host: ownEngine, Via: "service-machine", Engine: j.Engine}}, nil
	}
	a, err := j.access(ctx, s, engine)
	return &reach.Through{Key: connKey(s, engine), Target: a.to.Host.Target, Known: a.to.Host.Known}, err
}

// connKey is by what all that is kept in memory of a place is known: of this very ground, and not
// of one that had its name before.
func connKey(s scope, name string) string { return fmt.Sprintf("%d/%s", s.groundID, name) }

// over does work over a kept line to a place; a line that turns out to be broken, after the host was
// restarted say, is made anew, once.
func (j *Service) over(ctx context.Context, s scope, name string, work func(line place.Line, a access) error) error {
	a, err := j.access(ctx, s, name)
	if err != nil {
		return err
	}
	key := connKey(s, name)
	for attempt := 0; ; attempt++ {
		line, err := a.sort.Line(ctx, key, a.to)
		if err != nil {
			return err
		}
		err = work(line, a)
		var fault *wire.Fault
		if err == nil || errors.As(err, &fault) || attempt > 0 || ctx.Err() != nil || line.Usable() {
			return err
		}
		a.sort.Drop(key)
	}
}

// shuttable says whether something on a place can shut the service out.
func (s scope) shuttable(name string) bool {
	h := s.d.Hosts[name]
	if h == nil {
		return false
	}
	via, _ := h.Transport()
	way, err := reach.TransportOf(via)
	return err == nil && way.Proves
}
