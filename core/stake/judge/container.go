package judge

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

// policyWords says what an engine is told in the words of a declaration.
func policyWords(policy string) string {
	return cmp.Or(map[string]string{wire.PolicyAlways: "always, and at boot", wire.PolicyNotAtBoot: "always, and not at boot", wire.PolicyOnFailure: wire.RestartsOnFailure, wire.PolicyNever: wire.RestartsNever}[policy], policy)
}

var _ = stake.Judged("container", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgeContainer),
	Nudged:       nudgedContainer,
	Unwanted:     unwantedContainer,
	Away:         stake.Judging(awayContainer),
	// What is made first and started later is made and started at once when nothing is in its
	// way any more.
	Within: workWithin(func(planned, now wire.ContainerWork) bool {
		told := map[string][]string{wire.PrepareContainer: {wire.MakeContainer, wire.StartContainer}, wire.MakeContainer: {wire.PrepareContainer, wire.StartContainer, wire.AnewContainer}}
		return (planned.Do == now.Do || slices.Contains(told[planned.Do], now.Do)) && bytes.Equal(wire.JSON(planned.ContainerWant), wire.JSON(now.ContainerWant))
	}),
	Follows: true,
	Passing: []string{"log", "status", "since", "restarts", "unwell", "young"},
})

func judgeContainer(in stake.Input, w wire.ContainerWant, f wire.ContainerFound) stake.Verdict {
	j := &containerJudgement{in: in, w: w, f: f, v: stake.Verdict{Gone: !f.There}, running: f.State == "running"}
	j.secrets()
	switch {
	case f.Engine != nil:
		return j.withoutEngine()
	case f.There && f.By != w.By:
		return j.others()
	}
	j.around()
	j.compare()
	if j.state(); j.v.Unread != "" {
		return stake.Verdict{Unread: j.v.Unread}
	}
	j.v.Differences = j.d
	if j.running && !f.Since.IsZero() {
		j.v.Rests = "runs since " + f.Since.UTC().Format("2006-01-02 15:04 UTC")
	}
	if len(j.d) == 0 || len(j.v.Blockers) > 0 {
		return j.v
	}
	j.ports()
	if !f.There {
		j.make()
	} else if j.anew {
		j.makeAnew()
	} else {
		j.v.Moves = []wire.Move{j.switchOver()}
	}
	j.v.Cautions = append(j.v.Cautions, j.loses()...)
	j.v.Cautions = append(j.v.Cautions, servesNothing(w, in, f)...)
	return j.v
}

// containerJudgement is one container that is being judged.
type containerJudgement struct {
	in      stake.Input
	w       wire.ContainerWant
	f       wire.ContainerFound
	d       differences
	v       stake.Verdict
	running bool
	anew    bool     // it differs in what it was made with
	former  []string // where it sees what is not there any more
}

func (j *containerJudgement) block(what, fix string) {
	j.v.Blockers = append(j.v.Blockers, stake.Note{Address: j.in.Stake.Address(), What: what, Fix: fix})
}

// secrets blocks what lacks any.
func (j *containerJudgement) secrets() {
	for _, n := range stake.SortedKeys(j.w.Secrets) {
		if s := j.w.Secrets[n]; s.Lacks != "" {
			j.block(s.Lacks, fmt.Sprintf("northstake secret keep %s takes it", s.Secret))
		}
	}
}

// withoutEngine judges one of which nothing is known, because no engine answers: it may come with the
// same plan.
func (j *containerJudgement) withoutEngine() stake.Verdict {
	j.d.differ("container", "there", "not known: "+j.f.Engine.What)
	if j.v.Differences = j.d; !j.in.Pending {
		j.block(j.f.Engine.What, j.f.Engine.Fix)
	}
	if len(j.v.Blockers) == 0 {
		m := containerMove(j.w, wire.MakeContainer, "run container "+j.w.Name+" of image "+j.w.Image)
		m.Details = containerDetails(j.w)
		j.v.Moves = []wire.Move{m}
	}
	return j.v
}

// others judges one that somebody else made.
func (j *containerJudgement) others() stake.Verdict {
	by := "nobody that is known here"
	if j.f.By != "" {
		by = "ground " + j.f.By
	}
	j.d.differ("made by", "ground "+j.w.By, by)
	j.v.Differences = j.d
	j.block(fmt.Sprintf("a container called %s is there already, made by %s", j.w.Name, by), "give this one another name, or take the other away")
	return j.v
}

