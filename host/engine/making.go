package engine

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"

	"northstake/core/wire"
)

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
		host.Mounts = append(host.Mounts, mount.Mount{Type: mount.TypeBind, Source: string(h.From), Target: path.Clean(string(h.At)), ReadOnly: !h.Writable})
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
