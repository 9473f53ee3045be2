package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"

	"northstake/core/wire"
	"northstake/host/system"
)

// The labels that North Stake's containers have: whose they are, and which step made them.
const (
	labelBy   = "northstake.by"
	labelStep = "northstake.step"
)

// Networks are the names of the engine's networks.
func (e *Engine) Networks(ctx context.Context) ([]string, error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	list, err := e.cli.NetworkList(ctx, client.NetworkListOptions{})
	if err != nil {
		return nil, fmt.Errorf("ask the engine for its networks: %s", short(err))
	}
	var out []string
	for _, n := range list.Items {
		out = append(out, plain(n.Name))
	}
	slices.Sort(out)
	return out, nil
}

// Inspected is a container as an engine has it; ID is "" where there is none.
type Inspected struct {
	ID      string
	Name    string
	By      string
	Step    string
	Running bool
	PID     int    // of its first process, on the host; 0 where it does not run
	Image   string // its identifier
	is      container.InspectResponse
}

// Inspect asks for a container by its name or identifier.
func (e *Engine) Inspect(ctx context.Context, name string) (Inspected, error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	r, err := e.cli.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	if isMissing(err) {
		return Inspected{}, nil
	}
	if err != nil {
		return Inspected{}, fmt.Errorf("ask the engine for container %s: %s", name, short(err))
	}
	c := r.Container
	if c.State == nil || c.Config == nil || c.HostConfig == nil || strings.TrimPrefix(c.Name, "/") != name && c.ID != name {
		return Inspected{}, nil // found by the beginning of an identifier
	}
	return Inspected{c.ID, strings.TrimPrefix(c.Name, "/"), c.Config.Labels[labelBy], c.Config.Labels[labelStep], c.State.Running, c.State.Pid, c.Image, c}, nil
}

// address is the address that the container has, the one that is asked for if it has several.
func (i Inspected) address(wanted string) string {
	var out []string
	if n := i.is.NetworkSettings; n != nil {
		for _, e := range n.Networks {
			for _, a := range []netip.Addr{e.IPAddress, e.GlobalIPv6Address} {
				if a.IsValid() && !a.IsUnspecified() {
					out = append(out, a.String())
				}
			}
		}
	}
	slices.Sort(out)
	if at, err := netip.ParseAddr(wanted); err == nil && slices.Contains(out, at.String()) {
		return wanted
	}
	return strings.Join(out, ", ")
}

// Overlaps says whether a container that is wanted cannot run beside this one: both would have
// the same port.
func (i Inspected) Overlaps(w wire.ContainerWant) bool {
	found := wire.ContainerFound{Network: networkIn(i.is, w.Network), ReachedAt: doorsOf(i.is.HostConfig.PortBindings), Address: i.address(w.Address)}
	for _, m := range i.is.Mounts {
		if m.Type == mount.TypeBind {
			found.Mounts = append(found.Mounts, wire.HeldAt{At: wire.Path(m.Destination), From: wire.Path(m.Source), Writable: m.RW})
		}
	}
	return len(i.volumes(w)) > 0 || w.Overlaps(found)
}

// Volume is a volume of the engine that a container sees at a path.
type Volume struct{ Name, At string }

// Volumes are those that the engine has made for a container because its image asks for them, and
// where nothing of the host is wanted: what it wrote lies there, and whatever comes in its place goes
// on with that.
func (e *Engine) Volumes(ctx context.Context, i Inspected, w wire.ContainerWant) ([]Volume, error) {
	all := i.volumes(w)
	if len(all) == 0 {
		return nil, nil
	}
	own, err := e.image(ctx, i.Image)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(v Volume) bool {
		_, asked := own.volumes[v.At]
		return !asked
	}), nil
}

