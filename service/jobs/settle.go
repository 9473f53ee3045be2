package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/host/probe"
	"northstake/service/store"
)

const (
	probePatience = 4 * time.Second
	bootPatience  = time.Minute // after a restart of the host
	probePause    = 150 * time.Millisecond
)

// worked are the stakes of the plan's steps, by their addresses, and whether nothing of
// them was there when it was made.
func (h *placeRun) worked() map[string]bool {
	absent := map[string]bool{}
	for _, r := range h.planned.Rows {
		absent[r.Address] = r.Absent
	}
	out := map[string]bool{}
	for _, s := range h.planned.Steps {
		for _, a := range s.Addresses() {
			out[a] = absent[a]
		}
	}
	return out
}

// seen notes how the host stands now, after steps that brought stakes about. Settled is how
// it stood just before, nil where it is to be looked at.
func (h *placeRun) seen(ctx context.Context, worked map[string]bool, settled *look) (plan.Place, error) {
	declared := h.s
	declared.purpose, declared.asksSites = h.s.purpose.ended(), true
	a, err := h.j.access(ctx, declared, h.doc.Place)
	var l look
	if len(worked) > 0 { // it is to be noted, even if all is as it was when last seen
		h.j.mu.Lock()
		delete(h.j.seen, connKey(declared, h.doc.Place))
		h.j.mu.Unlock()
	}
	switch {
	case err != nil:
	case settled != nil && settled.before == nil && len(settled.probes) == 0:
		l = *settled
	default:
		l, err = h.lastLook(ctx, declared, a)
	}
	for deadline := time.Now().Add(probePatience); err == nil && worked == nil && ctx.Err() == nil && time.Now().Before(deadline); _ = store.Pause(ctx, probePause) {
		if rows, _ := answered(l.host, l.answers, nil, time.Time{}); rows == nil {
			break // what was put back has been taken in, and answers
		}
		l.answers = h.j.askBeside(ctx, declared, h.conn, h.doc.Place, l.probes)()
	}
	if err == nil {
		l.worked = worked
		err = h.j.Store.Persist(ctx, func() error { return h.j.note(ctx, declared, &l, store.Said{}) })
	}
	if err != nil {
		h.doc.Notes = append(h.doc.Notes, h.the()+" could not be read at the end: "+err.Error())
	}
	if err == nil {
		if left := declared.purpose.left(l.host, l.part); left != "" {
			h.doc.Notes = append(h.doc.Notes, left)
		}
	}
	return l.host, err
}

// lastLook surveys the host at the end of its part, over a new connection where the line
// has broken since: what was done is known, and only how the host stands is asked.
func (h *placeRun) lastLook(ctx context.Context, declared scope, a access) (look, error) {
	l, err := h.j.lookOver(ctx, declared, h.doc.Place, h.conn, a)
	if err == nil || ctx.Err() != nil || h.conn.Usable() {
		return l, err
	}
	conn, hangUp, again := a.fresh(ctx)
	if again != nil {
		return l, err
	}
	defer hangUp()
	return h.j.lookOver(ctx, declared, h.doc.Place, conn, a)
}

// close tells the host that the run has ended. Where the line has broken since, it does so over a new
// one: a run to which nobody comes back the host takes back.
func (h *placeRun) close(ctx context.Context) error {
	err := h.conn.CloseRun(ctx, h.id())
	if err == nil || ctx.Err() != nil || h.conn.Usable() {
		return err
	}
	a, err := h.j.access(ctx, h.s, h.doc.Place)
	if err != nil {
		return err
	}
	conn, hangUp, err := a.fresh(ctx)
	if err != nil {
		return err
	}
	defer hangUp()
	if _, err := conn.Open(ctx, h.id(), h.openAsk()); err != nil {
		return fmt.Errorf("come back to the run: %v", err) // whatever the host says: it was not told
	}
	return conn.CloseRun(ctx, h.id())
}

// settle waits until the host is as the plan promised: a server takes a moment to take
// its configuration in, and answers with the former one until then. It returns how the host
// stands then, nil where that is not known.
func (h *placeRun) settle(ctx context.Context) *look {
	patience := probePatience
	if h.went {
		patience = bootPatience
	}
	s := h.s
	s.purpose = s.purpose.ended()
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); _ = store.Pause(ctx, probePause) {
		a, err := h.j.access(ctx, s, h.doc.Place)
		var l look
		if err == nil {
			l, err = h.j.lookOver(ctx, s, h.doc.Place, h.conn, a)
		}
		if err != nil || ctx.Err() != nil {
			return nil // the look at the end says why
		}
		if len(h.unmet(l.host)) == 0 {
			return &l
		}
	}
	return nil
}

// unmet lists what the plan promised and the host is not: stakes of its steps, those that were as
// declared when it was made, and, where it is about all that is declared, each that does not wait for
// what is blocked.
func (h *placeRun) unmet(now plan.Place) []string {
	promised := map[string]bool{}
	waits := map[string]bool{}
	for _, b := range h.planned.Blockers {
		waits[b.Address] = true
	}
	for _, l := range h.planned.Left {
		waits[l.Address] = true
	}
	for a := range h.worked() {
		promised[a] = !waits[a]
	}
	goes := h.s.purpose.extent()
	for _, r := range h.planned.Rows {
		promised[r.Address] = promised[r.Address] || !waits[r.Address] && (r.Standing == plan.Set || goes.whole && (r.Standing == plan.Due || r.Standing == plan.Shifted))
	}
	for _, s := range h.planned.Steps {
		if s.Stays {
			promised[s.Address] = false
		}
	}
	var out []string
	for _, r := range now.Rows {
		// What goes back to what it was may be declared otherwise by now, or by nobody any more.
		if met := r.Standing == plan.Set || goes.former && (r.Standing == plan.Due || r.Standing == plan.Stray); promised[r.Address] && !met {
			out = append(out, r.Address+", "+string(r.Standing))
		}
	}
	return out
}

