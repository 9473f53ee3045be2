package walk

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/lab"
)

// A walk does what people and accidents do to hosts, at random: it declares, plans, applies,
// edits by hand, checks for drift, restores, takes everything away, lets runs fail, lines break, rods, hosts
// and the service die, and users put things in the way. After each step an independent look at the hosts
// has to agree with what North Stake says, and what others have beside it answers as before. A failing walk is
// told by its seed, and can be made shorter (WALK_SHORTER=1).

// walked are the walks that every run of the tests does: three by their seeds, and what
// once failed, made shorter.
var walked = []walkPlan{
	{seed: 1, moves: movesOf(1, 12)}, {seed: 2, moves: movesOf(2, 12)}, {seed: 3, moves: movesOf(3, 12)},
	// A port is taken out where a firewall program lets in only what is declared, and a site
	// is called otherwise.
	// Everything is taken away and comes back, beside what others have.
	{seed: 5, moves: []walkMove{{"apply", 1}, {"bare", 1}, {"settled", 1}}},
	{seed: 4, moves: []walkMove{{"apply", 1}, {"declare", 64}, {"apply", 1}, {"take out", 4}, {"declare", 81}, {"settled", 1}}},
}

type walkPlan struct {
	seed  uint64
	moves []walkMove
}

func TestWalks(t *testing.T) {
	t.Parallel()
	for _, p := range walked {
		t.Run(fmt.Sprintf("seed %d", p.seed), func(t *testing.T) {
			t.Parallel()
			if err := walkAlong(t, p.seed, p.moves); err != nil {
				t.Error(err)
			}
		})
	}
}

// TestWalkOn walks with new seeds for as long as WALK_FOR says; without it, not at all:
// TestWalks is what every run does.
func TestWalkOn(t *testing.T) {
	limit, err := time.ParseDuration(os.Getenv("WALK_FOR"))
	if err != nil {
		return
	}
	var total atomic.Int64
	for end := time.Now().Add(limit); time.Now().Before(end); {
		failed := map[uint64][]walkMove{}
		var found sync.Mutex
		t.Run("at once", func(t *testing.T) {
			for range walksAtOnce {
				seed := uint64(time.Now().UnixNano())
				moves := movesOf(seed, 40)
				t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) {
					t.Parallel()
					if err := walkAlong(t, seed, moves); err != nil {
						found.Lock()
						failed[seed] = moves
						found.Unlock()
						t.Error(err)
					}
					total.Add(int64(len(moves)))
				})
			}
		})
		t.Logf("%d moves walked", total.Load())
		for seed, moves := range failed {
			if os.Getenv("WALK_SHORTER") != "" {
				shorten(t, seed, moves)
			}
		}
	}
}

// walksAtOnce is how many walks go at a time: hosts are waited for more than they work.
const walksAtOnce = 3

// shorten leaves out moves for as long as the walk still fails, and logs the least.
func shorten(t *testing.T, seed uint64, moves []walkMove) {
	for size := (len(moves) + 1) / 2; size >= 1; size /= 2 {
		for from := 0; from < len(moves); {
			fewer := slices.Concat(moves[:from], moves[min(from+size, len(moves)):])
			failed := false
			t.Run(fmt.Sprintf("shorter, %d moves", len(fewer)), func(t *testing.T) {
				if err := walkAlong(t, seed, fewer); err != nil {
					failed = true
					t.Log(err)
				}
			})
			if failed {
				moves = fewer
			} else {
				from += size
			}
		}
	}
	t.Logf("the least moves that fail with seed %d: %v", seed, moves)
}

// walkMove is one move, with a seed of its own, so that it is the same in a shorter walk.
type walkMove struct {
	name string
	seed uint64
}

func (m walkMove) String() string { return fmt.Sprintf("{%q, %d}", m.name, m.seed) }

func movesOf(seed uint64, n int) []walkMove {
	random := rand.New(rand.NewPCG(seed, 0))
	names := []string{}
	for _, m := range walkMoves {
		names = append(names, slices.Repeat([]string{m.name}, m.often)...)
	}
	moves := []walkMove{{"apply", random.Uint64()}}
	for len(moves) < n {
		moves = append(moves, walkMove{names[random.IntN(len(names))], random.Uint64()})
	}
	return moves
}

