package stake

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

func judgeContainer(in Input, w ContainerWant, f ContainerFound) Verdict {
	var d differences
	v := Verdict{Gone: !f.There}
	block := func(what, fix string) { v.Blockers = append(v.Blockers, Note{in.Stake.Address(), what, fix}) }
	for _, n := range sortedKeys(w.Secrets) {
		if w.Secrets[n].Lacks != "" {
			block(w.Secrets[n].Lacks, fmt.Sprintf("northstake secret keep %s takes it", w.Secrets[n].Secret))
		}
	}
	if f.Engine != nil {
		d.differ("container", "there", "not known: "+f.Engine.What)
		if v.Differences = d; !in.Pending {
			block(f.Engine.What, f.Engine.Fix)
		}
		if len(v.Blockers) > 0 {
			return v
		}
		m := w.move(MakeContainer, "run container "+w.Name+" of image "+w.Image)
		m.Details = w.details()
		v.Moves = []Move{m}
		return v
	}
	if f.There && f.By != w.By {
		by := "nobody that is known here"
		if f.By != "" {
			by = "ground " + f.By
		}
		d.differ("made by", "ground "+w.By, by)
		v.Differences = d
		block(fmt.Sprintf("a container called %s is there already, made by %s", w.Name, by), "give this one another name, or take the other away")
		return v
	}
	for _, p := range f.Missing {
		if !in.Pending {
			block(fmt.Sprintf("the container is to see %s, and nothing is there", p), "declare it as a directory, a file or a content, or correct where it is")
		}
	}
	if w.JoinsNamed() && len(f.Networks) > 0 && !slices.Contains(f.Networks, w.Network) {
		block(fmt.Sprintf("the engine has no network called %s; it has %s", w.Network, strings.Join(f.Networks, ", ")), "make it there, or name another")
	}
	if f.There {
		w.compare(&d, f)
	} else if name := nowCalled(in); name != "" {
		d.differ("name", w.Name, name)
		block(fmt.Sprintf("container %s was renamed to %s", w.Name, name), fmt.Sprintf("give it its name again, or take %s away", name))
	} else {
		d.differ("container", "there", "not there")
	}
	anew := len(d) > 0
	running := f.State == "running"
	switch {
	case w.Running && !running && f.There:
		d.differ("state", "running", f.stateWords())
	case !w.Running && running:
		d.differ("state", "stopped", f.State)
	case w.Running && f.Unwell != "":
		if f.Young && !wasWell(in, f) && !anew {
			return Verdict{Unread: "it was started less than a minute ago, and is not well yet: " + f.Unwell}
		}
		d.differ("well", "yes", "no: "+f.Unwell)
	case running && w.Running && f.endedSince(in):
		d.differ("stays up", "yes", "no: it has ended since it was set, and the engine has started it again")
	}
	var former []string
	if running && w.Running {
		former = f.Former
	}
	for _, p := range former {
		d.differ("sees at "+p, "what lies there", "what lay there before")
	}
	v.Differences = d
	if running && !f.Since.IsZero() {
		v.Rests = "runs since " + f.Since.UTC().Format("2006-01-02 15:04 UTC")
	}
	if len(d) == 0 || len(v.Blockers) > 0 {
		return v
	}
	for _, door := range w.ReachedAt {
		if l := in.Traits.On(door.Outside); l != nil && !(f.There && running) && !slices.Contains(engineListeners, l.Program) && !letsGo(in.Leaving, in.Memo, *l) {
			block(fmt.Sprintf("port %d is taken by %s (process %d)", door.Outside, l.Program, l.PID), "let the container have another port, or stop that program")
		}
	}
	switch {
	case !f.There:
		text := fmt.Sprintf("run container %s of image %s", w.Name, w.Image)
		if !w.Running {
			text = fmt.Sprintf("make container %s of image %s, and leave it stopped", w.Name, w.Image)
		}
		m := w.move(MakeContainer, text)
		if m.Details = w.details(); w.Serves != "" && len(in.Leaving) > 0 { // what leaves may have its port: until then it is only made
			m = w.move(PrepareContainer, fmt.Sprintf("make container %s of image %s", w.Name, w.Image))
			m.Details = w.details()
			start := w.move(StartContainer, "start container "+w.Name)
			start.Late = true
			v.Moves = []Move{m, start}
			break
		}
		v.Moves = []Move{m}
	case anew:
		var what []string
		for _, one := range d {
			what = append(what, one.Attribute)
		}
		m := w.move(MakeContainer, fmt.Sprintf("make container %s anew, of image %s", w.Name, w.Image))
		m.Because = "of what differs: " + strings.Join(slices.Compact(what), ", ")
		v.Moves = []Move{m}
		if running && w.Running {
			if w.Overlaps(f) {
				v.Cautions = append(v.Cautions, w.silence(in.Stake.Host))
			}
		}
	case w.Running && running && len(former) > 0 && f.Unwell == "":
		v.Moves = []Move{w.startAnew("it sees what lay at " + strings.Join(former, ", ") + " before")}
	case w.Running && running && f.Unwell != "":
		v.Moves = []Move{w.move(MakeContainer, fmt.Sprintf("make container %s anew, because it is not well", w.Name))}
	case w.Running && (running || f.State == ContainerRestarting):
		v.Moves = []Move{w.move(MakeContainer, fmt.Sprintf("make container %s anew, because it does not stay up", w.Name))}
	case w.Running && !slices.Contains(startable, f.State):
		v.Moves = []Move{w.move(MakeContainer, fmt.Sprintf("make container %s anew, because it is %s", w.Name, f.State))}
	case w.Running:
		v.Moves = []Move{w.move(StartContainer, "start container "+w.Name)}
	default:
		v.Moves = []Move{w.move(StopContainer, "stop container "+w.Name)}
	}
	if loose := w.loose(f); len(loose) > 0 && slices.ContainsFunc(v.Moves, func(m Move) bool { return m.Verb == "make" }) {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("what container %s wrote at %s lies in a volume of the engine: the new one goes on with it, and nothing else keeps it", w.Name, strings.Join(loose, ", ")), "let it hold a directory of the host there"})
	}
	v.Cautions = append(v.Cautions, w.servesNothing(in, f)...)
	return v
}

