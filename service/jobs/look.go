package jobs

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/probe"
	"northstake/service/contract"
	"northstake/service/place"
	"northstake/service/store"
)

// resolved is what a declaration means for a host of certain traits, with the
// list of what to read there.
type resolved struct {
	key    string
	host   resolve.Place
	wants  []wire.Want
	digest string
	visits []wire.SiteVisit
	memo   *wire.Memo
}

type appliedCache struct {
	version int64
	stakes  map[string]plan.Applied
}

// look is a host as a survey found it.
type look struct {
	input     plan.Input
	host      plan.Place
	traits    wire.Traits
	probes    []wire.Probe
	version   int64
	answers   []probe.Result  // of sites that were asked as visitors do, from inside and outside
	elsewhere []elsewhere     // sites in whose place somebody else answers from outside
	worked    map[string]bool // stakes that a run has just brought about, by their addresses, and whether nothing of them was there

	part       func(plan.Row) bool // what the plan is about of the host, nil for all of it
	traitsText json.RawMessage
	key        seenKey       // where the whole host was judged
	before     *seen         // what was made of the same host before
	took       time.Duration // with the way to the host
}

// seenKey is all that a host's plan is worked out from. Two looks with the same
// key come to the same.
type seenKey struct {
	resolved *resolved // what is wanted
	sum      string    // of what was read
	version  int64     // of what is remembered
	traits   string
	reached  string // ports, from outside
}

// seen is what was made of a host, kept for the next look at it.
type seen struct {
	key    seenKey
	host   plan.Place
	rows   json.RawMessage
	sum    []byte // of the rows
	counts contract.Counts
}

func seenOf(key seenKey, h plan.Place, rows []plan.Row) *seen {
	text := wire.JSON(rows)
	return &seen{key, h, text, store.SumOf(text), CountsOf(rows)}
}

// appliedOf is what is remembered of a host's stakes, at least as new as version.
func (j *Service) appliedOf(ctx context.Context, s scope, host string, version int64) (map[string]plan.Applied, int64, error) {
	key := connKey(s, host)
	j.mu.Lock()
	c, ok := j.applied[key]
	j.mu.Unlock()
	if ok && c.version == version {
		return c.stakes, version, nil
	}
	stakes, version, err := j.Store.Applied(ctx, s.groundID, host)
	if err != nil {
		return nil, 0, err
	}
	j.mu.Lock()
	j.applied[key] = appliedCache{version, stakes}
	j.mu.Unlock()
	return stakes, version, nil
}

// resolve works out what to read on a host, once for each revision, sort of
// host, and state of what is remembered.
func (j *Service) resolve(ctx context.Context, s scope, host string, traits wire.Traits, applied map[string]plan.Applied, version int64, kept string) (*resolved, error) {
	key := fmt.Sprintf("%d %d %s %s", s.revision, version, kept, traits.Deciding())
	name := connKey(s, host)
	j.mu.Lock()
	r := j.resolved[name]
	j.mu.Unlock()
	goes := s.purpose.extent()
	if r != nil && r.key == key && goes.again {
		return r, nil
	}
	h, err := s.purpose.stakes(s.d, host, traits, j.Secrets(ctx, s.d, s.ground, host))
	if err != nil {
		return nil, err
	}
	r = &resolved{key: key, host: h, visits: kinds.Visits(h.Stakes), memo: wire.NewMemo()}
	declared := map[string]bool{}
	for _, st := range h.Stakes {
		declared[st.Local()] = true
		w := wire.Want{Type: st.Type, Name: st.Name, Want: st.Want}
		if a, known := applied[st.Local()]; known {
			w.Want = stake.Asked(st, a.Want)
			if !plan.Same(a.Want, st.Want) {
				w.Last = a.Want
			}
		}
		r.wants = append(r.wants, w)
	}
	for _, local := range slices.Sorted(maps.Keys(applied)) {
		if a := applied[local]; !declared[local] && a.Made && goes.declared {
			w := wire.Want{Type: a.Type, Name: a.Name, Want: a.Want}
			if k, err := stake.KindOf(a.Type); err == nil && k.AskedAway != nil {
				w.Want = k.AskedAway(a.Want, goes.clears)
			}
			r.wants = append(r.wants, w)
		}
	}
	sum := sha256.New()
	for _, w := range r.wants {
		fmt.Fprintf(sum, "%s %s %d %d ", w.Type, w.Name, len(w.Want), len(w.Last))
		sum.Write(w.Want)
		sum.Write(w.Last)
	}
	r.digest = hex.EncodeToString(sum.Sum(nil))
	if goes.again {
		j.mu.Lock()
		j.resolved[name] = r
		j.mu.Unlock()
	}
	return r, nil
}

