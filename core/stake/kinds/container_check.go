package kinds

import (
	"fmt"
	"net/netip"
	"path"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/wire"
)

func checkContainers(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*Container](s, "container")
	for _, name := range stake.SortedKeys(list) {
		checkContainer(c, name, list[name], check.At(at, "container", name))
	}
}

func checkContainer(c *check.Checker, name string, is *Container, here []string) {
	if !form.Container.MatchString(name) {
		c.Say(here, fmt.Sprintf("%q cannot be the name of a container", name), "use letters, digits and . _ -")
	}
	if is.Image == "" {
		c.Say(here, declare.TableName(here)+" has no image", "add image = \"REGISTRY/NAME:TAG\"")
	} else {
		c.ImageName(is.Image, check.At(here, "image"))
	}
	c.Secret(is.ImageSecret, "image_secret", check.At(here, "image_secret"))
	one := containerCheck{c, is, here}
	one.command("command", is.Command)
	one.command("well_when", is.WellWhen)
	one.doors()
	one.network()
	one.mounts()
	one.texts("variables", is.Variables)
	one.texts("variable_secrets", is.VariableSecrets)
	one.texts("engine_labels", is.EngineLabels)
	one.runs()
}

// containerCheck checks the keys of one container.
type containerCheck struct {
	*check.Checker
	is   *Container
	here []string
}

func (c containerCheck) at(keys ...string) []string { return check.At(c.here, keys...) }

// command checks the words of a command.
func (c containerCheck) command(key string, words []string) {
	if c.Written(c.at(key)...) && len(words) == 0 {
		c.Say(c.at(key), "a command without a word is none", "write its words, or take it out")
	}
	for i, word := range words {
		if form.Control(word) || len(word) > 4000 {
			c.Say(c.at(key, strconv.Itoa(i)), "this word has a control character, or is too long", "write it in one line of at most 4000 characters")
		}
	}
}

// doors checks at which ports it is reached, and what asks there.
func (c containerCheck) doors() {
	seen := map[string]int{}
	for i, d := range c.is.ReachedAt {
		door := c.at("reached_at", strconv.Itoa(i))
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
			c.Say(door, fmt.Sprintf("number %d in this list has this port of the host already", first+1), "give one of the two another")
		}
		seen[key] = i
	}
	if len(c.is.Probes) > 0 && len(c.is.ReachedAt) == 0 {
		c.Say(c.at("probe"), declare.TableName(c.here)+" has no port that could be asked", "add reached_at = [{ outside = 8080, inside = 80 }], say, or take the probe out")
	}
	for i, p := range c.is.Probes {
		c.Probe(p, c.at("probe", strconv.Itoa(i)))
	}
}

// network checks in which network it is, and what it has there.
func (c containerCheck) network() {
	is := c.is
	if is.Network == "host" && len(is.ReachedAt) > 0 {
		c.Say(c.at("reached_at"), "a container on the host's own network needs no reached_at: it listens there itself", "take reached_at out, or name another network")
	}
	if a, err := netip.ParseAddr(is.Address); is.Address != "" && (err != nil || a.IsUnspecified() || a.IsLoopback()) {
		c.Say(c.at("address"), fmt.Sprintf("%q is no address that a container can have", is.Address), "write one of the network that it is in, such as 10.88.0.11")
	} else if is.Address != "" && (is.Network == "host" || is.Network == "none") {
		c.Say(c.at("address"), "a container in no network of the engine's has no address of its own", "take the address out, or name another network")
	}
	if is.Network != "" && !form.Container.MatchString(is.Network) {
		c.Say(c.at("network"), fmt.Sprintf("%q cannot be the name of a network", is.Network), "use letters, digits and . _ -")
	}
}

// mounts checks what it holds of the host.
func (c containerCheck) mounts() {
	for _, p := range stake.SortedKeys(c.is.Mounts) {
		held := c.at("mounts", p)
		if !path.IsAbs(p) || p == "/" || form.Bad(p) != "" {
			c.Say(held, fmt.Sprintf("%q is not a path inside a container", p), "write an absolute path without a colon, such as /srv/www")
		}
		c.Place(c.is.Mounts[p].From, check.At(held, "from"))
		if strings.Contains(c.is.Mounts[p].From+p, ":") {
			c.Say(held, "an engine takes no paths with a colon", "give the directory another name")
		}
	}
}

// texts checks a table of texts.
func (c containerCheck) texts(key string, values map[string]string) {
	for _, n := range stake.SortedKeys(values) {
		v := c.at(key, n)
		switch {
		case key != "engine_labels" && !form.Variable.MatchString(n):
			c.SayKey(v, fmt.Sprintf("%q is not the name of a variable", n), "use letters, digits and _, and no digit in front")
		case key == "engine_labels" && (!form.Mark.MatchString(n) || strings.HasPrefix(n, ownMark)):
			c.SayKey(v, fmt.Sprintf("%q cannot be the name of a label", n), "use letters, digits and . _ - /; those that begin with northstake are its own")
		case key == "variable_secrets":
			c.Secret(values[n], n, v)
			if _, twice := c.is.Variables[n]; twice {
				c.Say(v, fmt.Sprintf("%s stands in variables, too", n), "keep one of the two")
			}
		case form.Control(values[n]) || len(values[n]) > 4000:
			c.Say(v, "the value has a control character, or is too long", "write it in one line of at most 4000 characters")
		}
	}
}

// runs checks as whom it runs, when, and on how much.
func (c containerCheck) runs() {
	is := c.is
	if form.Control(is.RunsAs) || strings.ContainsAny(is.RunsAs, " \t") || len(is.RunsAs) > 64 {
		c.Say(c.at("runs_as"), fmt.Sprintf("%q cannot be a user", is.RunsAs), "write a name or a number, with :GROUP behind it where that is wanted")
	}
	if is.AtBoot != nil && *is.AtBoot && is.Restarts != "" && is.Restarts != wire.RestartsAlways {
		c.Say(c.at("restarts"), fmt.Sprintf("a container that restarts %s is not started with the host: engines start those that restart always", is.Restarts), "write restarts = \"always\", or take at_boot out")
	}
	if n, ok := form.Bytes(is.AtMost.Memory); is.AtMost.Memory != "" && (!ok || n < 6<<20) {
		c.Say(c.at("at_most", "memory"), fmt.Sprintf("%q is not an amount of memory that a container can live with", is.AtMost.Memory), "write one such as \"256MB\", of 6 MB at least")
	}
	if is.AtMost.Processors < 0 || is.AtMost.Processors > 1024 {
		c.Say(c.at("at_most", "processors"), "that is no number of processors", "write one such as 0.5 or 2")
	}
}
