package stake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
)

// Container says what a host runs in a container.
type Container struct {
	Image           string            `toml:"image" json:"image" doc:"Image, by its registry, name and tag, or digest." example:"\"registry.saltmarsh.test/tides:2.1\""`
	ImageSecret     string            `toml:"image_secret" json:"image_secret,omitempty" doc:"Name of the secret with which a registry lets in: USER:PASSWORD." default:"nobody is asked for" example:"\"registry-login\""`
	Is              string            `toml:"is" json:"is,omitempty" doc:"Whether it runs." default:"running" enum:"running,stopped" example:"\"stopped\""`
	StartsWith      []string          `toml:"starts_with" json:"starts_with,omitempty" doc:"Command that it starts with, word by word." default:"as the image has it" example:"[\"tides\", \"--level\", \"quay\"]"`
	Doors           []Door            `toml:"doors" json:"doors,omitempty" doc:"Ports of the host that lead inside." example:"[{ outside = 8080, inside = 80 }]"`
	Holds           map[string]*Held  `toml:"holds" each:"PATH" json:"holds,omitempty" doc:"Directories and files of the host that it sees, by their paths inside." example:"{ \"/srv/tides\" = { from = \"/srv/tides\" } }"`
	Variables       map[string]string `toml:"variables" each:"NAME" json:"variables,omitempty" doc:"Variables of its environment." example:"{ OFFICE = \"north\" }"`
	SecretVariables map[string]string `toml:"secret_variables" each:"NAME" json:"secret_variables,omitempty" doc:"Variables of its environment, by the names of the secrets that hold their values." example:"{ TIDES_TOKEN = \"tides-token\" }"`
	As              string            `toml:"as" json:"as,omitempty" doc:"User inside that it runs as." default:"as the image has it" example:"\"tides\""`
	Joins           string            `toml:"joins" json:"joins,omitempty" doc:"Network of the engine that it joins; \"host\" is that of the host itself, \"none\" none." default:"the engine's own" example:"\"quays\""`
	StaysUp         string            `toml:"stays_up" json:"stays_up,omitempty" doc:"Whether the engine starts it again when it has ended." default:"always" enum:"always,unless stopped,no" example:"\"no\""`
	Most            Most              `toml:"most" json:"most,omitzero" doc:"The most that it may use." default:"all that the host has" example:"{ memory = \"256MB\", processors = 0.5 }"`
	Marks           map[string]string `toml:"marks" each:"NAME" json:"marks,omitempty" doc:"Labels that the engine keeps with it." example:"{ team = \"tides\" }"`
	WellWhen        []string          `toml:"well_when" json:"well_when,omitempty" doc:"Command inside, word by word, that ends with 0 when all is well." default:"it is well as long as it runs" example:"[\"test\", \"-e\", \"/run/tides.ready\"]"`
}

// Door is a port of the host that leads to one of a container.
type Door struct {
	Outside int    `toml:"outside" json:"outside" doc:"Port of the host." example:"8080"`
	Inside  int    `toml:"inside" json:"inside" doc:"Port in the container." default:"the same" example:"80"`
	At      string `toml:"at" json:"at,omitempty" doc:"Address of the host." default:"all of them" example:"\"127.0.0.1\""`
}

// words names a door for people.
func (d Door) words() string {
	at := strconv.Itoa(d.Outside)
	if d.At != "" {
		at = d.At + ":" + at
	}
	return fmt.Sprintf("%s leads to %d", at, d.Inside)
}

// Held is a directory or a file of the host that a container sees.
type Held struct {
	From     string `toml:"from" json:"from" doc:"Path on the host." example:"\"/srv/tides\""`
	Writable bool   `toml:"writable" json:"writable,omitempty" doc:"Whether it may write there." default:"false" example:"true"`
}

// Most is the most that a container may use.
type Most struct {
	Memory     string  `toml:"memory" json:"memory,omitempty" doc:"Memory." example:"\"256MB\""`
	Processors float64 `toml:"processors" json:"processors,omitempty" doc:"Processors, in whole or in part." example:"0.5"`
}