// lookAt surveys a host over a kept connection.
func (j *Service) lookAt(ctx context.Context, s scope, host string) (l look, err error) {
	start := time.Now()
	defer func() { l.took = time.Since(start) }()
	err = j.over(ctx, s, host, func(conn place.Line, a access) error {
		limited, cancel := context.WithTimeout(ctx, placeLimit)
		defer cancel()
		l, err = j.lookOver(limited, s, host, conn, a)
		if err != nil && limited.Err() == context.DeadlineExceeded && ctx.Err() == nil {
			return fmt.Errorf("%s %s was not surveyed within %s; check its load: %w", placeSort(s, host), host, placeLimit, err)
		}
		if err == nil {
			j.askAgain(limited, s, conn, &l)
		}
		return err
	})
	return l, err
}

// lookOver surveys a host over a connection that was made with some access.
func (j *Service) lookOver(ctx context.Context, s scope, host string, conn place.Line, a access) (look, error) {
	applied, version, err := j.appliedOf(ctx, s, host, a.version)
	if err != nil {
		return look{}, err
	}
	f, err := j.find(ctx, s, host, conn, func(traits wire.Traits) (*resolved, error) {
		return j.resolve(ctx, s, host, traits, applied, version, a.kept)
	})
	if err != nil {
		return look{}, err
	}
	if f.traits.Stuck, err = j.ownStuck(ctx, f.traits.Stuck); err != nil {
		return look{}, err
	}
	out, err := f.dialled(ctx, s.d.Hosts[host], conn)
	if err != nil {
		return look{}, err
	}
	l := look{traits: f.traits, traitsText: wire.JSON(f.traits), probes: f.host.Probes, version: version, answers: f.asked(), elsewhere: f.visited()}
	if s.purpose.extent().again {
		l.key = seenKey{f.resolved, f.answer.Sum, version, string(l.traitsText), fmt.Sprint(out.reached, out.vantage)}
		j.mu.Lock()
		before := j.seen[connKey(s, host)]
		j.mu.Unlock()
		if before != nil && before.key == l.key {
			l.host, l.before = before.host, before
			l.host.Steps = slices.Clone(before.host.Steps) // a run numbers them anew
			return l, nil
		}
	}
	if l.part, err = s.purpose.part(ctx, j, s, host, f.traits); err != nil {
		return l, err
	}
	l.input = plan.Input{Place: host, Stakes: f.host.Stakes, Readings: make(map[string]wire.Reading, len(f.answer.Readings)), Applied: applied, Traits: f.traits, Memo: f.memo, Resumed: s.carriesOut, Conflicts: f.host.Conflicts, Reached: out.reached, Vantage: out.vantage, Access: s.wayTo(host, f.traits)}
	s.purpose.input(&l.input)
	for _, reading := range f.answer.Readings {
		l.input.Readings[reading.Name] = reading
	}
	err = j.build(ctx, s, &l)
	return l, err
}

// finding is what a host was found to be over a connection, and what was asked of it beside that.
type finding struct {
	*resolved // what it was asked for
	answer    wire.Survey
	traits    wire.Traits
	tried     func() dialled
	asked     func() []probe.Result
	visited   func() []elsewhere
}

// find surveys a host for what resolve makes of its traits, a second time where the host has turned out to
// be of another sort. Its sites are asked meanwhile.
func (j *Service) find(ctx context.Context, s scope, host string, conn place.Line, resolve func(wire.Traits) (*resolved, error)) (finding, error) {
	f := finding{asked: func() []probe.Result { return nil }, visited: func() []elsewhere { return nil }}
	traits, err := conn.LastTraits(ctx)
	if err != nil {
		return f, err
	}
	f.traits = traits
	h, asks := s.d.Hosts[host], s.asksSites
	for range 2 {
		if f.resolved, err = resolve(f.traits); err != nil {
			return f, err
		}
		ports := dials(h, f.host.Stakes, f.traits)
		f.tried = dialBeside(ctx, h, ports)
		if asks {
			f.asked, asks = j.askBeside(ctx, s, conn, host, f.host.Probes), false
			f.visited = j.visitBeside(ctx, h, f.resolved, ports)
		}
		wants := func() ([]wire.Want, error) { return unsealedWants(f.wants, j.Secrets(ctx, s.d, s.ground, host)) }
		if f.answer, err = conn.Survey(ctx, f.digest, wants); err != nil {
			return f, err
		}
		f.traits = f.answer.Traits
		again, err := resolve(f.traits)
		if err != nil {
			return f, err
		}
		if again == f.resolved || again.digest == f.digest {
			break // the host is still of the sort that the list was made for
		}
	}
	return f, nil
}

