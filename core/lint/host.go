package lint

import (
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
)

func (l linter) kit(name string, k *declare.Kit) {
	if !form.PlainName.MatchString(name) {
		l.Say(keys("kit", name), fmt.Sprintf("kit name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	for i, of := range k.Kits {
		at := keys("kit", name, "kits", strconv.Itoa(i))
		switch {
		case l.D.Kits[of] == nil:
			l.Say(at, fmt.Sprintf("there is no kit %q", of), near.DidYouMean(of, sorted(l.D.Kits)))
		case of == name || slices.Contains(l.D.Taken(l.D.Kits[of].Kits), name):
			l.Say(at, fmt.Sprintf("kit %s builds on %s, and %s on %s", name, of, of, name), "take one of the two out, so that it is told which goes over which")
		}
	}
	l.settings(k.Settings, keys("kit", name))
}

func (l linter) host(name string, h *declare.Host) {
	if !form.HostName.MatchString(name) {
		l.Say(keys("host", name), fmt.Sprintf("host name %q has characters it cannot have", name), "use lower-case letters, digits, dots and hyphens")
	}
	_, to := h.Transport()
	l.address(name, h, to)
	for i, k := range h.Kits {
		if l.D.Kits[k] == nil {
			l.Say(keys("host", name, "kits", strconv.Itoa(i)), fmt.Sprintf("there is no kit %q", k), near.DidYouMean(k, sorted(l.D.Kits)))
		}
	}
	l.reach(h.Reach, keys("host", name, "reach"))
	l.engine(name, h, to)
	if to.Login {
		l.login(name)
	}
	l.settings(h.Settings, keys("host", name))
}

// address checks where a host is reached.
func (l linter) address(name string, h *declare.Host, to declare.Transport) {
	if h.Address == "" && !to.Within && l.D.Lacks("host", name, "address") {
		l.Say(keys("host", name), fmt.Sprintf("[host.%s] has no address", name), "add address = \"…\" (an IP address or a DNS name), or via = \"service-machine\" for the machine that the service runs on")
	}
	if h.Address == "" && l.Written("host", name, "address") {
		l.Say(keys("host", name, "address"), "an empty address is none", "write an IP address or a DNS name")
	}
	if h.Address != "" && net.ParseIP(h.Address) == nil && (!form.DNSName.MatchString(h.Address) || strings.HasPrefix(h.Address, "*")) {
		fix := "write an IP address or a DNS name"
		if _, _, err := net.SplitHostPort(h.Address); err == nil {
			fix = "the port goes into [host." + name + ".reach] as port = …"
		}
		l.Say(keys("host", name, "address"), fmt.Sprintf("%q is not an address", h.Address), fix)
	} else if form.Numeric(h.Address) && net.ParseIP(h.Address) == nil {
		l.Say(keys("host", name, "address"), fmt.Sprintf("%q looks like an IP address and is none", h.Address), "an IPv4 address has four numbers from 0 to 255")
	}
}

// login checks that there is something to log in to a host with.
func (l linter) login(name string) {
	r := l.D.ReachOf(name)
	written := func(key string) bool { return !l.D.Lacks("reach", key) || !l.D.Lacks("host", name, "reach", key) }
	if r.User == "" && !written("user") {
		l.Say(keys("host", name), fmt.Sprintf("host %s has no login user", name), "add user = \"…\" to [reach] or to [host."+name+".reach]")
	}
	if r.KeySecret == "" && r.PasswordSecret == "" && !written("key_secret") && !written("password_secret") {
		l.Say(keys("host", name), fmt.Sprintf("host %s has no key and no password to log in with", name), "add key_secret = \"NAME\" to [reach], and give it to northstake secret keep NAME")
	}
}

// places checks the names of places: each is called by its name alone, whatever its sort.
func (l linter) places() {
	for _, name := range l.D.PlaceNames() {
		if sort := l.D.SortOf(name); sort != declare.HostSort && !form.HostName.MatchString(name) {
			l.Say(keys(sort, name), fmt.Sprintf("the name %q of a %s has characters it cannot have", name, sort), "use lower-case letters, digits, dots and hyphens")
		}
	}
	l.D.TwicePlaced(func(sort, name, other string) {
		at := l.D.At(other, name)
		l.Say(keys(sort, name), fmt.Sprintf("%s %s has the name of a %s", sort, name, other), fmt.Sprintf("see %s:%d; give one of the two another name", at.File, at.Line))
	})
}

// engine checks which container a host is.
func (l linter) engine(name string, h *declare.Host, way declare.Transport) {
	if !way.Within {
		for key, v := range map[string]string{"engine": h.Engine, "inside": h.Inside} {
			if v != "" {
				l.Say(keys("host", name, key), fmt.Sprintf("host %s is no container", name), "add via = \"container\", or take this out")
			}
		}
		return
	}
	if h.Inside != "" && !form.Container.MatchString(h.Inside) {
		l.Say(keys("host", name, "inside"), fmt.Sprintf("%q cannot be the name of a container", h.Inside), "use letters, digits and . _ -")
	}
	if h.Engine == "" {
		return
	}
	on := l.D.Hosts[h.Engine]
	if on == nil {
		l.Say(keys("host", name, "engine"), fmt.Sprintf("no host is called %q", h.Engine), near.DidYouMean(h.Engine, sorted(l.D.Hosts)))
		return
	}
	if _, its := on.Transport(); its.Within {
		l.Say(keys("host", name, "engine"), fmt.Sprintf("host %s is a container itself", h.Engine), "name the machine whose engine it is")
	}
}

func (l linter) addresses() {
	first := map[string]string{}
	for _, name := range sorted(l.D.Hosts) {
		h := l.D.Hosts[name]
		key := fmt.Sprintf("%s:%d", h.Address, l.D.ReachOf(name).Port)
		if via, way := h.Transport(); way.Own {
			key = via
		} else if way.Within {
			container, engine := l.D.InContainer(name)
			key = "container " + container + " on " + engine
			if other, ok := first[key]; ok {
				l.Say(keys("host", name), fmt.Sprintf("host %s is the same container as host %s", name, other), "give one of the two another inside, or another engine")
			}
			first[key] = name
			continue
		}
		if other, ok := first[key]; ok && h.Address != "" {
			l.Say(keys("host", name, "address"), fmt.Sprintf("host %s has the address of host %s", name, other), "two hosts cannot share an address and port, or both be the service's own machine")
		}
		first[key] = name
	}
}