// ContainerWant is a container as it should be. Memory is in bytes, Processors in billionths
// of one; 0 is no limit. By is the ground that declares it.
type ContainerWant struct {
	Name       string             `json:"name"`
	By         string             `json:"by"`
	Image      string             `json:"image"`
	Running    bool               `json:"running"`
	StartsWith []string           `json:"starts_with,omitempty"`
	Doors      []Door             `json:"doors,omitempty"`
	Holds      []HeldAt           `json:"holds,omitempty"`
	Variables  map[string]string  `json:"variables,omitempty"`
	Secrets    map[string]*Sealed `json:"secrets,omitempty"`
	As         string             `json:"as,omitempty"`
	Joins      string             `json:"joins,omitempty"`
	StaysUp    string             `json:"stays_up"`
	Memory     int64              `json:"memory,omitempty"`
	Processors int64              `json:"processors,omitempty"`
	Marks      map[string]string  `json:"marks,omitempty"`
	WellWhen   []string           `json:"well_when,omitempty"`
}

// HeldAt is what a container sees at a path inside.
type HeldAt struct {
	At       string `json:"at"`
	From     string `json:"from"`
	Writable bool   `json:"writable,omitempty"`
}

func (h HeldAt) words() string {
	return fmt.Sprintf("%s at %s%s", h.From, h.At, map[bool]string{true: ", writable"}[h.Writable])
}

// ContainerFound is what an engine says of a container. What the image brings by itself is left
// out of its settings. Engine says why there is no answer. Variables has the values of those
// that are wanted and no secrets, Secrets whether those are as wanted, and More the names of
// others: what else is in an environment is nobody's business. Log is the end of what it said,
// where it does not run and should.
type ContainerFound struct {
	Engine     *Trouble          `json:"engine,omitempty"`
	There      bool              `json:"there"`
	By         string            `json:"by,omitempty"`
	State      string            `json:"state,omitempty"`
	Status     int               `json:"status,omitempty"` // with which it ended
	Image      string            `json:"image,omitempty"`  // its identifier
	Wanted     string            `json:"wanted,omitempty"` // that of the image that is wanted; "" where the host has not got it
	StartsWith []string          `json:"starts_with,omitempty"`
	Doors      []Door            `json:"doors,omitempty"`
	Holds      []HeldAt          `json:"holds,omitempty"`
	Variables  map[string]string `json:"variables,omitempty"`
	Secrets    map[string]bool   `json:"secrets,omitempty"`
	More       []string          `json:"more,omitempty"`
	As         string            `json:"as,omitempty"`
	Joins      string            `json:"joins,omitempty"`
	StaysUp    string            `json:"stays_up,omitempty"`
	Memory     int64             `json:"memory,omitempty"`
	Processors int64             `json:"processors,omitempty"`
	Marks      map[string]string `json:"marks,omitempty"`
	Unwell     string            `json:"unwell,omitempty"` // what the command said that is to say that all is well
	Log        []string          `json:"log,omitempty"`
	Missing    []string          `json:"missing,omitempty"` // paths of the host that it is to see
	Networks   []string          `json:"networks,omitempty"`
	Beyond     []string          `json:"beyond,omitempty"` // what it has that none has that North Stake makes
	Loose      []string          `json:"loose,omitempty"`  // paths inside at which the image has it write to a volume of the engine
}

// Trouble is why something on a host does not answer.
type Trouble struct {
	What string `json:"what"`
	Fix  string `json:"fix"`
}

// ContainerWork makes a container, starts or stops it, or takes it away.
type ContainerWork struct {
	ContainerWant
	Do string `json:"do"` // one of MakeContainer and the like
}

// What a step does with a container.
const (
	MakeContainer  = "make" // in the place of what has its name
	StartContainer = "start"
	StopContainer  = "stop"
	AwayContainer  = "away"
)