// walkAlong makes hosts and a ground, and does the moves.
func walkAlong(t *testing.T, seed uint64, moves []walkMove) error {
	w := newWalk(t, seed)
	for i, m := range moves {
		if former && i == len(moves)/3 {
			if err := w.upgrade(); err != nil {
				return fmt.Errorf("seed %d, upgraded before move %d of %v: %w", seed, i, moves, err)
			}
		} else if former && i < len(moves)/3 && !slices.Contains(walkedBefore, m.name) {
			continue
		}
		at := slices.IndexFunc(walkMoves, func(k walkKind) bool { return k.name == m.name })
		w.random = rand.New(rand.NewPCG(m.seed, 7))
		w.said = nil
		began := time.Now()
		err := walkMoves[at].do(w)
		if err == nil {
			err = w.othersAnswer()
		}
		if err != nil {
			return fmt.Errorf("seed %d, move %d of %v: %s:\n%s\n%w", seed, i, moves, m.name, strings.Join(w.said, "\n"), err)
		}
		t.Logf("%2d %-8s %5.1f s  %s", i, m.name, time.Since(began).Seconds(), strings.Join(w.said, "; "))
	}
	return nil
}

// former says that a walk begins with a release before, built in the checkout WALK_BEFORE, and is upgraded
// after a third of its moves; walkedBefore are those that the release before has to make.
var (
	former       = os.Getenv("WALK_BEFORE") != ""
	walkedBefore = []string{"declare", "apply", "one host", "others", "take out", "killed"}
)

// upgrade starts this release's service on what the one before has left: nothing counts as changed by
// somebody.
func (w *walk) upgrade() error {
	w.g.Service.End(syscall.SIGTERM)
	w.g.Service.Programs = ""
	if err := w.g.Service.Start(); err != nil {
		return err
	}
	got, err := w.shifted(0)
	if err == nil && len(got) > 0 {
		err = fmt.Errorf("drift names %v", got)
	}
	return err
}

type walkKind struct {
	name  string
	often int
	do    func(w *walk) error
}

var walkMoves = []walkKind{
	{"declare", 4, (*walk).declareMore},
	{"apply", 5, (*walk).apply},
	{"one host", 1, (*walk).applyOne},
	{"edit", 6, (*walk).editByHand},
	{"others", 3, (*walk).others},
	{"settled", 2, (*walk).settled},
	{"fails", 2, (*walk).goesBack},
	{"killed", 3, (*walk).killed},
	{"intruder", 2, (*walk).intruder},
	{"take out", 2, (*walk).takeOut},
	{"bring", 1, (*walk).bring},
	{"act", 1, (*walk).act},
	{"stale", 1, (*walk).stale},
	{"bare", 1, (*walk).bare},
}

// newWalk makes a host of each family and a ground over all kinds, with names that nearly
// collide.
func newWalk(t *testing.T, seed uint64) *walk {
	t.Helper()
	p, err := lab.OpenPostgres(context.Background(), fmt.Sprintf("%s/pg-walk-%d", stage.Home, seed))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(context.Background()) })
	s := &stage.Service{State: fmt.Sprintf("%s/service-walk-%d", stage.Home, seed), Database: p.URL()} // of its own: it is killed
	if s.Log = s.State + ".log"; former {
		s.Programs = filepath.Join(os.Getenv("WALK_BEFORE"), "bin")
	}
	if err := os.MkdirAll(s.State, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := s.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.End(syscall.SIGTERM) })
	g := stage.NewGroundOf(t, s, []lab.Family{lab.Debian, lab.RedHat}, "")
	for _, h := range g.Hosts {
		g.On(h, "install -d "+secretDir+"; for f in one two index.html; do echo \"secret $f\" > "+secretDir+"/$f; chmod 600 "+secretDir+"/$f; done")
	}
	for i, h := range g.Hosts {
		g.On(h, othersOf(i == 0))
	}
	w := &walk{g: g, model: newWalkModel(g, rand.New(rand.NewPCG(seed, 99)))}
	dir, url := stage.Served(t)
	gpg, public := stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
	g.Beside("files/ferries.asc", public)
	deb, rpm := filepath.Join(dir, "deb"), filepath.Join(dir, "rpm")
	stage.Shell(t, dir, "mkdir -p deb/p/DEBIAN rpm")
	stage.DebThatFails(t, deb, "9.0-1")
	stage.DebSource(t, deb, gpg, "", "1.0-1", "1.1-1", "1.2-1")
	stage.RpmThatFails(t, rpm, "9.0", "%pre")
	stage.RpmSource(t, rpm, gpg, "", "1.0", "1.1", "1.2")
	w.model.sources = map[string]string{"debian": url + "/deb", "redhat": url + "/rpm"}
	w.model.write(g)
	g.Trust()
	return w
}
