package judge

import (
	"fmt"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

// nearWords says what a name that is unknown on a host may mean: what the host's
// family calls it, and names that are like it.
func nearWords(here string, near []string) string {
	switch {
	case here != "":
		return fmt.Sprintf(": systems of this family call it %s; names can give both", here)
	case len(near) > 0:
		return ": there is " + strings.Join(near, ", ")
	}
	return ""
}

// told is how a service is told of a change: one that cannot reload is restarted.
func told(how string, f wire.ServiceFound) string {
	if how == "reload" && f.NoReload {
		return "restart"
	}
	return how
}

func bootWords(f wire.ServiceFound) string {
	switch {
	case masked(f):
		return "no, masked"
	case f.Boot == "":
		return "no such unit"
	case f.Boot == "enabled-runtime":
		return "only until the next restart"
	case f.Boot == "linked":
		return "no, only linked"
	case f.Elsewhere != "":
		return fmt.Sprintf("no, with %s, and the host boots to %s", f.Elsewhere, f.Target)
	case !bootable(f):
		return yesNo(startsAtBoot(f)) + ", " + f.Boot
	}
	return yesNo(f.Boot == "enabled")
}

func runWords(f wire.ServiceFound) string {
	if !f.Known {
		return "no such unit"
	}
	switch {
	case runs(f):
		return "yes"
	case f.Unsteady || f.Active == "activating":
		return "no, it ends and is started again"
	}
	if f.Active == "failed" {
		return "no, it failed"
	}
	return "no"
}

func stronger(a, b string) string {
	if a == "restart" || b == "restart" {
		return "restart"
	}
	if a == "" {
		return b
	}
	return a
}

func serviceWords(name string, w wire.ServiceWork) (verb, text string) {
	var parts []string
	if w.SetDrop {
		parts = append(parts, "put the drop-ins of "+name+" back")
	}
	if w.Unmask {
		parts = append(parts, "unmask "+name)
	}
	switch w.Now {
	case "start", "stop", "reload", "restart":
		parts = append(parts, w.Now+" "+name)
	}
	if w.AtBoot != nil && *w.AtBoot {
		parts = append(parts, "make "+name+" start at boot")
	} else if w.AtBoot != nil {
		parts = append(parts, "keep "+name+" from starting at boot")
	}
	text = parts[0]
	for _, p := range parts[1:] {
		text += ", " + strings.ReplaceAll(p, " "+name, " it")
	}
	return strings.Fields(parts[0])[0], text
}

func reasons(nudges []stake.Nudge, w wire.ServiceWork) string {
	if len(nudges) == 0 || (w.Now != "reload" && w.Now != "restart") {
		return ""
	}
	return because(nudges)
}

// because is why something takes notice, in words: a few reasons, each once.
func because(nudges []stake.Nudge) string {
	seen := map[string]bool{}
	var out []string
	for _, n := range nudges {
		if !seen[n.Reason] {
			seen[n.Reason] = true
			out = append(out, n.Reason)
		}
	}
	const most = 3
	if more := len(out) - most; more > 0 {
		return fmt.Sprintf("%s; and %d more", strings.Join(out[:most], "; "), more)
	}
	return strings.Join(out, "; ")
}
