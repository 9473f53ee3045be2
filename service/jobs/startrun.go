package jobs

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/store"
)

// NotReady is a plan that cannot be run as it is.
type NotReady struct{ What, Fix string }

func (n NotReady) Error() string { return n.What }

// StartRun starts a run of a plan.
func (j *Service) StartRun(ctx context.Context, g store.Ground, planID int64, ask contract.NewRun, by string) (store.Run, error) {
	passwords := ask.SudoPasswords
	var r store.Run
	t, err := j.Store.Task(ctx, store.Plans, planID)
	if err != nil {
		return r, err
	}
	if t.State != "done" {
		return r, NotReady{fmt.Sprintf("plan %d is %s", planID, t.State), "wait for it, or plan again"}
	}
	if g.Newest != t.Revision {
		return r, NotReady{fmt.Sprintf("plan %d was made for revision %d, and the newest is %d", planID, t.Revision, g.Newest), "plan again"}
	}
	var hosts []plan.Place
	if err := json.Unmarshal(t.Places, &hosts); err != nil {
		return r, err
	}
	if err := needNamed(hosts, ask.Removing); err != nil {
		return r, err
	}
	asked, err := t.Asked()
	if err != nil {
		return r, err
	}
	s, err := j.scopeOf(ctx, store.Plans, g.ID, g.Name, t.Revision, asked)
	if err != nil {
		return r, err
	}
	var working []string
	for _, h := range hosts {
		if len(h.Steps) > 0 {
			working = append(working, h.Name)
		}
	}
	if err := needPasswords(s.d, working, passwords); err != nil {
		return r, err
	}
	docs := make([]contract.RunPlace, len(hosts))
	for i, h := range hosts {
		docs[i] = freshDoc(h)
	}
	err = j.Store.Tx(ctx, func(tx *sqlx.Tx) error {
		done, err := j.Store.FirstRun(ctx, tx, planID)
		if err != nil {
			return err
		}
		if done != 0 {
			return NotReady{fmt.Sprintf("plan %d was run already, as run %d", planID, done), fmt.Sprintf("resume run %d, or plan again", done)}
		}
		if r, err = j.Store.AddRun(ctx, tx, g.ID, planID, by, docs); err != nil {
			return err
		}
		return j.enqueue(ctx, tx, runArgs{r.ID}, store.Topic("runs", r.ID), passwords)
	})
	return r, err
}

// NotNamed says that steps remove content and were not confirmed by name.
type NotNamed struct{ Addresses []string }

func (n NotNamed) Error() string {
	return "what people may rely on would be removed by the steps of " + strings.Join(n.Addresses, ", ")
}

// needNamed refuses a plan that removes somebody's content unless each stake that
// does is named.
func needNamed(hosts []plan.Place, named []string) error {
	var missing []string
	for _, h := range hosts {
		for _, s := range h.Steps {
			if len(s.Removes) > 0 && !slices.Contains(named, s.Address) {
				missing = append(missing, s.Address)
			}
		}
	}
	if len(missing) > 0 {
		return NotNamed{missing}
	}
	return nil
}

func freshDoc(h plan.Place) contract.RunPlace {
	doc := contract.RunPlace{Place: h.Name, Sort: h.Sort, State: "waiting", Steps: []contract.RunStep{}}
	for _, s := range h.Steps {
		doc.Steps = append(doc.Steps, contract.RunStep{Number: s.Number, Text: s.Text, Name: s.Address, State: "waiting"})
	}
	return doc
}

// resumable are the states of a host that can be carried on with.
var resumable = map[contract.RunPlaceState]bool{"interrupted": true, "failed": true, "back": true, "waiting": true, "running": true, "cancelled": true}

// ResumeRun carries on with hosts of a run that did not end well; all of them
// where none is named.
func (j *Service) ResumeRun(ctx context.Context, g store.Ground, id int64, ask contract.ResumeRun) (store.Run, error) {
	r, err := j.Store.Run(ctx, id)
	if err != nil {
		return r, err
	}
	if r.State == "queued" || r.State == "running" {
		return r, NotReady{fmt.Sprintf("run %d is still %s", id, r.State), "wait until it has ended"}
	}
	docs, err := j.Store.RunPlaces(ctx, id)
	if err != nil {
		return r, err
	}
	t, err := j.Store.Task(ctx, store.Plans, r.PlanID)
	if err != nil {
		return r, err
	}
	d, err := j.Declaration(ctx, g.ID, t.Revision)
	if err != nil {
		return r, err
	}
	wanted, err := d.Choose(ask.Hosts)
	if err != nil {
		return r, err
	}
	var names []string
	docs = slices.DeleteFunc(docs, func(d contract.RunPlace) bool {
		return !resumable[d.State] || !slices.Contains(wanted, d.Place)
	})
	for _, d := range docs {
		names = append(names, d.Place)
	}
	if len(names) == 0 {
		return r, NotReady{fmt.Sprintf("run %d has no host that could be carried on with", id), "plan again"}
	}
	if err := needPasswords(d, names, ask.SudoPasswords); err != nil {
		return r, err
	}
	err = j.Store.Tx(ctx, func(tx *sqlx.Tx) error {
		switch ended, err := j.Store.QueueRun(ctx, tx, id); {
		case err != nil:
			return err
		case !ended: // somebody else has resumed it meanwhile
			return NotReady{fmt.Sprintf("run %d has not ended", id), "wait until it has"}
		}
		for _, d := range docs {
			if d.State == "back" || d.State == "cancelled" { // nothing of it is left, and all is to be done
				for i := range d.Steps {
					d.Steps[i] = contract.RunStep{Number: d.Steps[i].Number, Text: d.Steps[i].Text, Name: d.Steps[i].Name, State: "waiting"}
				}
			}
			d.State, d.Fault = "waiting", wire.Fault{}
			if err := j.Store.PutRunPlaceIn(ctx, tx, id, d, d); err != nil {
				return err
			}
		}
		if err := j.Store.AddEvent(ctx, tx, store.Topic("runs", id), "resumed", []byte("{}")); err != nil {
			return err
		}
		return j.enqueue(ctx, tx, runArgs{id}, store.Topic("runs", id), ask.SudoPasswords)
	})
	if err != nil {
		return r, err
	}
	return j.Store.Run(ctx, id)
}