var _ = Register(Kind{
	Type: "container", After: []string{"image", "directory", "content", "file", "link", "service", "account", "port", "site"},
	Settings: []declare.Setting{declare.Table[Container]("container", "NAME", "Containers that the host runs, by their names on its engine.", `{ tides = { image = "registry.saltmarsh.test/tides:2.1" } }`)},
	Check:    checkContainers,
	Implied: func(w *Wanting) error {
		for _, c := range declare.Nearest[Container](w.D, w.Host, "container") {
			wantContainer(w, c.Name, c.Is, c.From)
		}
		return nil
	},
	Claims: Claiming(func(w ContainerWant) []Claim {
		out := []Claim{{Need: Owns, Sort: ClaimContainer, What: w.Name}}
		for _, d := range w.Doors {
			port := fmt.Sprintf("%d/tcp", d.Outside)
			if d.At != "" {
				port = d.At + " " + port
			}
			out = append(out, Claim{Need: Owns, Sort: ClaimListen, What: port, With: "container " + w.Name})
		}
		for _, h := range w.Holds {
			out = append(out, Claim{Need: Finds, Sort: ClaimPath, What: h.From})
		}
		return out
	}),
	Judge: Judging(judgeContainer), Nudged: nudgedContainer, Away: Judging(awayContainer),
	Unsealed: unsealedContainer, Follows: true, Passing: []string{"log", "status"},
})

func wantContainer(w *Wanting, name string, c *Container, from declare.Position) {
	want := ContainerWant{Name: name, By: w.D.Ground.Name, Image: c.Image, Running: c.Is != "stopped", StartsWith: c.StartsWith, Variables: c.Variables, As: c.As, Joins: c.Joins, StaysUp: cmp.Or(c.StaysUp, "always"), Marks: c.Marks, WellWhen: c.WellWhen}
	for _, d := range c.Doors {
		d.Inside = cmp.Or(d.Inside, d.Outside)
		want.Doors = append(want.Doors, d)
	}
	sortDoors(want.Doors)
	for _, at := range sortedKeys(c.Holds) {
		want.Holds = append(want.Holds, HeldAt{at, path.Clean(c.Holds[at].From), c.Holds[at].Writable})
	}
	for _, v := range sortedKeys(c.SecretVariables) {
		if want.Secrets == nil {
			want.Secrets = map[string]*Sealed{}
		}
		want.Secrets[v] = w.Secrets.seal(c.SecretVariables[v], variable)
	}
	needs := []string{w.imageFor(c.Image, c.ImageSecret, from)}
	for _, h := range want.Holds {
		for _, typ := range []string{"directory", "content", "file", "link"} {
			if local := Local(typ, h.From); w.Wants(local) {
				needs = append(needs, local)
			}
		}
	}
	want.Memory, _ = declare.Bytes(c.Most.Memory)
	want.Processors = int64(c.Most.Processors * 1e9)
	w.Want(Stake{Type: "container", Name: name, Want: JSON(want), From: from, Needs: needs})
}

// variable is the value of a variable that a secret holds.
func variable(secret []byte) (string, error) {
	text := strings.TrimSuffix(string(secret), "\n")
	if form.Control(text) {
		return "", fmt.Errorf("it has a control character, which no variable can have; keep it in one line")
	}
	return text, nil
}

// unsealedContainer puts the values of secret variables into a want or a step.
func unsealedContainer(raw json.RawMessage, secrets *Secrets) (json.RawMessage, error) {
	var w ContainerWork
	if err := json.Unmarshal(raw, &w); err != nil || len(w.Secrets) == 0 {
		return raw, err
	}
	for _, s := range w.Secrets {
		secrets.put(s, variable)
	}
	return json.Marshal(w)
}

func sortDoors(doors []Door) {
	slices.SortFunc(doors, func(a, b Door) int {
		return cmp.Or(a.Outside-b.Outside, cmp.Compare(a.At, b.At), a.Inside-b.Inside)
	})
}

func checkContainers(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*Container](s, "container")
	for _, name := range sortedKeys(list) {
		checkContainer(c, name, list[name], check.At(at, "container", name))
	}
}

