package stage

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Asking makes requests until it is ended.
type Asking struct {
	stop, done chan struct{}
	Made       int
	failed     []time.Time
}

// Ask begins to make requests for the site that every ground has, fifty a second.
func Ask(address string) *Asking {
	a := &Asking{stop: make(chan struct{}), done: make(chan struct{})}
	var mu sync.Mutex
	go func() {
		defer close(a.done)
		var all sync.WaitGroup
		for tick := time.NewTicker(20 * time.Millisecond); ; {
			select {
			case <-a.stop:
				tick.Stop()
				all.Wait()
				return
			case at := <-tick.C:
				all.Go(func() {
					status, body, err := Get("http://"+address+"/", "timetable.saltmarsh.test")
					mu.Lock()
					defer mu.Unlock()
					if a.Made++; err != nil || status != 200 || !strings.Contains(body, "Next sailing") {
						a.failed = append(a.failed, at)
					}
				})
			}
		}
	}()
	return a
}

// End ends the requests, and returns when those were made that were not answered.
func (a *Asking) End() []time.Time {
	close(a.stop)
	<-a.done
	return a.failed
}

// Gap is how long lies between the first and the last of some times.
func Gap(times []time.Time) time.Duration {
	if len(times) == 0 {
		return 0
	}
	first, last := times[0], times[0]
	for _, at := range times {
		if at.Before(first) {
			first = at
		}
		if at.After(last) {
			last = at
		}
	}
	return last.Sub(first) + 20*time.Millisecond
}

// WatchSite fetches the site's pages over and over; the returned function ends it
// and says what was wrong.
func (g *Ground) WatchSite(host string) func() string {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	var bad atomic.Value
	bad.Store("")
	address := g.Address(host)
	for range 2 {
		wg.Go(func() {
			newest := 0
			for ctx.Err() == nil {
				for _, path := range []string{"/", "/linked.html"} {
					status, body, err := Get("http://"+address+path, "timetable.saltmarsh.test")
					if err != nil || status != 200 {
						bad.Store(fmt.Sprintf("%s answered %d, %v", path, status, err))
						continue
					}
					v := versionOf(body)
					if v < newest {
						bad.Store(fmt.Sprintf("after version %d, %s showed version %d", newest, path, v))
					}
					newest = max(newest, v)
				}
			}
		})
	}
	return func() string {
		cancel()
		wg.Wait()
		return bad.Load().(string)
	}
}

func versionOf(body string) int {
	_, rest, _ := strings.Cut(body, "version ")
	word, _, _ := strings.Cut(rest, "<")
	if n, ok := map[string]int{"one": 1, "two": 2}[word]; ok {
		return n
	}
	var n int
	fmt.Sscanf(word, "%d", &n)
	return n
}

// OtherThanLoaded has a server load another text than the one that lies there afterwards.
func OtherThanLoaded(conf, reload string) string {
	return fmt.Sprintf("cp -p %[1]s /tmp/conf; sed -i 's/northstake [0-9a-f]\\{10,\\}/northstake 0/' %[1]s; %[2]s; sleep 1; cp -p /tmp/conf %[1]s", conf, reload)
}
