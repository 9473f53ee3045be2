package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/moby/moby/client"
	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// Round is one look at the containers of a host. What an earlier one found of those that run
// still counts for as long as the engine tells of no change since, this rod has had it change
// nothing, the processes are the same, and it is no older than rememberTime: asking for two
// hundred containers one by one takes seconds.
//
// An engine that writes its events to the journal tells of a change as late as the journal has
// it, which takes a moment on a busy host. What another does to a container that goes on as the
// same process is then seen by the next look. What ends or begins a process, connects it to a network
// or takes it from one, and what this rod does, is seen at once.
type Round struct {
	engine *Engine
	m      *system.Machine
	memory *memory
}

// rememberTime bounds how long what was found counts.
const rememberTime = time.Minute

// memory is what was found of containers by their names, since when.
type memory struct {
	mu    sync.Mutex
	since time.Time
	acts  int64 // as the line had counted
	known map[string]known
	all   []wire.ContainerSeen

	networks []string // nil where they were not asked for
}

type known struct {
	want  string
	found wire.ContainerFound
	id    string
	pid   int
	began string // when that process began
	links string // the network interfaces that it has
}

// NewRound begins a look.
func (e *Engine) NewRound(ctx context.Context, m *system.Machine) (*Round, error) {
	mem, err := memoryOf(m)
	if err != nil {
		return nil, err
	}
	mem.mu.Lock()
	defer mem.mu.Unlock()
	now, acts := time.Now(), e.over.acts.Load()
	if now.Sub(mem.since) > rememberTime || acts != mem.acts || !e.quiet(ctx, mem.since, now) {
		mem.known, mem.networks = map[string]known{}, nil
		if mem.all, err = e.all(ctx); err != nil {
			return nil, err
		}
		mem.since, mem.acts = now, acts
	}
	return &Round{e, m, mem}, nil
}

func memoryOf(m *system.Machine) (*memory, error) {
	return system.Cached(m, "containers", "once", func() (*memory, error) { return &memory{known: map[string]known{}}, nil })
}

// Listed are the containers of a host's engine, as the last look at some of them found them;
// none where no container was looked at.
func Listed(m *system.Machine) []wire.ContainerSeen {
	mem, err := memoryOf(m)
	if err != nil {
		return nil
	}
	mem.mu.Lock()
	defer mem.mu.Unlock()
	return mem.all
}

// Networks are the names of the engine's networks, which take an engine with many containers
// long to list.
func (r *Round) Networks(ctx context.Context) ([]string, error) {
	r.memory.mu.Lock()
	defer r.memory.mu.Unlock()
	if r.memory.networks != nil {
		return r.memory.networks, nil
	}
	list, err := r.engine.Networks(ctx)
	r.memory.networks = list
	return list, err
}

// listLimit bounds a list of containers.
const listLimit = 1000