// volumes are all that the container sees of the engine's, beside what is wanted.
func (i Inspected) volumes(w wire.ContainerWant) []Volume {
	var out []Volume
	for _, m := range i.is.Mounts {
		if m.Type == mount.TypeVolume && m.Name != "" && !slices.ContainsFunc(w.Mounts, func(h wire.HeldAt) bool { return path.Clean(string(h.At)) == path.Clean(m.Destination) }) {
			out = append(out, Volume{m.Name, m.Destination})
		}
	}
	return out
}

// Sees says whether the container sees all of some directories and files of the host.
func (i Inspected) Sees(holds []wire.HeldAt) bool {
	return !slices.ContainsFunc(holds, func(h wire.HeldAt) bool {
		return !slices.ContainsFunc(i.is.Mounts, func(m container.MountPoint) bool {
			return m.Source == m.Destination && h.At.Within(wire.Path(m.Destination)) && (m.RW || !h.Writable)
		})
	})
}

// Seen is what the container sees of the host at the same place, with some more.
func (i Inspected) Seen(more []wire.HeldAt) []wire.HeldAt {
	var out []wire.HeldAt
	for _, h := range more {
		if !slices.ContainsFunc(out, func(o wire.HeldAt) bool { return o.At == h.At }) {
			out = append(out, h)
		}
	}
	for _, m := range i.is.Mounts {
		if m.Type == mount.TypeBind && m.Source == m.Destination && !slices.ContainsFunc(out, func(o wire.HeldAt) bool { return o.At == wire.Path(m.Destination) }) {
			out = append(out, wire.HeldAt{At: wire.Path(m.Destination), From: wire.Path(m.Source), Writable: m.RW})
		}
	}
	return out
}

// Former are the paths of the host at which the container still sees what lay there before.
func (i Inspected) Former(m *system.Machine) []string {
	var holds []wire.HeldAt
	for _, mount := range i.is.Mounts {
		holds = append(holds, wire.HeldAt{At: wire.Path(mount.Destination), From: wire.Path(mount.Source)})
	}
	return former(m, i.is.State.Pid, holds)
}

// found is what the engine says of a container that is wanted.
func (e *Engine) found(ctx context.Context, w wire.ContainerWant) (wire.ContainerFound, Inspected, error) {
	f := wire.ContainerFound{}
	image, err := e.image(ctx, w.Image)
	if err != nil {
		return f, Inspected{}, err
	}
	f.Wanted, f.Looks = image.ID, image.looks()
	in, err := e.Inspect(ctx, w.Name)
	if err != nil || in.ID == "" {
		return f, in, err
	}
	c := in.is
	f.There, f.By, f.State, f.Status, f.Image = true, plain(in.By), plain(string(c.State.Status)), c.State.ExitCode, plain(c.Image)
	f.ID, f.Restarts = plain(in.ID), c.RestartCount
	if f.Since, err = time.Parse(time.RFC3339Nano, c.State.StartedAt); err != nil || !in.Running {
		f.Since = time.Time{}
	}
	own := image // what the image brings, of that which the container is made of
	if c.Image != image.ID {
		if own, err = e.image(ctx, c.Image); err != nil {
			return f, in, err
		}
	}
	if !slices.Equal(c.Config.Cmd, own.command) || len(w.Command) > 0 {
		f.Command = plainly(c.Config.Cmd)
	}
	f.ReachedAt = doorsOf(c.HostConfig.PortBindings)
	f.Beyond = beyond(c, own, w)
	mounts(&f, c, own)
	variables(&f, w, c.Config.Env, own.env)
	if c.Config.User != own.user {
		f.RunsAs = plain(c.Config.User)
	}
	f.Network = networkIn(c, w.Network)
	if w.Address != "" {
		f.Address = in.address(w.Address)
	}
	f.Policy = cmp.Or(policies[c.HostConfig.RestartPolicy.Name], plain(string(c.HostConfig.RestartPolicy.Name)))
	f.Memory, f.Processors = c.HostConfig.Memory, processors(c.HostConfig.Resources)
	labels(&f, w, c.Config.Labels, own)
	if in.restarting(time.Now()) {
		f.State, f.Since = wire.ContainerRestarting, time.Time{}
	}
	switch {
	case f.State == wire.ContainerRestarting:
		f.Log = e.log(ctx, in.ID)
	case in.Running && len(w.WellWhen) > 0:
		f.Unwell = e.unwell(ctx, in.ID, w.WellWhen)
		f.Young = time.Since(f.Since) < upWithin
	case !in.Running && w.Running:
		f.Log = e.log(ctx, in.ID)
	}
	return f, in, nil
}

