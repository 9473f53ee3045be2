package kinds

import (
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"northstake/core/wire"
)

// What is worked out for a host holds until one of those traits changes that the wanting of stakes looks
// at: all that it does look at count.
func TestAllThatDecidesIsInOneWord(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	files = append(files, "../wanting.go")
	looked := map[string]bool{}
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile(`\bw\.Traits\.(\w+)`).FindAllStringSubmatch(string(text), -1) {
			looked[m[1]] = true
		}
	}
	if len(looked) < 5 {
		t.Fatalf("only %v are looked at", looked)
	}
	for name := range looked {
		var other wire.Traits
		if name == "SSHTakesIn" {
			name = "SSHServer" // by which that is told
		}
		switch f := reflect.ValueOf(&other).Elem().FieldByName(name); f.Kind() {
		case reflect.String:
			f.SetString("other")
		case reflect.Bool:
			f.SetBool(true)
		case reflect.Int:
			f.SetInt(7)
		case reflect.Pointer:
			other.SSHServer = &wire.SSHServer{Service: "sshd"}
		case reflect.Slice:
			other.WebServers = []wire.WebServer{{Name: "httpd", Listens: []wire.ListenLine{{Port: 80, File: "/etc/httpd.conf"}}}}
		default:
			t.Fatalf("no value is known for %s", name)
		}
		if other.Deciding() == (wire.Traits{}).Deciding() {
			t.Errorf("%s is looked at, and is not among what decides", name)
		}
	}
	one, none, unknown := wire.Traits{WebServers: []wire.WebServer{{Name: "httpd", Listens: []wire.ListenLine{{Port: 80, File: "/a"}}}}}, wire.Traits{WebServers: []wire.WebServer{{Name: "httpd", Listens: []wire.ListenLine{}}}}, wire.Traits{WebServers: []wire.WebServer{{Name: "httpd"}}}
	if one.Deciding() == none.Deciding() || none.Deciding() == unknown.Deciding() {
		t.Error("where a server listens is not among what decides")
	}
}