// all lists the containers of the engine, by their names.
func (e *Engine) all(ctx context.Context) ([]wire.ContainerSeen, error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	list, err := e.cli.ContainerList(ctx, client.ContainerListOptions{All: true})
	if err != nil {
		return nil, fmt.Errorf("ask the engine for its containers: %s", short(err))
	}
	var out []wire.ContainerSeen
	for _, c := range list.Items[:min(len(list.Items), listLimit)] {
		seen := wire.ContainerSeen{Image: brief(c.Image), State: brief(string(c.State)), By: brief(c.Labels[labelBy]), ID: brief(c.ID)}
		if len(c.Names) > 0 {
			seen.Name = brief(strings.TrimPrefix(c.Names[0], "/"))
		}
		out = append(out, seen)
	}
	slices.SortFunc(out, func(a, b wire.ContainerSeen) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// quiet says whether an engine tells of nothing that has changed a container, an image or a
// network in a span of time. What cannot be told counts as a change.
func (e *Engine) quiet(ctx context.Context, since, until time.Time) bool {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	// What came in the first second may be told again. Podman counts whole seconds alone.
	end := fmt.Sprintf("%d.%09d", until.Unix(), until.Nanosecond())
	if strings.Contains(e.socket, "podman") {
		end = strconv.FormatInt(until.Unix()+1, 10)
	}
	r := e.cli.Events(ctx, client.EventsListOptions{Since: strconv.FormatInt(since.Unix(), 10), Until: end})
	for {
		select {
		case m := <-r.Messages:
			if !strings.HasPrefix(string(m.Action), "exec") {
				return false
			}
		case err := <-r.Err:
			return errors.Is(err, io.EOF)
		}
	}
}

// Found is what there is of a container that is wanted.
func (r *Round) Found(ctx context.Context, w wire.ContainerWant) (wire.ContainerFound, error) {
	want, err := json.Marshal(w)
	if err != nil {
		return wire.ContainerFound{}, err
	}
	r.memory.mu.Lock()
	k, ok := r.memory.known[w.Name]
	r.memory.mu.Unlock()
	if ok && k.want == string(want) && began(r.m, k.pid) == k.began && links(r.m, k.pid) == k.links {
		f := k.found
		if len(w.WellWhen) > 0 {
			f.Unwell = r.engine.unwell(ctx, k.id, w.WellWhen)
			f.Young = time.Since(f.Since) < upWithin
		}
		f.Former = former(r.m, k.pid, w.Mounts)
		return f, nil
	}
	f, is, err := r.engine.found(ctx, w)
	if err != nil {
		return f, err
	}
	if !is.Running || f.State == wire.ContainerRestarting {
		return f, nil
	}
	k = known{want: string(want), found: f, id: is.ID, pid: is.is.State.Pid, links: links(r.m, is.is.State.Pid)}
	if k.began = began(r.m, k.pid); k.began == "" {
		if !r.engine.lives(ctx, is.ID) {
			f.State = wire.ContainerDead
		}
		return f, nil // its process cannot be told
	}
	r.memory.mu.Lock()
	r.memory.known[w.Name] = k
	r.memory.mu.Unlock()
	f.Former = former(r.m, k.pid, w.Mounts)
	return f, nil
}

// former are the paths of the host at which a process in a container still sees what lay there
// before: a mount stays what it was when something else takes the name.
func former(m *system.Machine, pid int, holds []wire.HeldAt) []string {
	if len(holds) == 0 {
		return nil
	}
	root, err := unix.Open(m.Path(wire.Path(fmt.Sprintf("/proc/%d/root", pid))), unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	defer unix.Close(root)
	var out []string
	for _, h := range holds {
		var here, there unix.Stat_t
		if unix.Stat(m.Path(h.From), &here) != nil {
			continue
		}
		// The links on the way are the container's, and lead nowhere but in it.
		fd, err := unix.Openat2(root, string(h.At), &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_MAGICLINKS})
		if err != nil {
			continue
		}
		if unix.Fstat(fd, &there) == nil && (here.Dev != there.Dev || here.Ino != there.Ino) {
			out = append(out, string(h.From))
		}
		unix.Close(fd)
	}
	return out
}

// began is when a process began, in the kernel's own count (proc(5), stat), "" where there is
// none.
func began(m *system.Machine, pid int) string {
	b, err := m.Read(wire.Path(fmt.Sprintf("/proc/%d/stat", pid)))
	if err != nil {
		return ""
	}
	fields := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	if len(fields) < 20 || fields[0] == "Z" {
		return ""
	}
	return fields[19]
}

// links are the names of the network interfaces that a process sees, "" where that cannot be told
// (proc(5), net/dev).
func links(m *system.Machine, pid int) string {
	b, err := m.Read(wire.Path(fmt.Sprintf("/proc/%d/net/dev", pid)))
	if err != nil {
		return ""
	}
	var out []string
	for line := range strings.Lines(string(b)) {
		if name, _, found := strings.Cut(line, ":"); found {
			out = append(out, strings.TrimSpace(name))
		}
	}
	return strings.Join(out, " ")
}