// dialled is what connections from outside have shown of a host's ports.
func (f finding) dialled(ctx context.Context, h *declare.Host, conn place.Line) (dialled, error) {
	out := f.tried()
	if ports := dials(h, f.host.Stakes, f.traits); !slices.Equal(ports, out.ports) { // something else listens by now
		out = dialAll(ctx, h, ports)
	}
	return out.again(ctx, h, conn.Traits)
}

// ownStuck are those steps that this service has left: what another left is none of its business.
func (j *Service) ownStuck(ctx context.Context, all []wire.StuckStep) ([]wire.StuckStep, error) {
	if len(all) == 0 {
		return all, nil
	}
	service, err := j.Store.ServiceID(ctx)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(all), func(st wire.StuckStep) bool {
		run, _ := wire.ParseRun(st.Run)
		return run.Service != service
	}), nil
}

// build makes a host's plan of what was found.
func (j *Service) build(ctx context.Context, s scope, l *look) (err error) {
	host := l.input.Place
	if l.host, err = plan.Build(l.input, l.part); err != nil {
		return err
	}
	l.host.Sort = s.d.OtherSort(host)
	if len(l.host.Steps) > 0 {
		l.host.Cautions = append(s.purpose.cautions(host), l.host.Cautions...)
	}
	if len(l.host.Steps)+len(l.host.Blockers) > 0 {
		l.host.Cautions = append(l.host.Cautions, j.siteCautions(ctx, s, host, l.host, l.traits)...)
	}
	if h := s.d.Hosts[host]; h != nil {
		if _, way := h.Transport(); way.Own {
			l.host.Machine = l.traits.Hostname
		}
	}
	return nil
}

// note keeps how a host was just seen, and what is remembered of its stakes, and
// announces it where said has a topic.
func (j *Service) note(ctx context.Context, s scope, l *look, said store.Said) error {
	if l.before == nil {
		if err := j.judge(ctx, s, l); err != nil {
			return err
		}
	}
	if rows, otherwise := answered(l.before.host, l.answers, l.elsewhere, time.Now().UTC()); rows != nil {
		l.before = seenOf(l.before.key, l.before.host, rows)
		l.host.Rows, l.host.Otherwise = rows, otherwise
	}
	if said.Topic != "" {
		said.Data = wire.JSON(contract.SurveyPlace{Place: l.host.Name, Sort: l.host.Sort, Counts: l.before.counts, TookMs: ms(l.took), SeenAt: time.Now().UTC(), Rows: []plan.Row{}})
	}
	return j.Store.PutPlaceState(ctx, s.groundID, store.PlaceState{Place: l.host.Name, Revision: s.revision, Traits: l.traitsText, Rows: l.before.rows, Sum: l.before.sum}, said)
}

// judge brings what is remembered of a host up to a look at it, and keeps what
// was made of it for the next one.
func (j *Service) judge(ctx context.Context, s scope, l *look) error {
	remembered, changed := plan.Remember(l.input, &l.host, l.worked, s.revision, time.Now().UTC())
	if changed {
		v, err := j.Store.PutApplied(ctx, s.groundID, l.input.Place, l.version, remembered)
		if err != nil {
			return err
		}
		if v > 0 {
			j.mu.Lock()
			j.applied[connKey(s, l.input.Place)] = appliedCache{v, remembered}
			j.mu.Unlock()
		}
	}
	l.before = seenOf(l.key, l.host, l.host.Rows)
	// What has just been remembered makes the next look come out otherwise.
	if !changed && l.key.resolved != nil {
		j.mu.Lock()
		j.seen[connKey(s, l.host.Name)] = l.before
		j.mu.Unlock()
	}
	return nil
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// noteUnread keeps and announces that a host could not be looked at, or is not there yet.
func (j *Service) noteUnread(ctx context.Context, s scope, h contract.SurveyPlace, said store.Said) error {
	none := json.RawMessage("[]")
	h.Rows = []plan.Row{}
	said.Data = wire.JSON(h)
	return j.Store.PutPlaceState(ctx, s.groundID, store.PlaceState{Place: h.Place, Revision: s.revision, Unread: cmp.Or(h.Unread, h.Awaits), Traits: []byte("null"), Rows: none}, said)
}

// CountsOf is how many rows stand how.
func CountsOf(rows []plan.Row) contract.Counts {
	c := plan.Counts(rows)
	return contract.Counts{Set: c[plan.Set], Due: c[plan.Due], Shifted: c[plan.Shifted], Stray: c[plan.Stray], Unread: c[plan.Unread]}
}

// wayTo is how the service gets in to a host, nil where nothing on it can shut the service out.
func (s scope) wayTo(host string, traits wire.Traits) *wire.Access {
	if !s.shuttable(host) {
		return nil
	}
	r := s.d.ReachOf(host)
	way := family.WayIn(r.User)
	way.Sudo = r.Sudo != nil && *r.Sudo
	way.Paths = append(way.Paths, traits.WayIn...)
	return &way
}