// servesNothing are the cautions about what would leave a web server with nothing to serve.
func (w ContainerWant) servesNothing(in Input, f ContainerFound) []Note {
	var out []Note
	for _, p := range f.Empty {
		if !in.Pending {
			out = append(out, Note{in.Stake.Address(), fmt.Sprintf("%s, which container %s is to see, is empty", p, w.Name), "declare what lies there as content, or correct where it is"})
		}
	}
	if len(f.Looks) == 0 || len(w.Mounts) == 0 || len(w.ReachedAt) == 0 {
		return out
	}
	at := func(h HeldAt) bool { // what it holds where the server looks, or its configuration
		return pathWithin(h.At, "/etc") || strings.Contains(h.At, "/conf") || slices.ContainsFunc(f.Looks, func(p string) bool { return pathWithin(h.At, p) || pathWithin(p, h.At) })
	}
	if !slices.ContainsFunc(w.Mounts, at) {
		out = append(out, Note{in.Stake.Address(), fmt.Sprintf("the server in image %s looks by itself at %s for what it serves, and container %s holds nothing there", w.Image, strings.Join(f.Looks, " or "), w.Name), "let it hold the content there, or a configuration of its own that names another place"})
	}
	return out
}

// pathWithin says whether a path is another or lies below it.
func pathWithin(p, dir string) bool {
	return p == dir || strings.HasPrefix(p, strings.TrimSuffix(dir, "/")+"/")
}

// startAnew has a container see what lies on the host by now where it holds something.
func (w ContainerWant) startAnew(because string) Move {
	m := w.move(AnewContainer, "restart container "+w.Name)
	m.Because = because
	return m
}

// nudgeHolders are for the containers that see just a path, at which something else lies from now
// on: an engine shows them what was there when they were started.
func nudgeHolders(in Input, what, path string) []Nudge {
	var out []Nudge
	for s, w := range of[ContainerWant](in.Declared, "container", in.Memo) {
		if slices.ContainsFunc(w.Mounts, func(h HeldAt) bool { return h.From == path }) {
			out = append(out, Nudge{Target: s.Local(), How: AnewContainer, Reason: fmt.Sprintf("its %s %s changed", what, path)})
		}
	}
	return out
}

// silence is the caution that a container does not answer while it is made anew.
func (w ContainerWant) silence(host string) Note {
	return Note{host + "/" + Local("container", w.Name), fmt.Sprintf("container %s does not answer from when the former one stops until the new one is up: both want the same port or address, or write at the same place", w.Name), "apply when that does no harm"}
}

