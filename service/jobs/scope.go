package jobs

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/host/family"
	"northstake/service/contract"
	"northstake/service/store"
)

// scope is what a look at a host is about. With act, it is about that and not about
// what is declared; with oneOff, the declaration has stakes besides those of the
// revision, and they alone are planned.
type scope struct {
	groundID  int64
	ground    string // its name
	revision  int
	d         *declare.Declaration
	passwords contract.SudoPasswords
	act       *stake.ActWant
	engine    string // host that an act is done on, which is about a container of its engine
	oneOff    bool
	restores  bool      // what has shifted goes back to what it was last declared to be
	clears    bool      // what nobody declares any more is taken away
	removing  []string  // of that, what goes only when it is named
	retires   *retiring // nil for none

	asksSites  bool // a look asks each site as its visitors do, beside reading what lies there
	carriesOut bool // it is that of a run, of which a part may be done

	unwise func() []lint.Caution // what is unwise in the declaration, worked out once
}

func (j *Service) scope(ctx context.Context, groundID int64, ground string, revision int, passwords contract.SudoPasswords) (scope, error) {
	d, err := j.Declaration(ctx, groundID, revision)
	unwise := sync.OnceValue(func() []lint.Caution { return lint.Cautions(d) })
	return scope{groundID: groundID, ground: ground, revision: revision, d: d, passwords: passwords, unwise: unwise}, err
}

// scopeOf is the scope of a survey, plan or run of what was asked for.
func (j *Service) scopeOf(ctx context.Context, groundID int64, ground string, revision int, ask contract.Ask) (scope, error) {
	s, err := j.scope(ctx, groundID, ground, revision, ask.SudoPasswords)
	if err != nil {
		return s, err
	}
	s.restores = ask.Only == "shifted"
	s.removing = ask.Removing
	s.clears = ask.Clear || s.d != nil && s.d.Ground.NoLongerDeclared == declare.Removed
	if ask.Retire != "" {
		return j.retire(ctx, s, ask.Retire)
	}
	if ask.Act.Do != "" {
		s.act = &ask.Act
	}
	if ask.Act.Do == stake.MakeImage {
		err = j.keeps(ctx, &s, ask)
		return s, err
	}
	if ask.OneOff.Text != "" {
		s.oneOff = true
		s.d, err = j.withOneOff(ctx, groundID, revision, ask.OneOff)
	}
	return s, err
}

// looksFor is the scope of the looks that a survey or a plan is made of.
func (s scope) looksFor(table store.Table) scope {
	s.clears = s.clears && table == store.Plans
	s.asksSites = s.act == nil
	return s
}

// keeps works out which container is kept as an image, on which engine, and whether it is as the
// revision declares it.
func (j *Service) keeps(ctx context.Context, s *scope, ask contract.Ask) error {
	names, err := s.d.Choose(ask.Hosts)
	if err != nil {
		return err
	}
	if len(names) != 1 {
		return NotReady{"one container at a time is kept as an image", "name one host"}
	}
	container, engine := s.d.InContainer(names[0])
	switch {
	case container == "":
		return NotReady{fmt.Sprintf("host %s is no container", names[0]), "name a host whose via is \"container\""}
	case engine == "":
		return NotReady{fmt.Sprintf("host %s runs on the engine of the service's own machine, which is no host of the ground", names[0]), "declare that machine as a host with via = \"service-machine\", and name it as the engine"}
	}
	act := ask.Act
	act.Container, act.Host, act.Ground, act.Revision = container, names[0], s.ground, s.revision
	states, err := j.Store.HostStates(ctx, s.groundID)
	if err != nil {
		return err
	}
	var rows []plan.Row
	st := states[names[0]]
	if err := json.Unmarshal(st.Rows, &rows); err != nil && len(st.Rows) > 0 {
		return err
	}
	if c := CountsOf(rows); st.Unread != "" || st.Revision != s.revision || c.Due+c.Shifted+c.Unread > 0 {
		act.Unlike = fmt.Sprintf("host %s was not last seen as revision %d declares it", names[0], s.revision)
	}
	act = act.WithLogin(j.Secrets(ctx, s.ground, engine))
	s.act, s.engine = &act, engine
	return nil
}

// withOneOff is a revision's declaration with the stakes of a one-off.
func (j *Service) withOneOff(ctx context.Context, groundID int64, revision int, o contract.OneOff) (*declare.Declaration, error) {
	r, err := j.Store.Revision(ctx, groundID, revision)
	if err != nil {
		return nil, err
	}
	sources, err := r.Texts()
	if err != nil {
		return nil, err
	}
	m, err := r.Files()
	if err != nil {
		return nil, err
	}
	m.Files = append(m.Files, o.Files...)
	d, problems := lint.ParseIn(r.Words, append(sources, declare.Source{Name: declare.OneOff, Text: o.Text}), &m)
	if len(problems) > 0 {
		return nil, problems
	}
	return d, nil
}

// hosts are those that were asked for; of what is retired, those that have it.
func (s scope) hosts(ask contract.Ask) ([]string, error) {
	if s.retires != nil && len(ask.Hosts) == 0 {
		return s.retires.hosts, nil
	}
	if s.engine != "" {
		return []string{s.engine}, nil
	}
	return s.d.Choose(ask.Hosts)
}