// plainly are words without control characters.
func plainly(words []string) (out []string) {
	for _, word := range words {
		out = append(out, plain(word))
	}
	return out
}

// processors is how much of the processors a container may have, in billionths of one, 0 for all.
func processors(r container.Resources) int64 {
	if r.NanoCPUs == 0 && r.CPUQuota > 0 && r.CPUPeriod > 0 {
		return r.CPUQuota * 1e9 / r.CPUPeriod
	}
	return r.NanoCPUs
}

// mounts adds what a container holds of its host, and what of it nobody named.
func mounts(f *wire.ContainerFound, c container.InspectResponse, own image) {
	for _, m := range c.Mounts {
		held := wire.HeldAt{At: wire.Path(plain(m.Destination)), From: wire.Path(plain(m.Source)), Writable: m.RW}
		switch _, imagesOwn := own.volumes[m.Destination]; {
		case m.Type == mount.TypeVolume && imagesOwn:
			f.Loose = append(f.Loose, string(held.At))
			continue
		case m.Type != mount.TypeBind:
			held.From = wire.Path(plain(string(m.Type) + " " + m.Name))
		}
		f.Mounts = append(f.Mounts, held)
	}
	slices.Sort(f.Loose)
	slices.SortFunc(f.Mounts, func(a, b wire.HeldAt) int { return strings.Compare(string(a.At), string(b.At)) })
}

// labels adds the labels that neither the image brings nor this service.
func labels(f *wire.ContainerFound, w wire.ContainerWant, all map[string]string, own image) {
	for n, v := range all {
		if n == labelBy || n == labelStep || own.labels[n] == v && own.has(n) && w.EngineLabels[n] == "" {
			continue
		}
		if f.EngineLabels == nil {
			f.EngineLabels = map[string]string{}
		}
		f.EngineLabels[plain(n)] = plain(v)
	}
}

// restarting says whether a container ended within the last minute, and its engine had to start it again
// or is about to.
func (i Inspected) restarting(now time.Time) bool {
	if i.is.RestartCount == 0 || policies[i.is.HostConfig.RestartPolicy.Name] == wire.PolicyNever {
		return false
	}
	ended, err := time.Parse(time.RFC3339Nano, i.is.State.FinishedAt)
	began, err2 := time.Parse(time.RFC3339Nano, i.is.State.StartedAt)
	lately := func(t time.Time, err error) bool { return err == nil && now.Sub(t) < upWithin }
	return lately(ended, err) && (!i.Running || lately(began, err2))
}

// variables sorts an environment into what is wanted, secrets, and the rest, of which the
// names alone leave the host. What the image and the engine set by themselves is left out.
func variables(f *wire.ContainerFound, w wire.ContainerWant, env, own []string) {
	for _, one := range env {
		name, value, _ := strings.Cut(one, "=")
		_, wanted := w.Variables[name]
		sealed := w.Secrets[name]
		switch {
		case wanted:
			if f.Variables == nil {
				f.Variables = map[string]string{}
			}
			f.Variables[name] = plain(value)
		case sealed != nil:
			if f.Secrets == nil {
				f.Secrets = map[string]bool{}
			}
			f.Secrets[name] = sealed.Matches(value)
		case slices.Contains(own, one) || slices.Contains(enginesOwn, name):
		default:
			f.More = append(f.More, plain(name))
		}
	}
	slices.Sort(f.More)
}

