package engine

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
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
			found.Mounts = append(found.Mounts, wire.HeldAt{At: m.Destination, From: m.Source, Writable: m.RW})
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
		if m.Type == mount.TypeVolume && m.Name != "" && !slices.ContainsFunc(w.Mounts, func(h wire.HeldAt) bool { return path.Clean(h.At) == path.Clean(m.Destination) }) {
			out = append(out, Volume{m.Name, m.Destination})
		}
	}
	return out
}

// Sees says whether the container sees all of some directories and files of the host.
func (i Inspected) Sees(holds []wire.HeldAt) bool {
	return !slices.ContainsFunc(holds, func(h wire.HeldAt) bool {
		return !slices.ContainsFunc(i.is.Mounts, func(m container.MountPoint) bool {
			return m.Source == m.Destination && (m.Destination == h.At || strings.HasPrefix(h.At, m.Destination+"/")) && (m.RW || !h.Writable)
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
		if m.Type == mount.TypeBind && m.Source == m.Destination && !slices.ContainsFunc(out, func(o wire.HeldAt) bool { return o.At == m.Destination }) {
			out = append(out, wire.HeldAt{At: m.Destination, From: m.Source, Writable: m.RW})
		}
	}
	return out
}

// Former are the paths of the host at which the container still sees what lay there before.
func (i Inspected) Former(m *system.Machine) []string {
	var holds []wire.HeldAt
	for _, mount := range i.is.Mounts {
		holds = append(holds, wire.HeldAt{At: mount.Destination, From: mount.Source})
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
		for _, word := range c.Config.Cmd {
			f.Command = append(f.Command, plain(word))
		}
	}
	f.ReachedAt = doorsOf(c.HostConfig.PortBindings)
	for _, m := range c.Mounts {
		held := wire.HeldAt{At: plain(m.Destination), From: plain(m.Source), Writable: m.RW}
		switch _, imagesOwn := own.volumes[m.Destination]; {
		case m.Type == mount.TypeVolume && imagesOwn:
			f.Loose = append(f.Loose, held.At)
			continue
		case m.Type != mount.TypeBind:
			held.From = plain(string(m.Type) + " " + m.Name)
		}
		f.Mounts = append(f.Mounts, held)
	}
	slices.Sort(f.Loose)
	f.Beyond = beyond(c, own, w)
	slices.SortFunc(f.Mounts, func(a, b wire.HeldAt) int { return strings.Compare(a.At, b.At) })
	variables(&f, w, c.Config.Env, own.env)
	if c.Config.User != own.user {
		f.RunsAs = plain(c.Config.User)
	}
	f.Network = networkIn(c, w.Network)
	if w.Address != "" {
		f.Address = in.address(w.Address)
	}
	f.Policy = policies[c.HostConfig.RestartPolicy.Name]
	if f.Policy == "" {
		f.Policy = plain(string(c.HostConfig.RestartPolicy.Name))
	}
	f.Memory, f.Processors = c.HostConfig.Memory, c.HostConfig.NanoCPUs
	if f.Processors == 0 && c.HostConfig.CPUQuota > 0 && c.HostConfig.CPUPeriod > 0 {
		f.Processors = c.HostConfig.CPUQuota * 1e9 / c.HostConfig.CPUPeriod
	}
	for n, v := range c.Config.Labels {
		if n == labelBy || n == labelStep || own.labels[n] == v && own.has(n) && w.EngineLabels[n] == "" {
			continue
		}
		if f.EngineLabels == nil {
			f.EngineLabels = map[string]string{}
		}
		f.EngineLabels[plain(n)] = plain(v)
	}
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

// Create makes a container under a name, and leaves it stopped. Step is noted with it. It goes on
// with the volumes of the one that it is made in the place of.
func (e *Engine) Create(ctx context.Context, w wire.ContainerWant, name, step string, volumes ...Volume) (string, error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	labels := map[string]string{labelBy: w.By, labelStep: step}
	maps.Copy(labels, w.EngineLabels)
	config := &container.Config{Image: w.Image, Entrypoint: w.Entry, Cmd: w.Command, User: w.RunsAs, Labels: labels}
	for n, v := range w.Variables {
		config.Env = append(config.Env, n+"="+v)
	}
	for n, s := range w.Secrets {
		if s.Text == "" {
			return "", fmt.Errorf("variable %s: %w", n, wire.ErrNoText)
		}
		config.Env = append(config.Env, n+"="+s.Text)
	}
	slices.Sort(config.Env)
	host := &container.HostConfig{Resources: container.Resources{Memory: w.Memory, NanoCPUs: w.Processors}, NetworkMode: container.NetworkMode(w.Network)}
	for mode, words := range policies {
		if words == w.Policy && mode != "" {
			host.RestartPolicy.Name = mode
		}
	}
	for _, d := range w.ReachedAt {
		port, ok := network.PortFrom(uint16(d.Inside), network.TCP)
		if !ok {
			return "", fmt.Errorf("%d is no port", d.Inside)
		}
		b := network.PortBinding{HostPort: strconv.Itoa(d.Outside)}
		if d.At != "" {
			var err error
			if b.HostIP, err = netip.ParseAddr(d.At); err != nil {
				return "", err
			}
		}
		if host.PortBindings == nil {
			host.PortBindings, config.ExposedPorts = network.PortMap{}, network.PortSet{}
		}
		host.PortBindings[port] = append(host.PortBindings[port], b)
		config.ExposedPorts[port] = struct{}{}
	}
	for _, h := range w.Mounts {
		host.Mounts = append(host.Mounts, mount.Mount{Type: mount.TypeBind, Source: h.From, Target: path.Clean(h.At), ReadOnly: !h.Writable})
	}
	for _, v := range volumes {
		host.Mounts = append(host.Mounts, mount.Mount{Type: mount.TypeVolume, Source: v.Name, Target: v.At})
	}
	options := client.ContainerCreateOptions{Name: name, Config: config, HostConfig: host}
	if w.Address != "" {
		at, err := netip.ParseAddr(w.Address)
		if err != nil {
			return "", err
		}
		ends := &network.EndpointSettings{IPAMConfig: &network.EndpointIPAMConfig{}}
		if at.Is6() {
			ends.IPAMConfig.IPv6Address = at
		} else {
			ends.IPAMConfig.IPv4Address = at
		}
		options.NetworkingConfig = &network.NetworkingConfig{EndpointsConfig: map[string]*network.EndpointSettings{e.networkOf(w): ends}}
	}
	r, err := e.cli.ContainerCreate(ctx, options)
	if err != nil {
		return "", fmt.Errorf("make container %s: %s", w.Name, short(err))
	}
	return r.ID, nil
}

// networkOf is the network that a container joins, by its name on the engine.
func (e *Engine) networkOf(w wire.ContainerWant) string {
	switch {
	case w.Network != "":
		return w.Network
	case strings.Contains(e.socket, "podman"):
		return "podman"
	}
	return "bridge"
}

// Start starts a container.
func (e *Engine) Start(ctx context.Context, id string) error {
	ctx, cancel := limited(ctx)
	defer cancel()
	if _, err := e.cli.ContainerStart(ctx, id, client.ContainerStartOptions{}); err != nil {
		return fmt.Errorf("start the container: %s", short(err))
	}
	return nil
}

// stopTime is how long a container may take to end by itself, in seconds.
const stopTime = 10

// Stop stops a container, one that does not end by itself by force.
func (e *Engine) Stop(ctx context.Context, id string) error {
	ctx, cancel := limited(ctx)
	defer cancel()
	limit := stopTime
	if _, err := e.cli.ContainerStop(ctx, id, client.ContainerStopOptions{Timeout: &limit}); err != nil && !isMissing(err) {
		return fmt.Errorf("stop the container: %s", short(err))
	}
	return nil
}

// Rename gives a container another name.
func (e *Engine) Rename(ctx context.Context, id, name string) error {
	ctx, cancel := limited(ctx)
	defer cancel()
	if _, err := e.cli.ContainerRename(ctx, id, client.ContainerRenameOptions{NewName: name}); err != nil {
		return fmt.Errorf("rename the container to %s: %s", name, short(err))
	}
	return nil
}

// lives says whether something runs in a container of which the engine says that it does: who has
// killed its processes together with what watches them is not noticed by every engine.
func (e *Engine) lives(ctx context.Context, id string) bool {
	ctx, cancel := limited(ctx)
	defer cancel()
	top, err := e.cli.ContainerTop(ctx, id, client.ContainerTopOptions{})
	return err == nil && len(top.Processes) > 0 || ctx.Err() != nil
}

// Remove removes a container, whether it runs or not. What it saw of the host stays, and so do
// volumes in which it wrote.
func (e *Engine) Remove(ctx context.Context, id string) error {
	ctx, cancel := limited(ctx)
	defer cancel()
	if _, err := e.cli.ContainerRemove(ctx, id, client.ContainerRemoveOptions{Force: true}); err != nil && !isMissing(err) {
		return fmt.Errorf("remove the container: %s", short(err))
	}
	return nil
}

// wellTime is how long the command may take that says whether a container is well.
const wellTime = 5 * time.Second

// unwell says why a container is not well, "" where it is.
func (e *Engine) unwell(ctx context.Context, id string, command []string) string {
	ctx, cancel := context.WithTimeout(ctx, wellTime)
	defer cancel()
	status, lines, err := e.exec(ctx, id, command)
	switch {
	case ctx.Err() != nil:
		return fmt.Sprintf("%s has not ended in %s", plain(strings.Join(command, " ")), wellTime)
	case err != nil:
		return plain(strings.Join(command, " ")) + " cannot be run: " + short(err)
	case status != 0:
		text := fmt.Sprintf("%s ends with status %d", plain(strings.Join(command, " ")), status)
		if len(lines) > 0 {
			text += ": " + lines[len(lines)-1]
		}
		return text
	}
	return ""
}

// saidLimit bounds what is read of what a command or a container says, in bytes.
const saidLimit = 64 << 10

// exec runs a command in a container, and returns the lines that it said.
func (e *Engine) exec(ctx context.Context, id string, command []string) (status int, said []string, err error) {
	made, err := e.cli.ExecCreate(ctx, id, client.ExecCreateOptions{Cmd: command, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return 0, nil, err
	}
	run, err := e.cli.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return 0, nil, err
	}
	defer run.Close()
	stop := context.AfterFunc(ctx, run.Close)
	defer stop()
	b, err := io.ReadAll(io.LimitReader(run.Reader, saidLimit))
	if err != nil && ctx.Err() == nil {
		return 0, nil, err
	}
	said = frames(b)
	for {
		is, err := e.cli.ExecInspect(ctx, made.ID, client.ExecInspectOptions{})
		if err != nil {
			return 0, said, err
		}
		if !is.Running {
			return is.ExitCode, said, nil
		}
		select {
		case <-ctx.Done():
			return 0, said, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// logLines is how many lines are kept of what a container said last.
const logLines = 5

// log is the end of what a container said.
func (e *Engine) log(ctx context.Context, id string) []string {
	lines := e.said(ctx, id, strconv.Itoa(logLines))
	return lines[max(0, len(lines)-logLines):]
}

// said is what a container said, of which tail is how many lines from the end.
func (e *Engine) said(ctx context.Context, id, tail string) []string {
	ctx, cancel := limited(ctx)
	defer cancel()
	r, err := e.cli.ContainerLogs(ctx, id, client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Tail: tail})
	if err != nil {
		return nil
	}
	defer r.Close()
	b, _ := io.ReadAll(io.LimitReader(r, saidLimit)) // what there is, is of use
	return frames(b)
}

// frames are the lines in a stream of the engine's, whose parts have a head of eight bytes: of
// which stream they are, and how long.
func frames(b []byte) []string {
	var text bytes.Buffer
	for len(b) >= 8 {
		n := int(min(binary.BigEndian.Uint32(b[4:8]), uint32(len(b)-8)))
		text.Write(b[8 : 8+n])
		b = b[8+n:]
	}
	var out []string
	for line := range strings.Lines(text.String()) {
		if line = brief(strings.TrimRight(line, "\r\n")); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// upFor is how long a container has to run to count as started, upWithin how long it may take to be
// well, and heardWithin how long a server in it until it listens.
const (
	upFor       = time.Second
	upWithin    = 60 * time.Second
	heardWithin = 30 * time.Second
)

// listens says whether the server of a container that serves sites listens on all of their ports.
func listens(in Inspected, w wire.ContainerWant) bool {
	if w.Serves == "" {
		return true
	}
	at := system.PortsOf(in.is.State.Pid)
	return !slices.ContainsFunc(w.Ports, func(p int) bool { return !slices.Contains(at, p) })
}

// AwaitUp waits until a container runs and is well, and what serves sites in it listens: where it
// does not, probes say so. The error says what it said instead.
func (e *Engine) AwaitUp(ctx context.Context, id string, w wire.ContainerWant) error {
	begun := time.Now()
	for {
		in, err := e.Inspect(ctx, id)
		if err != nil {
			return err
		}
		if in.ID == "" || !in.Running {
			text := "it is gone"
			if in.ID != "" {
				text = fmt.Sprintf("it ended with status %d", in.is.State.ExitCode)
				if said := e.log(ctx, id); len(said) > 0 {
					text += "; its last words: " + strings.Join(said, " / ")
				}
			}
			return fmt.Errorf("container %s does not stay up: %s", w.Name, text)
		}
		unwell := ""
		if len(w.WellWhen) > 0 {
			unwell = e.unwell(ctx, id, w.WellWhen)
		}
		if unwell == "" && time.Since(begun) > upFor && (listens(in, w) || time.Since(begun) > heardWithin) {
			return nil
		}
		if time.Since(begun) > upWithin {
			return fmt.Errorf("container %s is not well after %s: %s", w.Name, upWithin, unwell)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}