// plain says whether a scope is what a revision declares, so that what is worked
// out for it can be kept for the next look.
func (s scope) plain() bool { return s.act == nil && !s.oneOff && !s.restores && !s.clears }

// limit narrows what is planned: to what has shifted, or to a one-off.
func (s scope) limit(ask contract.Ask) func(plan.Row) bool {
	switch {
	case ask.Only == "shifted":
		return func(r plan.Row) bool { return r.Standing == plan.Shifted }
	case s.oneOff:
		return func(r plan.Row) bool { return r.From.File == declare.OneOff }
	}
	return nil
}

// stakes are those of the scope on a host.
func (s scope) stakes(host string, traits stake.Traits, secrets *stake.Secrets) (resolve.Host, error) {
	if s.retires != nil && s.retires.site == "" {
		return resolve.Host{}, nil // nothing is to be there
	}
	h, err := resolve.OneHost(s.d, host, traits, family.Layouts(traits.Family), secrets)
	if err != nil || s.act == nil {
		return h, err
	}
	name := string(s.act.Do)
	if of := cmp.Or(s.act.Service, s.act.Host); of != "" {
		name += "-" + of
	}
	act := *s.act
	if act.Do == "upgrade" {
		act.Leave = stake.VersionsDeclared(h.Stakes)
	}
	h.Stakes = []stake.Stake{{Host: host, Type: "act", Name: name, Want: stake.JSON(act)}}
	return h, nil
}

// Claims are what a declaration needs on a host as that was last seen; none where its
// platform cannot do what is declared, which a survey says.
func Claims(d *declare.Declaration, host string, traits stake.Traits) []stake.Claim {
	h, err := scope{d: d}.stakes(host, traits, nil)
	if err != nil {
		return nil
	}
	return stake.ClaimsOf(h.Stakes)
}

// checkAsk refuses what cannot be looked at or done.
func checkAsk(table store.Table, ask contract.Ask) error {
	a := ask.Act
	needsService := a.Do == "restart" || a.Do == "reload"
	switch {
	case ask.Only != "" && ask.Only != "shifted":
		return NotReady{fmt.Sprintf("nothing is known that is called %q", ask.Only), "a plan is of all that is declared, or of what has shifted"}
	case ask.Only != "" && table != store.Plans:
		return NotReady{"a survey is of what is declared", "ask for a plan"}
	case ask.Retire != "" && (table != store.Plans || ask.Clear || ask.Only != "" || a.Do != "" || ask.OneOff.Text != ""):
		return NotReady{"something is retired by a plan of its own", "ask for such a plan"}
	case ask.Clear && (table != store.Plans || ask.Only != "" || a.Do != "" || ask.OneOff.Text != ""):
		return NotReady{"what is not declared any more is taken away by a plan of all that is declared", "ask for such a plan"}
	case len(a.Leave) > 0:
		return NotReady{"what an upgrade leaves is a matter of what is declared", "declare the version"}
	case a.Do == "" && ask.OneOff.Text == "":
		return nil
	case table != store.Plans:
		return NotReady{"a survey is of what is declared", "ask for a plan"}
	case a.Do != "" && (ask.OneOff.Text != "" || ask.Only != ""):
		return NotReady{"something is done now by itself, without what is declared", "ask for one of the two"}
	case a.Do != "" && !slices.Contains(stake.Acts, a.Do):
		return NotReady{fmt.Sprintf("nothing is known that is called %q", a.Do), "it is one of " + stake.ActNames()}
	case (a.Do == stake.MakeImage) != (a.Image != "") || a.Image != "" && !form.Image.MatchString(a.Image) || strings.Contains(a.Image, "@"):
		return NotReady{"a container is kept under the name of an image, and nothing else is", "write REGISTRY/NAME:TAG, in small letters"}
	case a.Container+a.Host+a.Ground+a.Unlike != "" || a.Revision != 0 || a.Login != nil:
		return NotReady{"of which container the image is made, and what that holds, the service finds out", "leave that out"}
	case needsService && (a.Service == "" || a.Service != filepath.Base(a.Service)):
		return NotReady{"no service is named", "name the service"}
	case !needsService && a.Service != "":
		return NotReady{fmt.Sprintf("%s is not about a service", a.Do), "leave the service out"}
	}
	return nil
}

// titleOf says what a plan is for, beside what is declared; "" for all of that.
func titleOf(ask contract.Ask) string {
	switch {
	case ask.Act.Image != "":
		return "keep as " + ask.Act.Image
	case ask.Act.Service != "":
		return string(ask.Act.Do) + " " + ask.Act.Service
	case ask.Act.Do != "":
		return string(ask.Act.Do)
	case ask.OneOff.Text != "":
		return "one-off"
	case ask.Retire == contract.All:
		return "retire all"
	case ask.Retire != "":
		return "retire " + ask.Retire
	}
	return string(ask.Only)
}

// Title is what a survey or plan is for, beside what is declared.
func Title(t store.Task) string {
	ask, err := t.Asked()
	if err != nil {
		return ""
	}
	return titleOf(ask)
}

var errGone = errors.New("the host has not come back")
