package main

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/charmbracelet/lipgloss"
	"github.com/muesli/termenv"

	"northstake/core/form"
	"northstake/core/plan"
)

const hostile = "tide\x1b[2J\x1b]52;c;aGFyYm91cg==\a\u202etxt.html\rall is well\u009b1A"

// Whatever a host has called its files, nothing of it does anything where it is printed: in words, as
// JSON, and in an error (X3, B11).
func TestWhatHostsSayIsOnlyShown(t *testing.T) {
	survey := map[string]any{"id": 7, "state": "done", "revision": 1, "created_at": "2026-11-30T00:00:00Z", "hosts": []any{
		map[string]any{"host": "quay1", "took_ms": 1, "counts": map[string]int{"stray": 1, "shifted": 1}, "rows": []any{
			map[string]any{"address": "quay1/content/srv/www:" + hostile, "name": "content/srv/www:" + hostile, "standing": "stray", "reason": "nobody declared " + hostile},
			map[string]any{"address": "quay1/file/etc/motd", "name": "file/etc/motd", "standing": "shifted", "differences": []any{map[string]string{"attribute": "text", "wanted": "ebb", "found": hostile}}},
		}},
		map[string]any{"host": "quay2", "took_ms": 1, "counts": map[string]int{}, "rows": []any{}, "unread": "it says " + hostile},
	}}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch {
		case strings.HasSuffix(r.URL.Path, "/events"):
			w.Header().Set("Content-Type", "text/event-stream")
			w.Write([]byte("id: 1\nevent: end\ndata: {\"state\":\"done\"}\n\n"))
		case strings.HasSuffix(r.URL.Path, "/surveys"):
			w.WriteHeader(http.StatusAccepted)
			w.Write([]byte(`{"id":7,"state":"queued","revision":1,"created_at":"2026-11-30T00:00:00Z","hosts":[]}`))
		case strings.HasSuffix(r.URL.Path, "/surveys/7"):
			json.NewEncoder(w).Encode(survey)
		default:
			w.WriteHeader(http.StatusConflict)
			json.NewEncoder(w).Encode(map[string]any{"title": hostile, "fix": hostile, "status": 409})
		}
	}))
	defer service.Close()
	t.Setenv("HOME", t.TempDir())
	token := t.TempDir() + "/token"
	if err := os.WriteFile(token, []byte("ns_x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"drift", "saltmarsh"}, {"survey", "saltmarsh"}, {"drift", "saltmarsh", "--json"}, {"plan", "saltmarsh"}} {
		out, _ := northstake(t, append(args, "--server", service.URL, "--token-file", token)...)
		if i := strings.IndexFunc(out, func(r rune) bool { return r != '\n' && r != '\t' && form.Hidden(r) }); i >= 0 {
			t.Errorf("%v prints %q", args, out[max(0, i-20):i+10])
		}
		if !strings.Contains(out, `\u202etxt.html`) || !strings.Contains(out, `\u001b[2J`) {
			t.Errorf("%v does not say what it is called:\n%s", args, out)
		}
		if args[len(args)-1] == "--json" {
			var back struct{ Hosts []struct{ Unread string } }
			if err := json.Unmarshal([]byte(out), &back); err != nil || back.Hosts[1].Unread != "it says "+hostile {
				t.Errorf("as JSON it says %q, %v", back, err)
			}
		}
	}
}

// On a terminal the styles of paper come through, and nothing else that begins with an escape.
func FuzzStyledText(f *testing.F) {
	f.Add("a \x1b[1mstrong\x1b[0m word, \x1b[1;38;5;210malarm\x1b[0m and \x1b[38;5;215mattention\x1b[0m, \x1b[2mfaint\x1b[0m")
	f.Add(hostile + "\x1b[8mhidden\x1b[38;5;16mblack\x1b[")
	f.Fuzz(func(t *testing.T, text string) {
		out := styles.ReplaceAllString(aroundStyles(text, form.Shown), "")
		if i := strings.IndexFunc(out, func(r rune) bool { return r != '\n' && r != '\t' && form.Hidden(r) }); i >= 0 {
			t.Fatalf("%q comes through as %q", text, out)
		}
	})
}

// In a table on a terminal the styles of cells are styles, and what a host has called its files stays in
// its cell and does nothing.
func TestCellsKeepTheirStyles(t *testing.T) {
	var out strings.Builder
	p := &paper{w: &out, terminal: true, unicode: true, width: 200, style: lipgloss.NewRenderer(&out)}
	p.style.SetColorProfile(termenv.ANSI256)
	p.table([]string{"standing", "file"}, [][]string{{p.standing(plan.Shifted), "ebb\n" + hostile}, {p.alarm("lost"), p.strong("tide")}})
	for _, want := range []string{p.standing(plan.Shifted), p.alarm("lost"), p.strong("tide"), `ebb\ntide\u001b[2J`} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("the table does not hold %q:\n%q", want, out.String())
		}
	}
	plain := styles.ReplaceAllString(out.String(), "")
	if i := strings.IndexFunc(plain, func(r rune) bool { return r != '\n' && form.Hidden(r) }); i >= 0 || strings.Contains(plain, `\u001b[3`) || strings.Contains(plain, `\u001b[9`) || strings.Contains(plain, `\u001b[1m`) {
		t.Errorf("a style is written out, or something else is not: %q", plain)
	}
}