// beyond lists what a container has that none has that North Stake makes: rights, and ways in
// and out.
func beyond(c container.InspectResponse, own image, w wire.ContainerWant) []string {
	var out []string
	say := func(is bool, what string) {
		if is {
			out = append(out, plain(what))
		}
	}
	h := c.HostConfig
	say(h.Privileged, "all rights of the host")
	say(len(h.CapAdd) > 0, "capabilities "+strings.Join(h.CapAdd, " "))
	say(len(h.Devices) > 0, fmt.Sprintf("%d devices", len(h.Devices)))
	say(h.PidMode.IsHost(), "the host's processes")
	say(h.IpcMode.IsHost(), "the host's shared memory")
	entry := own.entry
	if len(w.Entry) > 0 {
		entry = w.Entry
	}
	say(!slices.Equal(c.Config.Entrypoint, entry), "another entry point: "+strings.Join(c.Config.Entrypoint, " "))
	for port, list := range h.PortBindings {
		say(port.Proto() != network.TCP && len(list) > 0, "port "+port.String())
	}
	if n := c.NetworkSettings; n != nil {
		for name := range n.Networks {
			say(name != w.Network && joins(container.NetworkMode(name)) != "" && name != string(h.NetworkMode), "network "+name)
		}
	}
	slices.Sort(out)
	return out
}

// enginesOwn are variables that engines set in every container.
var enginesOwn = []string{"PATH", "HOME", "HOSTNAME", "TERM", "container"}

// policies are what engines call it whether a container is started again, by their words.
var policies = map[container.RestartPolicyMode]string{
	container.RestartPolicyAlways: wire.PolicyAlways, container.RestartPolicyUnlessStopped: wire.PolicyNotAtBoot,
	container.RestartPolicyOnFailure: wire.PolicyOnFailure, container.RestartPolicyDisabled: wire.PolicyNever, "": wire.PolicyNever,
}

// joins is the network that a container was told to join, "" for the engine's own.
func joins(mode container.NetworkMode) string {
	switch m := string(mode); m {
	case "", "default", "bridge", "podman", "slirp4netns", "pasta":
		return ""
	default:
		return plain(m)
	}
}

// networkIn is the network that a container is in, "" for the engine's own. An engine may call every
// network of its own bridges "bridge" and tell their names beside that, as Podman does; of several it
// is the one that is wanted. A container that runs, and has lost the network that it was in, is in none.
func networkIn(c container.InspectResponse, wanted string) string {
	mode := joins(c.HostConfig.NetworkMode)
	if c.NetworkSettings == nil || mode == "host" || mode == "none" || strings.HasPrefix(mode, "container:") {
		return mode
	}
	named, own := "", false
	for _, name := range slices.Sorted(maps.Keys(c.NetworkSettings.Networks)) {
		switch is := joins(container.NetworkMode(name)); {
		case is == "":
			own = true
		case is == wanted:
			return wanted
		case named == "":
			named = is
		}
	}
	switch {
	case own && wanted == "":
		return ""
	case named != "":
		return named
	case !own && c.State.Running && !slices.Contains(withoutNames, string(c.HostConfig.NetworkMode)):
		return "none"
	}
	return mode
}

// withoutNames are ways into the network that an engine keeps no network for.
var withoutNames = []string{"slirp4netns", "pasta", "default"}

func doorsOf(bindings network.PortMap) []wire.Door {
	var out []wire.Door
	for port, list := range bindings {
		if port.Proto() != network.TCP {
			continue
		}
		for _, b := range list {
			n, err := strconv.Atoi(b.HostPort)
			if err != nil {
				continue
			}
			at := ""
			if b.HostIP.IsValid() && !b.HostIP.IsUnspecified() {
				at = b.HostIP.String()
			}
			out = append(out, wire.Door{Outside: n, Inside: int(port.Num()), At: at})
		}
	}
	slices.SortFunc(out, func(a, b wire.Door) int {
		if a.Outside != b.Outside {
			return a.Outside - b.Outside
		}
		return strings.Compare(a.At, b.At)
	})
	return out
}
