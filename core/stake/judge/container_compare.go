package judge

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

// compareContainer notes what differs in the settings, which an engine can only change by making the
// container anew.
func compareContainer(w wire.ContainerWant, d *differences, f wire.ContainerFound) {
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
		wanted = append(wanted, door.Words())
	}
	for _, door := range f.ReachedAt {
		found = append(found, door.Words())
	}
	list("reached at", wanted, found)
	wanted, found = nil, nil
	for _, h := range w.Mounts {
		wanted = append(wanted, h.Words())
	}
	for _, h := range f.Mounts {
		found = append(found, h.Words())
	}
	list("mounts", wanted, found)
	for _, n := range stake.SortedKeys(w.Variables) {
		is, there := f.Variables[n]
		if !there {
			is = "not set"
		}
		if !there || is != w.Variables[n] {
			d.differ("variable "+n, w.Variables[n], is)
		}
	}
	for _, n := range stake.SortedKeys(w.Secrets) {
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
		a, b := wire.TwoSizes(w.Memory, f.Memory)
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
	for _, n := range stake.SortedKeys(marks) {
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
