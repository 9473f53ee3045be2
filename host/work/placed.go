package work

import (
	"context"
	"fmt"

	"northstake/core/wire"
)

// spot is where a step brings something about, and whose it is to be; or from where it takes it away.
type spot struct {
	path wire.Path
	wire.Owners
	away bool
}

// placed has a worker's steps done by the rights of whoever beside root can change what lies at their
// spots. What is not to be theirs is not put there.
func placed[W, J, B any](one typed[W, J, B], at func(J) spot) typed[W, J, B] {
	by := func(m *Host, work J, do func() error) error {
		s := at(work)
		return m.ByWhoMay(s.path, s.Group, do)
	}
	out := one
	out.before = func(ctx context.Context, m *Host, j Job, work J) (b B, err error) {
		err = by(m, work, func() (err error) {
			b, err = one.before(ctx, m, j, work)
			return err
		})
		return b, err
	}
	out.do = func(ctx context.Context, m *Host, j Job, work J, b B) (state wire.StepState, err error) {
		if err := at(work).theirs(m); err != nil {
			return "", err
		}
		err = by(m, work, func() (err error) {
			state, err = one.do(ctx, m, j, work, b)
			return err
		})
		return state, err
	}
	out.back = func(ctx context.Context, m *Host, j Job, work J, b B) error {
		return by(m, work, func() error { return one.back(ctx, m, j, work, b) })
	}
	if one.close != nil {
		out.close = func(m *Host, work J, b B) error {
			return by(m, work, func() error { return one.close(m, work, b) })
		}
	}
	return out
}

// theirs is why nothing is put at a spot: somebody can change what is above it, and it is not to be
// theirs.
func (s spot) theirs(m *Host) error {
	names, err := m.Names()
	if err != nil || s.away || s.Owner == "" { // what is there stays whose it is
		return err
	}
	under, err := m.Under(s.path, names)
	if err != nil || under == nil {
		return err
	}
	if owner, known := names.UserID(s.Owner); known && owner == under.UID {
		return nil
	}
	return &wire.Fault{What: fmt.Sprintf("%s can change %s, and so what lies at %s: nothing that is not theirs is put there", under.Who, under.At, s.path), Fix: "plan again"}
}
