package work

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/maphash"
	"net/http"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"northstake/core/wire"
	"northstake/host/engine"
	"northstake/host/probe"
	"northstake/host/publish"
)

func (s *Server) traits(w http.ResponseWriter, r *http.Request) {
	t, err := s.host.Traits(r.Context())
	if err != nil {
		refuse(w, err)
		return
	}
	answer(w, t)
}

func (s *Server) survey(w http.ResponseWriter, r *http.Request) {
	var req wire.SurveyRequest
	if !read(w, r, &req) {
		return
	}
	s.mu.Lock()
	if req.Wants != nil {
		if len(s.wants) > 8 {
			clear(s.wants)
		}
		s.wants[req.Digest] = req.Wants
	}
	wants, known := s.wants[req.Digest]
	s.mu.Unlock()
	if !known {
		answer(w, wire.SurveyAnswer{SendWants: true})
		return
	}
	out := wire.SurveyAnswer{}
	var beside errgroup.Group
	beside.Go(func() (err error) {
		out.Traits, err = s.host.Traits(r.Context())
		return err
	})
	readings := Survey(r.Context(), s.host, wants)
	err := beside.Wait()
	out.Sum = sumOf(readings)
	if out.Same = out.Sum == req.Known; !out.Same && err == nil {
		out.Readings, err = json.Marshal(readings)
	}
	if err != nil {
		refuse(w, err)
		return
	}
	out.Traits.Containers = engine.Listed(s.host.Machine) // as the readings have just found them
	out.Clock = time.Now()
	answer(w, out)
	if err := publish.SaveSums(s.host.Machine); err != nil {
		fmt.Fprintln(os.Stderr, "rod: keep file sums:", err)
	}
}

// seeds are this rod's alone, so that nobody can make readings that differ and have one sum.
var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// sumOf tells readings apart while the rod runs, without writing them as they are sent: mostly they are
// the same as before.
func sumOf(readings []wire.Reading) string {
	var out []byte
	for _, seed := range seeds {
		var h maphash.Hash
		h.SetSeed(seed)
		for _, r := range readings {
			for _, part := range [][]byte{[]byte(r.Name), r.Found, r.Was, []byte(r.Unread)} {
				maphash.WriteComparable(&h, len(part))
				h.Write(part)
			}
		}
		out = h.Sum(out)
	}
	return hex.EncodeToString(out)
}

// Survey reads stakes, each kind beside the others. It changes nothing.
func Survey(ctx context.Context, m *Host, wants []wire.Want) []wire.Reading {
	all, asked := slices.Clone(wants), len(wants)
	var former []int // whose reading for what was wanted last comes at the end
	for i, w := range wants {
		if len(w.Last) > 0 {
			all, former = append(all, wire.Want{Type: w.Type, Name: w.Name, Want: w.Last}), append(former, i)
		}
	}
	wants = all
	out := make([]wire.Reading, len(wants))
	byType := map[string][]int{}
	for i, w := range wants {
		byType[w.Type] = append(byType[w.Type], i)
	}
	var wg sync.WaitGroup
	for typ, index := range byType {
		wg.Go(func() {
			w, err := workerOf(typ)
			if err != nil {
				for _, i := range index {
					out[i] = wire.Reading{Name: wire.Local(wants[i].Type, wants[i].Name), Unread: err.Error()}
				}
				return
			}
			some := make([]wire.Want, len(index))
			for n, i := range index {
				some[n] = wants[i]
			}
			for n, reading := range w.Read(ctx, m, some) {
				out[index[n]] = reading
			}
		})
	}
	wg.Wait()
	for n, i := range former {
		if r := out[asked+n]; r.Unread == "" {
			out[i].Was = r.Found
		} else if out[i].Unread == "" {
			out[i].Unread = r.Unread
		}
	}
	return out[:asked]
}

func (s *Server) probe(w http.ResponseWriter, r *http.Request) {
	var a probe.Asked
	if read(w, r, &a) {
		answer(w, probe.Fetch(r.Context(), a))
	}
}