func checkContainer(c *check.Checker, name string, is *Container, here []string) {
	if !form.Container.MatchString(name) {
		c.Say(here, fmt.Sprintf("%q cannot be the name of a container", name), "use letters, digits and . _ -")
	}
	switch {
	case is.Image == "":
		c.Say(here, "no image is named", "add image = \"REGISTRY/NAME:TAG\"")
	case !form.Image.MatchString(is.Image):
		c.Say(check.At(here, "image"), fmt.Sprintf("%q is not the name of an image", is.Image), "write REGISTRY/NAME:TAG, or REGISTRY/NAME@sha256:DIGEST, in small letters")
	}
	c.Secret(is.ImageSecret, "image_secret", check.At(here, "image_secret"))
	for _, command := range []struct {
		key   string
		words []string
	}{{"starts_with", is.StartsWith}, {"well_when", is.WellWhen}} {
		if c.Written(check.At(here, command.key)...) && len(command.words) == 0 {
			c.Say(check.At(here, command.key), "a command without a word is none", "write its words, or take it out")
		}
		for i, word := range command.words {
			if form.Control(word) || len(word) > 4000 {
				c.Say(check.At(here, command.key, strconv.Itoa(i)), "this word has a control character, or is too long", "write it in one line of at most 4000 characters")
			}
		}
	}
	seen := map[string]int{}
	for i, d := range is.Doors {
		door := check.At(here, "doors", strconv.Itoa(i))
		for _, one := range []struct {
			key  string
			port int
			must bool
		}{{"outside", d.Outside, true}, {"inside", d.Inside, false}} {
			if one.port < 0 || one.port > 65535 || one.must && one.port == 0 {
				c.Say(door, fmt.Sprintf("%s = %d is not a port", one.key, one.port), "use a number from 1 to 65535")
			}
		}
		if _, err := netip.ParseAddr(d.At); d.At != "" && err != nil {
			c.Say(door, fmt.Sprintf("%q is not an address", d.At), "write an IP address of the host")
		}
		key := fmt.Sprint(d.Outside, d.At)
		if first, twice := seen[key]; twice {
			c.Say(door, fmt.Sprintf("door %d has this port of the host already", first+1), "give one of the two another")
		}
		seen[key] = i
	}
	if is.Joins == "host" && len(is.Doors) > 0 {
		c.Say(check.At(here, "doors"), "a container on the host's own network has no doors: it listens there itself", "take the doors out, or let it join another network")
	}
	if is.Joins != "" && !form.Container.MatchString(is.Joins) {
		c.Say(check.At(here, "joins"), fmt.Sprintf("%q cannot be the name of a network", is.Joins), "use letters, digits and . _ -")
	}
	for _, p := range sortedKeys(is.Holds) {
		held := check.At(here, "holds", p)
		if !path.IsAbs(p) || p == "/" || form.Bad(p) != "" {
			c.Say(held, fmt.Sprintf("%q is not a path inside a container", p), "write an absolute path without a colon, such as /srv/www")
		}
		c.Place(is.Holds[p].From, check.At(held, "from"))
		if strings.Contains(is.Holds[p].From+p, ":") {
			c.Say(held, "an engine takes no paths with a colon", "give the directory another name")
		}
	}
	for _, table := range []struct {
		key    string
		values map[string]string
	}{{"variables", is.Variables}, {"secret_variables", is.SecretVariables}, {"marks", is.Marks}} {
		for _, n := range sortedKeys(table.values) {
			v := check.At(here, table.key, n)
			switch {
			case table.key != "marks" && !form.Variable.MatchString(n):
				c.Say(v, fmt.Sprintf("%q is not the name of a variable", n), "use letters, digits and _, and no digit in front")
			case table.key == "marks" && (!form.Mark.MatchString(n) || strings.HasPrefix(n, ownMark)):
				c.Say(v, fmt.Sprintf("%q cannot be the name of a mark", n), "use letters, digits and . _ - /; those that begin with northstake are its own")
			case table.key == "secret_variables":
				c.Secret(table.values[n], n, v)
			case form.Control(table.values[n]) || len(table.values[n]) > 4000:
				c.Say(v, "the value has a control character, or is too long", "write it in one line of at most 4000 characters")
			}
		}
	}
	for n := range is.SecretVariables {
		if _, twice := is.Variables[n]; twice {
			c.Say(check.At(here, "secret_variables", n), fmt.Sprintf("%s stands in variables, too", n), "keep one of the two")
		}
	}
	if form.Control(is.As) || strings.ContainsAny(is.As, " \t") || len(is.As) > 64 {
		c.Say(check.At(here, "as"), fmt.Sprintf("%q cannot be a user", is.As), "write a name or a number, with :GROUP behind it where that is wanted")
	}
	if n, ok := declare.Bytes(is.Most.Memory); is.Most.Memory != "" && (!ok || n < 6<<20) {
		c.Say(check.At(here, "most", "memory"), fmt.Sprintf("%q is not an amount of memory that a container can live with", is.Most.Memory), "write one such as \"256MB\", of 6 MB at least")
	}
	if is.Most.Processors < 0 || is.Most.Processors > 1024 {
		c.Say(check.At(here, "most", "processors"), "that is no number of processors", "write one such as 0.5 or 2")
	}
}

