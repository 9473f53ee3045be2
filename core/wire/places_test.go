package wire

import (
	"encoding/json"
	"math/rand"
	"reflect"
	"testing"
	"time"
)

// Places come back as they were, from what is written now and from what former releases wrote,
// whatever the files are called.
func TestPlacesComeBack(t *testing.T) {
	seed := time.Now().UnixNano()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewSource(seed))
	files := []string{"", "ground.toml", "a b.toml", "what bin/hosts prints", "\"", "né\n1 2.toml", " 3 4"}
	for range 500 {
		var all []Position
		for range r.Intn(30) {
			if len(all) > 0 && r.Intn(2) == 0 {
				all = append(all, all[len(all)-1])
				continue
			}
			all = append(all, Position{File: files[r.Intn(len(files))], Line: r.Intn(4), Column: r.Intn(3)})
		}
		for _, written := range []any{PlacesOf(all), all} {
			var back Places
			b, err := json.Marshal(written)
			if err == nil {
				err = json.Unmarshal(b, &back)
			}
			if got := back.All(); err != nil || len(got) != len(all) || len(all) > 0 && !reflect.DeepEqual(got, all) {
				t.Fatalf("%s comes back as %v, %v", b, got, err)
			}
		}
	}
}