// around blocks what lacks what is to be there beside it.
func (j *containerJudgement) around() {
	for _, p := range j.f.Missing {
		if !j.in.Pending {
			j.block(fmt.Sprintf("the container is to see %s, and nothing is there", p), "declare it as a directory, a file or a content, or correct where it is")
		}
	}
	if j.w.JoinsNamed() && len(j.f.Networks) > 0 && !slices.Contains(j.f.Networks, j.w.Network) {
		j.block(fmt.Sprintf("the engine has no network called %s; it has %s", j.w.Network, strings.Join(j.f.Networks, ", ")), "make it there, or name another")
	}
}

// compare finds what it was made with and should not have been, and whether it is there at all.
func (j *containerJudgement) compare() {
	if j.f.There {
		compareContainer(j.w, &j.d, j.f)
	} else if name := nowCalled(j.in); name != "" {
		j.d.differ("name", j.w.Name, name)
		j.block(fmt.Sprintf("container %s was renamed to %s", j.w.Name, name), fmt.Sprintf("give it its name again, or take %s away", name))
	} else {
		j.d.differ("container", "there", "not there")
	}
	j.anew = len(j.d) > 0
}

// state finds whether it runs as it should.
func (j *containerJudgement) state() {
	w, f := j.w, j.f
	switch {
	case w.Running && !j.running && f.There:
		j.d.differ("state", "running", stateWords(f))
	case !w.Running && j.running:
		j.d.differ("state", "stopped", f.State)
	case w.Running && f.Unwell != "":
		if f.Young && !wasWell(j.in, f) && !j.anew {
			j.v.Unread = "it was started less than a minute ago, and is not well yet: " + f.Unwell
			return
		}
		j.d.differ("well", "yes", "no: "+f.Unwell)
	case j.running && w.Running && endedSince(f, j.in):
		j.d.differ("stays up", "yes", "no: it has ended since it was set, and the engine has started it again")
	}
	if j.running && w.Running {
		j.former = f.Former
	}
	for _, p := range j.former {
		j.d.differ("sees at "+p, "what lies there", "what lay there before")
	}
}

// ports blocks one whose ports others have.
func (j *containerJudgement) ports() {
	for _, door := range j.w.ReachedAt {
		if l := j.in.Traits.On(door.Outside); l != nil && !(j.f.There && j.running) && !slices.Contains(engineListeners, l.Program) && !letsGo(j.in.Leaving, j.in.Memo, *l) {
			j.block(fmt.Sprintf("port %d is taken by %s (process %d)", door.Outside, l.Program, l.PID), "let the container have another port, or stop that program")
		}
	}
}

// make makes one that is not there. What leaves may have its port: until then it is only made.
func (j *containerJudgement) make() {
	w := j.w
	if w.Serves != "" && len(j.in.Leaving) > 0 {
		prepare, start := containerMove(w, wire.PrepareContainer, fmt.Sprintf("make container %s of image %s", w.Name, w.Image)), containerMove(w, wire.StartContainer, "start container "+w.Name)
		prepare.Details, start.Late = containerDetails(w), true
		j.v.Moves = []wire.Move{prepare, start}
		return
	}
	text := fmt.Sprintf("run container %s of image %s", w.Name, w.Image)
	if !w.Running {
		text = fmt.Sprintf("make container %s of image %s, and leave it stopped", w.Name, w.Image)
	}
	m := containerMove(w, wire.MakeContainer, text)
	m.Details = containerDetails(w)
	j.v.Moves = []wire.Move{m}
}

// makeAnew makes one anew that differs in what it was made with.
func (j *containerJudgement) makeAnew() {
	var what []string
	for _, one := range j.d {
		what = append(what, one.Attribute)
	}
	m := containerMove(j.w, wire.MakeContainer, fmt.Sprintf("make container %s anew, of image %s", j.w.Name, j.w.Image))
	m.Because = "of what differs: " + strings.Join(slices.Compact(what), ", ")
	j.v.Moves = []wire.Move{m}
	if j.running && j.w.Running && j.w.Overlaps(j.f) {
		j.v.Cautions = append(j.v.Cautions, silence(j.w, j.in.Stake.Place))
	}
}