// finish probes the host's sites and notes how it stands; where a site does not
// answer as declared, the host goes back to what it was.
func (h *placeRun) finish(ctx context.Context, probes []wire.Probe) {
	probes = slices.DeleteFunc(slices.Clone(probes), func(p wire.Probe) bool {
		return slices.Contains(h.planned.LeftSites, p.Site) || h.s.purpose.extent().former && h.toCome(p.Site)
	})
	var settled *look
	if h.s.purpose.extent().declared {
		settled = h.settle(ctx)
	}
	if len(probes) > 0 {
		settled = nil // much can happen while they are made
	}
	results, bad := h.probeAll(ctx, probes)
	h.doc.Probes = results
	if ctx.Err() != nil {
		return
	}
	if bad != nil {
		h.takeBack(ctx, &wire.Fault{What: fmt.Sprintf("after the steps, %s does not answer as declared: %s from %s: %s", checked(bad.Site), bad.InFull(bad.Path), bad.From, bad.Words()),
			Fix: h.the() + " is back to what it was; correct the content, the probe or the site"})
		return
	}
	if len(probes) > 0 && !h.conn.Usable() {
		h.end(ctx, "interrupted", &wire.Fault{What: "the steps are done, and the line to " + h.the() + " broke while its sites were checked", Fix: "resume the run: it makes the checks"})
		return
	}
	now, unread := h.seen(ctx, h.worked(), settled)
	silent := h.unanswered(results, now)
	var refused *wire.Fault
	switch err := h.close(ctx); {
	case ctx.Err() != nil:
		return
	case errors.As(err, &refused):
		h.doc.Notes = append(h.doc.Notes, "the run was not closed in order on "+h.the()+": "+err.Error())
	case err != nil:
		h.cutOff(ctx, wire.Fault{What: "the steps are done, and the line to " + h.the() + " broke before it was told so: " + err.Error(), Fix: "resume the run: it makes the checks, and tells " + h.the()})
		return
	}
	left := h.unmet(now)
	if silent != nil { // of which there is more to say than that it is shifted
		left = slices.DeleteFunc(left, func(l string) bool {
			return strings.HasPrefix(l, h.doc.Place+"/"+wire.Local("site", silent.Site)+", ") || strings.HasPrefix(l, h.doc.Place+"/"+silent.Site+", ")
		})
	}
	switch {
	case unread != nil:
		h.end(ctx, "unmet", &wire.Fault{What: "the steps are done, and " + h.the() + " could not be read at the end: " + unread.Error(), Fix: "survey it again"})
	case h.s.purpose.extent().declared && len(left) > 0:
		h.end(ctx, "unmet", &wire.Fault{What: "the steps are done, and this is still not as declared: " + strings.Join(left[:min(len(left), 10)], "; ") + andMore(len(left)-10), Fix: "plan again, and look at what differs"})
	case silent != nil:
		h.end(ctx, "unmet", &wire.Fault{What: fmt.Sprintf("the steps are done, and %s answers as little as before: %s from %s: %s", checked(silent.Site), silent.InFull(silent.Path), silent.From, silent.Words()), Fix: "this run did not bring that about; correct the content, the probe or the site"})
	case len(h.planned.Blockers) > 0:
		h.end(ctx, "partly", h.blocked())
	default:
		h.end(ctx, "done", nil)
	}
}

// toCome says whether something is declared of a site or container that this host's stakes are not
// yet, so that what went back to what it was has nothing to answer to its checks.
func (h *placeRun) toCome(site string) bool {
	return slices.ContainsFunc(h.planned.Rows, func(r plan.Row) bool {
		return (r.Standing == plan.Due || r.NewlyDeclared) && (r.Site == site || r.Address == h.doc.Place+"/"+site)
	})
}

// unanswered is a check that failed, nil where all are well; those that could not be made are noted.
// What is declared and not there yet has nothing to answer.
func (h *placeRun) unanswered(results []probe.Result, now plan.Place) (bad *probe.Result) {
	for i, r := range results {
		due := slices.ContainsFunc(now.Rows, func(row plan.Row) bool {
			return row.Standing == plan.Due && (row.Address == h.doc.Place+"/"+wire.Local("site", r.Site) || row.Address == h.doc.Place+"/"+r.Site)
		})
		switch {
		case r.OK || due:
		case r.Made():
			bad = cmp.Or(bad, &results[i])
		default:
			h.doc.Notes = append(h.doc.Notes, fmt.Sprintf("%s was not checked from %s: %s", checked(r.Site), r.From, strings.TrimPrefix(r.Error, "not checked: ")))
		}
	}
	return bad
}

func andMore(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf("; and %d more", n)
}

// blocked is the plan's first blocker as a fault; the others are noted.
func (h *placeRun) blocked() *wire.Fault {
	first := h.planned.Blockers[0]
	for _, b := range h.planned.Blockers[1:] {
		h.doc.Notes = append(h.doc.Notes, b.Address+" was blocked: "+b.What)
	}
	if len(h.planned.Left) > 0 {
		names := make([]string, len(h.planned.Left))
		for i, l := range h.planned.Left {
			names[i] = l.Address
		}
		h.doc.Notes = append(h.doc.Notes, "left as they were until what is in the way is cleared: "+strings.Join(names, ", "))
	}
	return &wire.Fault{What: first.Address + " was blocked: " + first.What, Fix: first.Fix + ", then plan again"}
}

// checked names what a check is of: a site, or a container by its stake.
func checked(site string) string {
	if strings.Contains(site, "/") {
		return strings.Replace(site, "/", " ", 1)
	}
	return "site " + site
}
