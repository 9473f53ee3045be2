package plan

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"

	"northstake/core/stake"
	"northstake/core/wire"
)

// What releases before kept is read, and what is kept now comes back as it is.
func TestRecordsOfBeforeAreRead(t *testing.T) {
	row := Row{Address: "quay1/package/nginx", Type: "package", Name: "nginx", Standing: Shifted, Differences: []wire.Difference{{Attribute: "version", Wanted: "1", Found: "2"}}, SetAt: time.Unix(1, 0).UTC()}
	step := wire.Step{Number: 3, Place: "quay1", Address: "quay1/content/srv/www", Also: []string{"quay1/x/y"}, Type: "content", Name: "/srv/www", Move: wire.Move{Verb: "publish", Text: "publish it", Work: json.RawMessage(`{"root":"/srv/www"}`)}}
	note := stake.Note{Address: "quay1/port/80-tcp", What: "taken", Fix: "stop it"}
	host := Place{Name: "quay1", Rows: []Row{row}, Steps: []wire.Step{step}, Blockers: []stake.Note{note}, Left: []Left{{"quay1/site/a", "a", "quay1/port/80-tcp"}}, NotRead: []Unreadable{{"quay1/image/x", "no engine"}}}
	now, err := json.Marshal(host)
	if err != nil || strings.Contains(string(now), `"address"`) {
		t.Errorf("it is kept as %s, %v", now, err)
	}
	before := strings.NewReplacer(`"name":"quay1/package/nginx"`, `"address":"quay1/package/nginx"`, `"subject":"nginx"`, `"name":"nginx"`,
		`"name":"quay1/content/srv/www"`, `"address":"quay1/content/srv/www"`, `"subject":"/srv/www"`, `"name":"/srv/www"`,
		`"name":"quay1/port/80-tcp"`, `"address":"quay1/port/80-tcp"`, `"name":"quay1/site/a"`, `"address":"quay1/site/a"`, `"name":"quay1/image/x"`, `"address":"quay1/image/x"`).Replace(string(now))
	if strings.Count(before, `"address"`) != 5 {
		t.Fatalf("as it was kept before: %s", before)
	}
	for what, text := range map[string]string{"now": string(now), "before": before} {
		var got Place
		if err := json.Unmarshal([]byte(text), &got); err != nil || !reflect.DeepEqual(got, host) {
			t.Errorf("%s is read as\n%+v, %v", what, got, err)
		}
	}
}

// What releases before remember of content, portions and links is what is wanted of them today (V5).
func TestWhatWasAppliedBeforeIsRead(t *testing.T) {
	for what, c := range map[string]struct{ before, now string }{
		"site": {`{"file":"/etc/nginx/a","listen":[80,8080],"visit":{"path":"/m","names":["a.test"],"at":[{"port":80},{"address":"10.0.0.9","port":8080}]}}`,
			`{"file":"/etc/nginx/a","listen":[{"port":80},{"port":8080,"address":"10.0.0.9"}],"visit":{"path":"/m","names":["a.test"]}}`},
		"site that nobody visits": {`{"listen":[8080],"ask_at":"10.0.0.9"}`, `{"listen":[{"port":8080,"address":"10.0.0.9"}]}`},
		"content": {`{"root":"/srv/www","owner":"root","group":"root","file_mode":"0640","dir_mode":"0750","files":[{"path":"index.html","size":3}],"exact":true}`,
			`{"root":"/srv/www","owner":"root","group":"root","modes":{"files":"0640","directories":"0750"},"files":[{"path":"index.html","size":3}],"rest":"removed"}`},
		"file": {`{"path":"/etc/hosts","text":"10.0.0.9 pier\n","block":"pier","comment":"#"}`, `{"path":"/etc/hosts","text":"10.0.0.9 pier\n","portion":"pier","comment":"#"}`},
		"link": {`{"path":"/srv/now","to":"/srv/tides"}`, `{"path":"/srv/now","points_to":"/srv/tides"}`},
		"port": {`{"port":80,"protocol":"tcp"}`, `{"port":80,"protocol":"tcp"}`},
	} {
		typ, _, _ := strings.Cut(what, " ")
		var got Applied
		if err := json.Unmarshal([]byte(`{"type":"`+typ+`","name":"x","want":`+c.before+`,"found":{},"revision":3,"set_at":"2026-11-01T00:00:00Z"}`), &got); err != nil {
			t.Fatal(err)
		}
		if !Same(got.Want, json.RawMessage(c.now)) || got.Revision != 3 {
			t.Errorf("%s is read as %s, not as %s", what, got.Want, c.now)
		}
		again, err := json.Marshal(got)
		var twice Applied
		if err != nil || json.Unmarshal(again, &twice) != nil || !Same(twice.Want, got.Want) {
			t.Errorf("%s, kept again, is %s, %v", what, again, err)
		}
	}
}
