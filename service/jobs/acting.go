package jobs

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/service/store"
)

// acting does something once, now. It is about that, and not about what is declared.
type acting struct {
	everything
	act    wire.ActWant
	engine string // host that it is done on, where it is about a container of that host's engine
}

func (a acting) check(table store.Table) error {
	needsService := a.act.Do == "restart" || a.act.Do == "reload"
	switch {
	case len(a.act.Leave) > 0:
		return NotReady{"what an upgrade leaves is a matter of what is declared", "declare the version"}
	case a.ask.OneOff.Text != "" || a.ask.Only != "":
		return NotReady{"something is done now by itself, without what is declared", "ask for one of the two"}
	case !slices.Contains(wire.Acts, a.act.Do):
		return NotReady{fmt.Sprintf("nothing is known that is called %q", a.act.Do), "it is one of " + wire.ActNames()}
	case (a.act.Do == wire.MakeImage) != (a.act.Image != "") || a.act.Image != "" && !form.Image.MatchString(a.act.Image) || strings.Contains(a.act.Image, "@"):
		return NotReady{"a container is kept under the name of an image, and nothing else is", "write REGISTRY/NAME:TAG, in small letters"}
	case a.act.Container+a.act.Host+a.act.Ground+a.act.Unlike != "" || a.act.Revision != 0 || a.act.Login != nil:
		return NotReady{"of which container the image is made, and what that holds, the service finds out", "leave that out"}
	case needsService && (a.act.Service == "" || a.act.Service != filepath.Base(a.act.Service)):
		return NotReady{"no service is named", "name the service"}
	case !needsService && a.act.Service != "":
		return NotReady{fmt.Sprintf("%s is not about a service", a.act.Do), "leave the service out"}
	}
	return a.planned(table)
}

func (a acting) title() string {
	switch {
	case a.act.Image != "":
		return "keep as " + a.act.Image
	case a.act.Service != "":
		return string(a.act.Do) + " " + a.act.Service
	}
	return string(a.act.Do)
}

func (a acting) begin(ctx context.Context, j *Service, s *scope) (p purpose, err error) {
	a.everything = a.of(*s)
	if a.act.Do == wire.MakeImage {
		a, err = j.keeps(ctx, s, a)
	}
	return a, err
}

func (a acting) extent() extent { return extent{clears: a.clears} }

func (a acting) hosts(d *declare.Declaration) ([]string, error) {
	if a.engine != "" {
		return []string{a.engine}, nil
	}
	return a.everything.hosts(d)
}

func (a acting) stakes(d *declare.Declaration, host string, traits wire.Traits, secrets *stake.Secrets) (resolve.Place, error) {
	h, err := a.everything.stakes(d, host, traits, secrets)
	if err != nil {
		return h, err
	}
	name, act := string(a.act.Do), a.act
	if of := cmp.Or(act.Service, act.Host); of != "" {
		name += "-" + of
	}
	if act.Do == "upgrade" {
		act.Leave = kinds.VersionsDeclared(h.Stakes)
	}
	h.Stakes = []stake.Stake{{Place: host, Type: "act", Name: name, Want: wire.JSON(act)}}
	return h, nil
}

// ended is everything: how a host stands is a matter of what is declared.
func (a acting) ended() purpose { return a.everything }

// keeps works out which container is kept as an image, on which engine, and whether it is as the
// revision declares it.
func (j *Service) keeps(ctx context.Context, s *scope, a acting) (acting, error) {
	names, err := s.d.Choose(a.ask.Hosts)
	if err != nil {
		return a, err
	}
	if len(names) != 1 {
		return a, NotReady{"one container at a time is kept as an image", "name one host"}
	}
	container, engine := s.d.InContainer(names[0])
	switch {
	case container == "":
		return a, NotReady{fmt.Sprintf("host %s is no container", names[0]), "name a host whose via is \"container\""}
	case engine == "":
		return a, NotReady{fmt.Sprintf("host %s runs on the engine of the service's own machine, which is no host of the ground", names[0]), "declare that machine as a host with via = \"service-machine\", and name it as the engine"}
	}
	a.act.Container, a.act.Host, a.act.Ground, a.act.Revision = container, names[0], s.ground, s.revision
	states, err := j.Store.PlaceStates(ctx, s.groundID)
	if err != nil {
		return a, err
	}
	var rows []plan.Row
	st := states[names[0]]
	if err := json.Unmarshal(st.Rows, &rows); err != nil && len(st.Rows) > 0 {
		return a, err
	}
	if c := CountsOf(rows); st.Unread != "" || st.Revision != s.revision || c.Due+c.Shifted+c.Unread > 0 {
		a.act.Unlike = fmt.Sprintf("host %s was not last seen as revision %d declares it", names[0], s.revision)
	}
	a.act = kinds.WithLogin(a.act, j.Secrets(ctx, s.d, s.ground, engine))
	a.engine = engine
	return a, nil
}