// nudgedContainer makes a container anew whose image comes anew with the same plan, starts it anew
// where it holds what the plan replaces, and has it reload where that will do.
func nudgedContainer(in Input) (*Move, error) {
	w, ok := last[ContainerWant](in.Stake.Want)
	f, ok2 := last[ContainerFound](in.Found)
	if !ok || !ok2 || len(in.Nudges) == 0 || !f.There {
		return nil, nil
	}
	asks := func(how string) bool {
		return slices.ContainsFunc(in.Nudges, func(n Nudge) bool { return n.How == how })
	}
	if !asks(MakeContainer) && asks(AnewContainer) {
		if !w.Running || f.State != "running" {
			return nil, nil
		}
		m := w.startAnew(because(in.Nudges))
		return &m, nil
	}
	if !asks(MakeContainer) {
		m := w.move(ReloadContainer, "reload container "+w.Name)
		m.Because = because(in.Nudges)
		return &m, nil
	}
	m := w.move(MakeContainer, fmt.Sprintf("make container %s anew, of image %s", w.Name, w.Image))
	m.Because = in.Nudges[0].Reason
	return &m, nil
}

// engineListeners are programs that hold the ports of containers for engines.
var engineListeners = []string{"conmon", "docker-proxy", "rootlessport", "netavark"}

// startable are the states in which an engine can start a container.
var startable = []string{"created", "configured", "initialized", "exited", "stopped"}

// loose are the paths at which a container writes to a volume of the engine that the one that
// is wanted does not hold.
func (w ContainerWant) loose(f ContainerFound) []string {
	return slices.DeleteFunc(slices.Clone(f.Loose), func(p string) bool {
		return slices.ContainsFunc(w.Mounts, func(h HeldAt) bool { return h.At == p })
	})
}

// stateWords says how a container stands that does not run.
func (f ContainerFound) stateWords() string {
	words := f.State
	switch f.State {
	case ContainerRestarting:
		words = "it ends again and again, and the engine starts it again"
	case "exited":
		words = fmt.Sprintf("ended, with status %d", f.Status)
	}
	if len(f.Log) > 0 {
		words += "; its last words: " + strings.Join(f.Log, " / ")
	}
	return words
}

// JoinsNamed says whether the container joins a network of its engine that has a name of its own.
func (w ContainerWant) JoinsNamed() bool {
	return w.Network != "" && w.Network != "host" && w.Network != "none"
}

// Overlaps says whether the container cannot run beside the one that is there.
func (w ContainerWant) Overlaps(f ContainerFound) bool {
	if w.Network == "host" || f.Network == "host" || w.Address != "" && w.Address == f.Address {
		return true
	}
	if len(w.loose(f)) > 0 || slices.ContainsFunc(w.Mounts, func(h HeldAt) bool { // two would write at one place
		return h.Writable && slices.ContainsFunc(f.Mounts, func(o HeldAt) bool {
			return o.Writable && (pathWithin(h.From, o.From) || pathWithin(o.From, h.From))
		})
	}) {
		return true
	}
	return slices.ContainsFunc(w.ReachedAt, func(d Door) bool {
		return slices.ContainsFunc(f.ReachedAt, func(o Door) bool { return o.Outside == d.Outside })
	})
}

// nowCalled is the name that the container has by now that was there when it was last set, "" where that
// is not known.
func nowCalled(in Input) string {
	was, ok := last[ContainerFound](in.LastFound)
	for _, c := range in.Traits.Containers {
		if ok && was.ID != "" && c.ID == was.ID {
			return c.Name
		}
	}
	return ""
}

// wasWell says whether a container was well when it was last set, and has not been started since.
func wasWell(in Input, f ContainerFound) bool {
	was, ok := last[ContainerFound](in.LastFound)
	return ok && was.ID == f.ID && was.Since.Equal(f.Since)
}

// endedSince says whether the engine had to start a container again since it was set.
func (f ContainerFound) endedSince(in Input) bool {
	was, ok := last[ContainerFound](in.LastFound)
	return ok && was.ID == f.ID && f.Restarts > was.Restarts
}

// ContainerRestarting is a container that ends again and again, and is started again by its engine:
// whether it runs just now is a matter of luck.
const ContainerRestarting = "restarting"

// ContainerDead is a container of which the engine says that it runs, and nothing in it does.
const ContainerDead = "dead"

func (w ContainerWant) move(do, text string) Move {
	return Move{Verb: strings.Fields(text)[0], Text: text, Work: JSON(ContainerWork{w, do})}
}