// ownMark is what the labels begin with that North Stake gives to its containers.
const ownMark = "northstake"

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
	if w.Joins != "" && w.Joins != "host" && w.Joins != "none" && len(f.Networks) > 0 && !slices.Contains(f.Networks, w.Joins) {
		block(fmt.Sprintf("the engine has no network called %s; it has %s", w.Joins, strings.Join(f.Networks, ", ")), "make it there, or name another")
	}
	if f.There {
		w.compare(&d, f)
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
		d.differ("well", "yes", "no: "+f.Unwell)
	}
	v.Differences = d
	if len(d) == 0 || len(v.Blockers) > 0 {
		return v
	}
	for _, door := range w.Doors {
		if l := in.Traits.On(door.Outside); l != nil && !(f.There && running) && !slices.Contains(engineListeners, l.Program) && !letsGo(in.Leaving, l.Program) {
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
		m.Details = w.details()
		v.Moves = []Move{m}
	case anew:
		var what []string
		for _, one := range d {
			what = append(what, one.Attribute)
		}
		m := w.move(MakeContainer, fmt.Sprintf("make container %s anew, of image %s", w.Name, w.Image))
		m.Because = "of what differs: " + strings.Join(slices.Compact(what), ", ")
		v.Moves = []Move{m}
		if loose := w.loose(f); len(loose) > 0 {
			v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("what container %s wrote at %s lies in a volume of the engine, and the new one begins without it", w.Name, strings.Join(loose, ", ")), "let it hold a directory of the host there; the former volume stays in the engine"})
		}
		if running && w.Running {
			if w.Overlaps(f) {
				v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("container %s does not answer from when the former one stops until the new one is up: both want the same port", w.Name), "apply when that does no harm"})
			}
		}
	case w.Running && running:
		v.Moves = []Move{w.move(MakeContainer, fmt.Sprintf("make container %s anew, because it is not well", w.Name))}
	case w.Running && !slices.Contains(startable, f.State):
		v.Moves = []Move{w.move(MakeContainer, fmt.Sprintf("make container %s anew, because it is %s", w.Name, f.State))}
	case w.Running:
		v.Moves = []Move{w.move(StartContainer, "start container "+w.Name)}
	default:
		v.Moves = []Move{w.move(StopContainer, "stop container "+w.Name)}
	}
	if in.Stake.inboundShut(in) && len(w.Doors) > 0 {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), "an engine leads visitors to a container's doors before the host's filter sees them", "give the doors at = \"127.0.0.1\" and pass on to them from a site, where they are not for everybody"})
	}
	return v
}

// nudgedContainer makes a container anew whose image comes anew with the same plan.
func nudgedContainer(in Input) (*Move, error) {
	w, ok := last[ContainerWant](in.Stake.Want)
	f, ok2 := last[ContainerFound](in.Found)
	if !ok || !ok2 || len(in.Nudges) == 0 || !f.There {
		return nil, nil
	}
	m := w.move(MakeContainer, fmt.Sprintf("make container %s anew, of image %s", w.Name, w.Image))
	m.Because = in.Nudges[0].Reason
	return &m, nil
}