// switchOver brings one that was made as declared to the state in which it should be.
func (j *containerJudgement) switchOver() wire.Move {
	w, f := j.w, j.f
	anew := func(why string) wire.Move {
		return containerMove(w, wire.MakeContainer, fmt.Sprintf("make container %s anew, because it %s", w.Name, why))
	}
	switch {
	case !w.Running:
		return containerMove(w, wire.StopContainer, "stop container "+w.Name)
	case j.running && len(j.former) > 0 && f.Unwell == "":
		return startAnew(w, "it sees what lay at "+strings.Join(j.former, ", ")+" before")
	case j.running && f.Unwell != "":
		return anew("is not well")
	case j.running || f.State == wire.ContainerRestarting:
		return anew("does not stay up")
	case !slices.Contains(startable, f.State):
		return anew("is " + f.State)
	}
	return containerMove(w, wire.StartContainer, "start container "+w.Name)
}

// loses are the cautions about what lies in volumes that nothing else keeps.
func (j *containerJudgement) loses() []stake.Note {
	loose := j.w.Loose(j.f)
	if len(loose) == 0 || !slices.ContainsFunc(j.v.Moves, func(m wire.Move) bool { return m.Verb == "make" }) {
		return nil
	}
	return []stake.Note{{Address: j.in.Stake.Address(), What: fmt.Sprintf("what container %s wrote at %s lies in a volume of the engine: the new one goes on with it, and nothing else keeps it", j.w.Name, strings.Join(loose, ", ")), Fix: "let it hold a directory of the host there"}}
}

// servesNothing are the cautions about what would leave a web server with nothing to serve.
func servesNothing(w wire.ContainerWant, in stake.Input, f wire.ContainerFound) []stake.Note {
	var out []stake.Note
	for _, p := range f.Empty {
		if !in.Pending {
			out = append(out, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("%s, which container %s is to see, is empty", p, w.Name), Fix: "declare what lies there as content, or correct where it is"})
		}
	}
	if len(f.Looks) == 0 || len(w.Mounts) == 0 || len(w.ReachedAt) == 0 {
		return out
	}
	at := func(h wire.HeldAt) bool { // what it holds where the server looks, or its configuration
		return h.At.Within("/etc") || strings.Contains(string(h.At), "/conf") || slices.ContainsFunc(f.Looks, func(p string) bool { return h.At.Meets(wire.Path(p)) })
	}
	if !slices.ContainsFunc(w.Mounts, at) {
		out = append(out, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf("the server in image %s looks by itself at %s for what it serves, and container %s holds nothing there", w.Image, strings.Join(f.Looks, " or "), w.Name), Fix: "let it hold the content there, or a configuration of its own that names another place"})
	}
	return out
}

// startAnew has a container see what lies on the host by now where it holds something.
func startAnew(w wire.ContainerWant, because string) wire.Move {
	m := containerMove(w, wire.AnewContainer, "restart container "+w.Name)
	m.Because = because
	return m
}

// nudgeHolders are for the containers that see just a path, at which something else lies from now
// on: an engine shows them what was there when they were started.
func nudgeHolders(in stake.Input, what string, path wire.Path) []stake.Nudge {
	var out []stake.Nudge
	for s, w := range stake.Of[wire.ContainerWant](in.Declared, "container", in.Memo) {
		if slices.ContainsFunc(w.Mounts, func(h wire.HeldAt) bool { return h.From == path }) {
			out = append(out, stake.Nudge{Target: s.Local(), How: wire.AnewContainer, Reason: fmt.Sprintf("its %s %s changed", what, path)})
		}
	}
	return out
}

// silence is the caution that a container does not answer while it is made anew.
func silence(w wire.ContainerWant, host string) stake.Note {
	return stake.Note{Address: host + "/" + wire.Local("container", w.Name), What: fmt.Sprintf("container %s does not answer from when the former one stops until the new one is up: both want the same port or address, or write at the same place", w.Name), Fix: "apply when that does no harm"}
}

