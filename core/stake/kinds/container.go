package kinds

import (
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Container says what a host runs in a container.
type Container struct {
	Image           string            `toml:"image" json:"image" example:"\"registry.saltmarsh.test/tides:2.1\""`
	ImageSecret     string            `toml:"image_secret" json:"image_secret,omitempty" default:"nobody is asked for" example:"\"registry-login\""`
	Is              string            `toml:"is" json:"is,omitempty" default:"running" enum:"running,stopped" example:"\"stopped\""`
	Command         []string          `toml:"command" json:"command,omitempty" default:"as the image has it" example:"[\"tides\", \"--level\", \"quay\"]"`
	ReachedAt       []wire.Door       `toml:"reached_at" json:"reached_at,omitempty" example:"[{ outside = 8080, inside = 80 }]"`
	Mounts          map[string]*Held  `toml:"mounts" each:"PATH" json:"mounts,omitempty" example:"{ \"/srv/tides\" = { from = \"/srv/tides\" } }"`
	Variables       map[string]string `toml:"variables" each:"NAME" json:"variables,omitempty" example:"{ OFFICE = \"north\" }"`
	VariableSecrets map[string]string `toml:"variable_secrets" each:"NAME" json:"variable_secrets,omitempty" example:"{ TIDES_TOKEN = \"tides-token\" }"`
	RunsAs          string            `toml:"runs_as" json:"runs_as,omitempty" default:"as the image has it" example:"\"tides\""`
	Network         string            `toml:"network" json:"network,omitempty" default:"the engine's own" example:"\"harbour\""`
	Address         string            `toml:"address" json:"address,omitempty" default:"as the engine gives it" example:"\"10.88.0.11\""`
	Restarts        string            `toml:"restarts" json:"restarts,omitempty" default:"always" enum:"always,on-failure,never" example:"\"never\""`
	AtBoot          *bool             `toml:"at_boot" json:"at_boot,omitempty" default:"true where it restarts always" example:"false"`
	AtMost          Most              `toml:"at_most" json:"at_most,omitzero" default:"all that the host has" example:"{ memory = \"256MB\", processors = 0.5 }"`
	EngineLabels    map[string]string `toml:"engine_labels" each:"NAME" json:"engine_labels,omitempty" example:"{ team = \"tides\" }"`
	WellWhen        []string          `toml:"well_when" json:"well_when,omitempty" default:"it is well as long as it runs" example:"[\"test\", \"-e\", \"/run/tides.ready\"]"`
	Probes          []declare.Probe   `toml:"probe" json:"probes,omitempty" example:"[{ path = \"/\", contains = \"ebb\" }]"`
}

var _ = declare.Explain[wire.Door](map[string]string{
	"outside": "Port of the host.",
	"inside":  "Port in the container.",
	"at":      "Address of the host.",
})

var _ = declare.Explain[Container](map[string]string{
	"image":            "Image, by its registry, name and tag, or digest.",
	"image_secret":     "Name of the secret with which a registry lets in: USER:PASSWORD.",
	"is":               "Whether it runs.",
	"command":          "Command that it runs, word by word. It takes the place of the image's own command (CMD); the image's entry point stays, and gets these words.",
	"reached_at":       "Ports of the host at which it is reached.",
	"mounts":           "Directories and files of the host that it sees, by their paths inside.",
	"variables":        "Variables of its environment.",
	"variable_secrets": "Variables of its environment, by the names of the secrets that hold their values.",
	"runs_as":          "User inside that it runs as.",
	"network":          "Network of the engine that it is in; \"host\" is that of the host itself, \"none\" none.",
	"address":          "Its IP address on the network of the engine that it is in.",
	"restarts":         "Whether the engine starts it again when it has ended: always, after a failure alone, or never.",
	"at_boot":          "Whether it starts when the host does. Only a container that restarts always can.",
	"at_most":          "The most that it may use.",
	"engine_labels":    "Labels that the engine keeps with it.",
	"well_when":        "Command inside, word by word, that ends with 0 when all is well.",
	"probe":            "HTTP checks of the first port of reached_at, from inside the host and from outside; a port at the host's own loopback address is asked from inside alone.",
})

// policy is what the engine is told: of what restarts always, engines start those with the
// host that are not told otherwise.
func (c *Container) policy() string {
	switch {
	case c.Restarts == wire.RestartsNever:
		return wire.PolicyNever
	case c.Restarts == wire.RestartsOnFailure:
		return wire.PolicyOnFailure
	case c.AtBoot != nil && !*c.AtBoot:
		return wire.PolicyNotAtBoot
	}
	return wire.PolicyAlways
}

// Held is a directory or a file of the host that a container sees.
type Held struct {
	From     string `toml:"from" json:"from" example:"\"/srv/tides\""`
	Writable bool   `toml:"writable" json:"writable,omitempty" default:"false" example:"true"`
}

var _ = declare.Explain[Held](map[string]string{
	"from":     "Path on the host.",
	"writable": "Whether it may write there.",
})

// Most is the most that a container may use.
type Most struct {
	Memory     string  `toml:"memory" json:"memory,omitempty" example:"\"256MB\""`
	Processors float64 `toml:"processors" json:"processors,omitempty" example:"0.5"`
}

var _ = declare.Explain[Most](map[string]string{
	"memory":     "Memory.",
	"processors": "Processors, in whole or in part.",
})

var _ = stake.Register(stake.Kind{
	Type:     "container",
	After:    []string{"image", "directory", "content", "file", "link", "service", "account", "port", "site"},
	Settings: []declare.Setting{declare.Table[Container]("container", "NAME", "Containers that the host runs, by their names on its engine.", `{ tides = { image = "registry.saltmarsh.test/tides:2.1" } }`)},
	Check:    checkContainers,
	Implied: func(w *stake.Wanting) error {
		for _, c := range declare.Nearest[Container](w.D, w.Place, "container") {
			wantContainer(w, c.Name, c.Value, c.From)
			wantAtBoot(w, c.Value, c.From)
		}
		wantContained(w)
		return nil
	},
	Finish: func(w *stake.Wanting) { publishSeen(w) },
	Claims: stake.Claiming(func(w wire.ContainerWant) []claim.Claim {
		out := []claim.Claim{{Need: claim.Owns, Sort: claim.Container, What: w.Name}}
		for _, d := range w.ReachedAt {
			port := fmt.Sprintf("%d/tcp", d.Outside)
			if d.At != "" {
				port = d.At + " " + port
			}
			out = append(out, claim.Claim{Need: claim.Owns, Sort: claim.Listen, What: port, With: "container " + w.Name})
		}
		for _, h := range w.Mounts {
			out = append(out, claim.Claim{Need: claim.Requires, Sort: claim.Path, What: string(h.From)})
		}
		return out
	}),
	Unsealed: unsealedContainer,
})

func wantContainer(w *stake.Wanting, name string, c *Container, from declare.Position) {
	want := wire.ContainerWant{Name: name, By: w.D.Ground.Name, Image: c.Image, Running: c.Is != "stopped", Command: c.Command, Variables: c.Variables, RunsAs: c.RunsAs, Network: c.Network, Address: c.Address, Policy: c.policy(), EngineLabels: c.EngineLabels, WellWhen: c.WellWhen}
	for _, d := range c.ReachedAt {
		d.Inside = cmp.Or(d.Inside, d.Outside)
		want.ReachedAt = append(want.ReachedAt, d)
	}
	sortDoors(want.ReachedAt)
	for _, at := range stake.SortedKeys(c.Mounts) {
		want.Mounts = append(want.Mounts, wire.HeldAt{At: wire.Path(at), From: wire.Path(path.Clean(c.Mounts[at].From)), Writable: c.Mounts[at].Writable})
	}
	for _, v := range stake.SortedKeys(c.VariableSecrets) {
		if want.Secrets == nil {
			want.Secrets = map[string]*wire.Sealed{}
		}
		want.Secrets[v] = w.Secrets.Seal(c.VariableSecrets[v], variable)
	}
	needs := []string{wantImage(w, c.Image, c.ImageSecret, from)}
	for _, h := range want.Mounts {
		for _, typ := range []string{"directory", "content", "file", "link"} {
			if local := wire.Local(typ, string(h.From)); w.Wants(local) {
				needs = append(needs, local)
			}
		}
	}
	want.Memory, _ = form.Bytes(c.AtMost.Memory)
	want.Processors = int64(c.AtMost.Processors * 1e9)
	w.Want(stake.Stake{Type: "container", Name: name, Want: wire.JSON(want), From: from, Needs: needs})
}

// wantAtBoot has the engine start a container with the host. Podman does so by a unit of its own.
func wantAtBoot(w *stake.Wanting, c *Container, from declare.Position) {
	if c.policy() == wire.PolicyAlways && c.Is != "stopped" && (wantsService(w, "podman.socket") || wantsService(w, "podman")) {
		yes := true
		wantService(w, "podman-restart", nil, &yes, from)
	}
}

// publishSeen notes with each content that a container sees its root, or a part of it, that it is
// published there in place: what an engine has mounted stays the tree that it was, whatever takes
// its name.
func publishSeen(w *stake.Wanting) {
	memo := wire.NewMemo()
	for i, s := range w.All {
		if s.Type != "content" {
			continue
		}
		want, _ := stake.Decoded[wire.ContentWant](s.Want)
		for c, held := range stake.Of[wire.ContainerWant](w.All, "container", memo) {
			if slices.ContainsFunc(held.Mounts, func(h wire.HeldAt) bool { return h.From.Within(want.Root) }) {
				want.Seen = c.Name
				w.All[i].Want = wire.JSON(want)
				break
			}
		}
	}
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
func unsealedContainer(raw json.RawMessage, secrets *stake.Secrets) (json.RawMessage, error) {
	var w wire.ContainerWork
	if err := json.Unmarshal(raw, &w); err != nil || len(w.Secrets) == 0 {
		return raw, err
	}
	for _, s := range w.Secrets {
		secrets.Put(s, variable)
	}
	return json.Marshal(w)
}

func sortDoors(doors []wire.Door) {
	slices.SortFunc(doors, func(a, b wire.Door) int {
		return cmp.Or(a.Outside-b.Outside, cmp.Compare(a.At, b.At), a.Inside-b.Inside)
	})
}

// ownMark is what the labels begin with that North Stake gives to its containers.
const ownMark = "northstake"