// engineListeners are programs that hold the ports of containers for engines.
var engineListeners = []string{"conmon", "docker-proxy", "rootlessport", "netavark"}

// inboundShut says whether only what is declared is let in on the host.
func (s Stake) inboundShut(in Input) bool {
	return slices.ContainsFunc(in.Declared, func(o Stake) bool { return o.Type == "firewall" })
}

// startable are the states in which an engine can start a container.
var startable = []string{"created", "configured", "initialized", "exited", "stopped"}

// loose are the paths at which a container writes to a volume of the engine that the one that
// is wanted does not hold.
func (w ContainerWant) loose(f ContainerFound) []string {
	return slices.DeleteFunc(slices.Clone(f.Loose), func(p string) bool {
		return slices.ContainsFunc(w.Holds, func(h HeldAt) bool { return h.At == p })
	})
}

// stateWords says how a container stands that does not run.
func (f ContainerFound) stateWords() string {
	words := f.State
	if f.State == "exited" {
		words = fmt.Sprintf("ended, with status %d", f.Status)
	}
	if len(f.Log) > 0 {
		words += "; its last words: " + strings.Join(f.Log, " / ")
	}
	return words
}

// Overlaps says whether the container cannot run beside the one that is there.
func (w ContainerWant) Overlaps(f ContainerFound) bool {
	if w.Joins == "host" || f.Joins == "host" {
		return true
	}
	return slices.ContainsFunc(w.Doors, func(d Door) bool {
		return slices.ContainsFunc(f.Doors, func(o Door) bool { return o.Outside == d.Outside })
	})
}

func (w ContainerWant) move(do, text string) Move {
	return Move{Verb: strings.Fields(text)[0], Text: text, Work: JSON(ContainerWork{w, do})}
}

// compare notes what differs in the settings, which an engine can only change by making the
// container anew.
func (w ContainerWant) compare(d *differences, f ContainerFound) {
	if f.Wanted != "" && f.Image != f.Wanted {
		d.differ("image", shortID(f.Wanted), shortID(f.Image))
	}
	list := func(attribute string, wanted, found []string) {
		if !slices.Equal(wanted, found) {
			d.differ(attribute, cmp.Or(strings.Join(wanted, ", "), "none"), cmp.Or(strings.Join(found, ", "), "none"))
		}
	}
	list("starts with", w.StartsWith, f.StartsWith)
	var wanted, found []string
	for _, door := range w.Doors {
		wanted = append(wanted, door.words())
	}
	for _, door := range f.Doors {
		found = append(found, door.words())
	}
	list("doors", wanted, found)
	wanted, found = nil, nil
	for _, h := range w.Holds {
		wanted = append(wanted, h.words())
	}
	for _, h := range f.Holds {
		found = append(found, h.words())
	}
	list("holds", wanted, found)
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
	d.add("as", cmp.Or(w.As, "the image's own"), cmp.Or(f.As, "the image's own"))
	d.add("joins", cmp.Or(w.Joins, "the engine's own"), cmp.Or(f.Joins, "the engine's own"))
	d.add("stays up", w.StaysUp, f.StaysUp)
	if w.Memory != f.Memory {
		a, b := TwoSizes(w.Memory, f.Memory)
		d.differ("most memory", a, b)
	}
	if w.Processors != f.Processors {
		exact := func(n int64) string { return strconv.FormatFloat(float64(n)/1e9, 'f', -1, 64) }
		d.differ("most processors", exact(w.Processors), exact(f.Processors))
	}
	if !maps.Equal(w.Marks, f.Marks) {
		d.differ("marks", marksWords(w.Marks), marksWords(f.Marks))
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
	for _, d := range w.Doors {
		fmt.Fprintf(&b, "door     %s\n", d.words())
	}
	for _, h := range w.Holds {
		fmt.Fprintf(&b, "holds    %s\n", h.words())
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
	}
	return v
}