// compare notes what differs in the settings, which an engine can only change by making the
// container anew.
func (w ContainerWant) compare(d *differences, f ContainerFound) {
	if f.Image != f.Wanted {
		d.differ("image", cmp.Or(shortID(f.Wanted), w.Image), shortID(f.Image))
	}
	list := func(attribute string, wanted, found []string) {
		if !slices.Equal(wanted, found) {
			d.differ(attribute, cmp.Or(strings.Join(wanted, ", "), "none"), cmp.Or(strings.Join(found, ", "), "none"))
		}
	}
	list("command", w.Command, f.Command)
	var wanted, found []string
	for _, door := range w.ReachedAt {
		wanted = append(wanted, door.words())
	}
	for _, door := range f.ReachedAt {
		found = append(found, door.words())
	}
	list("reached at", wanted, found)
	wanted, found = nil, nil
	for _, h := range w.Mounts {
		wanted = append(wanted, h.words())
	}
	for _, h := range f.Mounts {
		found = append(found, h.words())
	}
	list("mounts", wanted, found)
	for _, n := range sortedKeys(w.Variables) {
		is, there := f.Variables[n]
		if !there {
			is = "not set"
		}
		if !there || is != w.Variables[n] {
			d.differ("variable "+n, w.Variables[n], is)
		}
	}
	for _, n := range sortedKeys(w.Secrets) {
		if !f.Secrets[n] {
			d.differ("variable "+n, "as secret "+w.Secrets[n].Secret+" has it", "different")
		}
	}
	if len(f.More) > 0 {
		d.differ("more variables", "none", strings.Join(f.More, ", "))
	}
	if len(f.Beyond) > 0 {
		d.differ("besides", "nothing", strings.Join(f.Beyond, ", "))
	}
	d.add("runs as", cmp.Or(w.RunsAs, "the image's own"), cmp.Or(f.RunsAs, "the image's own"))
	d.add("network", cmp.Or(w.Network, "the engine's own"), cmp.Or(f.Network, "the engine's own"))
	if f.State == "running" {
		d.add("address", w.Address, f.Address)
	}
	if w.Policy != f.Policy {
		d.differ("restarts", policyWords(w.Policy), policyWords(f.Policy))
	}
	if w.Memory != f.Memory {
		a, b := TwoSizes(w.Memory, f.Memory)
		d.differ("memory at most", a, b)
	}
	if w.Processors != f.Processors {
		exact := func(n int64) string { return strconv.FormatFloat(float64(n)/1e9, 'f', -1, 64) }
		d.differ("processors at most", exact(w.Processors), exact(f.Processors))
	}
	if !maps.Equal(w.EngineLabels, f.EngineLabels) {
		d.differ("engine labels", marksWords(w.EngineLabels), marksWords(f.EngineLabels))
	}
}

func marksWords(marks map[string]string) string {
	var out []string
	for _, n := range sortedKeys(marks) {
		out = append(out, n+" "+marks[n])
	}
	return cmp.Or(strings.Join(out, ", "), "none")
}

// shortID is an identifier that people can compare.
func shortID(id string) string {
	_, sum, found := strings.Cut(id, ":")
	if !found {
		sum = id
	}
	if len(sum) > 12 {
		sum = sum[:12]
	}
	return sum
}

// details are the settings of a container that is made, for the plan.
func (w ContainerWant) details() []Detail {
	var b strings.Builder
	for _, d := range w.ReachedAt {
		fmt.Fprintf(&b, "reached at %s\n", d.words())
	}
	for _, h := range w.Mounts {
		fmt.Fprintf(&b, "mounts %s\n", h.words())
	}
	for _, n := range sortedKeys(w.Variables) {
		fmt.Fprintf(&b, "variable %s is %s\n", n, w.Variables[n])
	}
	for _, n := range sortedKeys(w.Secrets) {
		fmt.Fprintf(&b, "variable %s is as secret %s has it\n", n, w.Secrets[n].Secret)
	}
	if b.Len() == 0 {
		return nil
	}
	return []Detail{{Text: b.String()}}
}

// awayContainer takes a container away that North Stake made.
func awayContainer(in Input, w ContainerWant, f ContainerFound) Verdict {
	v := Verdict{Gone: f.Engine == nil && !f.There}
	switch {
	case v.Gone:
	case f.Engine != nil:
		v.Cautions = []Note{{in.Stake.Address(), f.Engine.What, f.Engine.Fix}}
	case f.By != w.By:
		v.Cautions = []Note{stays(in, "container "+w.Name)}
	default:
		v.Moves = []Move{w.move(AwayContainer, "take away container "+w.Name)}
		if in.Pending && w.Serves != "" {
			v.Late = true
			v.Cautions = []Note{gap(in, "container "+w.Name)}
		}
	}
	return v
}