// nudgedContainer makes a container anew whose image comes anew with the same plan, starts it anew
// where it holds what the plan replaces, and has it reload where that will do.
func nudgedContainer(in stake.Input) (*wire.Move, error) {
	w, ok := stake.Decoded[wire.ContainerWant](in.Stake.Want)
	f, ok2 := stake.Decoded[wire.ContainerFound](in.Found)
	if !ok || !ok2 || len(in.Nudges) == 0 || !f.There {
		return nil, nil
	}
	asks := func(how string) bool {
		return slices.ContainsFunc(in.Nudges, func(n stake.Nudge) bool { return n.How == how })
	}
	if !asks(wire.MakeContainer) && asks(wire.AnewContainer) {
		if !w.Running || f.State != "running" {
			return nil, nil
		}
		m := startAnew(w, because(in.Nudges))
		return &m, nil
	}
	if !asks(wire.MakeContainer) {
		m := containerMove(w, wire.ReloadContainer, "reload container "+w.Name)
		m.Because = because(in.Nudges)
		return &m, nil
	}
	m := containerMove(w, wire.MakeContainer, fmt.Sprintf("make container %s anew, of image %s", w.Name, w.Image))
	m.Because = in.Nudges[0].Reason
	return &m, nil
}

// engineListeners are programs that hold the ports of containers for engines.
var engineListeners = []string{"conmon", "docker-proxy", "rootlessport", "netavark"}

// startable are the states in which an engine can start a container.
var startable = []string{"created", "configured", "initialized", "exited", "stopped"}

// stateWords says how a container stands that does not run.
func stateWords(f wire.ContainerFound) string {
	words := f.State
	switch f.State {
	case wire.ContainerRestarting:
		words = "it ends again and again, and the engine starts it again"
	case "exited":
		words = fmt.Sprintf("ended, with status %d", f.Status)
	}
	if len(f.Log) > 0 {
		words += "; its last words: " + strings.Join(f.Log, " / ")
	}
	return words
}

// nowCalled is the name that the container has by now that was there when it was last set, "" where that
// is not known.
func nowCalled(in stake.Input) string {
	was, ok := stake.Decoded[wire.ContainerFound](in.LastFound)
	for _, c := range in.Traits.Containers {
		if ok && was.ID != "" && c.ID == was.ID {
			return c.Name
		}
	}
	return ""
}

// wasWell says whether a container was well when it was last set, and has not been started since.
func wasWell(in stake.Input, f wire.ContainerFound) bool {
	was, ok := stake.Decoded[wire.ContainerFound](in.LastFound)
	return ok && was.ID == f.ID && was.Since.Equal(f.Since)
}

// endedSince says whether the engine had to start a container again since it was set.
func endedSince(f wire.ContainerFound, in stake.Input) bool {
	was, ok := stake.Decoded[wire.ContainerFound](in.LastFound)
	return ok && was.ID == f.ID && f.Restarts > was.Restarts
}

func containerMove(w wire.ContainerWant, do, text string) wire.Move {
	return wire.Move{Verb: strings.Fields(text)[0], Text: text, Work: wire.JSON(wire.ContainerWork{ContainerWant: w, Do: do})}
}

// containerDetails are the settings of a container that is made, for the plan.
func containerDetails(w wire.ContainerWant) []wire.Detail {
	var b strings.Builder
	for _, d := range w.ReachedAt {
		fmt.Fprintf(&b, "reached at %s\n", d.Words())
	}
	for _, h := range w.Mounts {
		fmt.Fprintf(&b, "mounts %s\n", h.Words())
	}
	for _, n := range stake.SortedKeys(w.Variables) {
		fmt.Fprintf(&b, "variable %s is %s\n", n, w.Variables[n])
	}
	for _, n := range stake.SortedKeys(w.Secrets) {
		fmt.Fprintf(&b, "variable %s is as secret %s has it\n", n, w.Secrets[n].Secret)
	}
	if b.Len() == 0 {
		return nil
	}
	return []wire.Detail{{Text: b.String()}}
}

// awayContainer takes a container away that North Stake made.
func awayContainer(in stake.Input, w wire.ContainerWant, f wire.ContainerFound) stake.Verdict {
	v := stake.Verdict{Gone: f.Engine == nil && !f.There}
	switch {
	case v.Gone:
	case f.Engine != nil:
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: f.Engine.What, Fix: f.Engine.Fix}}
	case f.By != w.By:
		v.Cautions = []stake.Note{stays(in, wire.Path("container "+w.Name))}
	default:
		v.Moves = []wire.Move{containerMove(w, wire.AwayContainer, "take away container "+w.Name)}
		if in.Pending && w.Serves != "" {
			v.Late = true
			v.Cautions = []stake.Note{gap(in, "container "+w.Name)}
		}
	}
	return v
}
