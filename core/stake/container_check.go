package stake

import (
	"fmt"
	"net/netip"
	"path"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
)

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
	if is.Image == "" {
		c.Say(here, declare.TableName(here)+" has no image", "add image = \"REGISTRY/NAME:TAG\"")
	} else {
		c.ImageName(is.Image, check.At(here, "image"))
	}
	c.Secret(is.ImageSecret, "image_secret", check.At(here, "image_secret"))
	for _, command := range []struct {
		key   string
		words []string
	}{{"command", is.Command}, {"well_when", is.WellWhen}} {
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
	for i, d := range is.ReachedAt {
		door := check.At(here, "reached_at", strconv.Itoa(i))
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
	if len(is.Probes) > 0 && len(is.ReachedAt) == 0 {
		c.Say(check.At(here, "probe"), declare.TableName(here)+" has no port that could be asked", "add reached_at = [{ outside = 8080, inside = 80 }], say, or take the probe out")
	}
	for i, p := range is.Probes {
		c.Probe(p, check.At(here, "probe", strconv.Itoa(i)))
	}
	if is.Network == "host" && len(is.ReachedAt) > 0 {
		c.Say(check.At(here, "reached_at"), "a container on the host's own network needs no reached_at: it listens there itself", "take reached_at out, or name another network")
	}
	if a, err := netip.ParseAddr(is.Address); is.Address != "" && (err != nil || a.IsUnspecified() || a.IsLoopback()) {
		c.Say(check.At(here, "address"), fmt.Sprintf("%q is no address that a container can have", is.Address), "write one of the network that it is in, such as 10.88.0.11")
	} else if is.Address != "" && (is.Network == "host" || is.Network == "none") {
		c.Say(check.At(here, "address"), "a container in no network of the engine's has no address of its own", "take the address out, or name another network")
	}
	if is.Network != "" && !form.Container.MatchString(is.Network) {
		c.Say(check.At(here, "network"), fmt.Sprintf("%q cannot be the name of a network", is.Network), "use letters, digits and . _ -")
	}
	for _, p := range sortedKeys(is.Mounts) {
		held := check.At(here, "mounts", p)
		if !path.IsAbs(p) || p == "/" || form.Bad(p) != "" {
			c.Say(held, fmt.Sprintf("%q is not a path inside a container", p), "write an absolute path without a colon, such as /srv/www")
		}
		c.Place(is.Mounts[p].From, check.At(held, "from"))
		if strings.Contains(is.Mounts[p].From+p, ":") {
			c.Say(held, "an engine takes no paths with a colon", "give the directory another name")
		}
	}
	for _, table := range []struct {
		key    string
		values map[string]string
	}{{"variables", is.Variables}, {"variable_secrets", is.VariableSecrets}, {"engine_labels", is.EngineLabels}} {
		for _, n := range sortedKeys(table.values) {
			v := check.At(here, table.key, n)
			switch {
			case table.key != "engine_labels" && !form.Variable.MatchString(n):
				c.SayKey(v, fmt.Sprintf("%q is not the name of a variable", n), "use letters, digits and _, and no digit in front")
			case table.key == "engine_labels" && (!form.Mark.MatchString(n) || strings.HasPrefix(n, ownMark)):
				c.SayKey(v, fmt.Sprintf("%q cannot be the name of a label", n), "use letters, digits and . _ - /; those that begin with northstake are its own")
			case table.key == "variable_secrets":
				c.Secret(table.values[n], n, v)
			case form.Control(table.values[n]) || len(table.values[n]) > 4000:
				c.Say(v, "the value has a control character, or is too long", "write it in one line of at most 4000 characters")
			}
		}
	}
	for n := range is.VariableSecrets {
		if _, twice := is.Variables[n]; twice {
			c.Say(check.At(here, "variable_secrets", n), fmt.Sprintf("%s stands in variables, too", n), "keep one of the two")
		}
	}
	if form.Control(is.RunsAs) || strings.ContainsAny(is.RunsAs, " \t") || len(is.RunsAs) > 64 {
		c.Say(check.At(here, "runs_as"), fmt.Sprintf("%q cannot be a user", is.RunsAs), "write a name or a number, with :GROUP behind it where that is wanted")
	}
	if is.AtBoot != nil && *is.AtBoot && is.Restarts != "" && is.Restarts != RestartsAlways {
		c.Say(check.At(here, "restarts"), fmt.Sprintf("a container that restarts %s is not started with the host: engines start those that restart always", is.Restarts), "write restarts = \"always\", or take at_boot out")
	}
	if n, ok := declare.Bytes(is.AtMost.Memory); is.AtMost.Memory != "" && (!ok || n < 6<<20) {
		c.Say(check.At(here, "at_most", "memory"), fmt.Sprintf("%q is not an amount of memory that a container can live with", is.AtMost.Memory), "write one such as \"256MB\", of 6 MB at least")
	}
	if is.AtMost.Processors < 0 || is.AtMost.Processors > 1024 {
		c.Say(check.At(here, "at_most", "processors"), "that is no number of processors", "write one such as 0.5 or 2")
	}
}
