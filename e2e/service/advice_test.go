package service

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"northstake/e2e/stage"
)

// leads follows the advice of a message: the command that stands in it, up to where the sentence
// goes on, is run in the directory of the declaration, and has to exit as wanted. More are
// options that a person would answer at a prompt.
func leads(g *stage.Ground, said, advice string, want int, more ...string) string {
	g.T.Helper()
	at := regexp.MustCompile(`northstake ` + advice).FindString(said)
	if at == "" {
		g.T.Errorf("nothing advises northstake %s:\n%s", advice, said)
		return ""
	}
	args := strings.Fields(at)[1:]
	out, errs, got := g.Run(append(args, more...)...)
	if got != want {
		g.T.Errorf("%s, as was advised, exits with %d, want %d:\n%s%s", at, got, want, out, errs)
	}
	return out + errs
}

// Every command that a message advises does, in the state that gave the message, what it is
// advised for: the message does not come again. (That each is there, with its options, is held
// where the commands are; resume, --dismiss and lint --rewrite by TestTwentyHosts,
// TestAStepThatCannotBeTakenBackIsDismiss and TestFormerWordsAreWrittenAnew.)
func TestAdvicesLeadOn(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	host := g.Hosts[0]
	text := func() string {
		b, err := os.ReadFile(filepath.Join(g.Dir, "ground.toml"))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(g.Dir, "ground.toml"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}

	// What stands beside the declaration.
	empty := filepath.Join(g.Dir, "empty")
	if err := os.Mkdir(empty, 0o755); err != nil {
		t.Fatal(err)
	}
	leads(g, g.Ns(2, "lint", empty), "new", 0, empty)
	g.Ns(0, "lint", empty)
	if err := os.RemoveAll(empty); err != nil {
		t.Fatal(err)
	}
	sound := text()
	write(strings.Replace(sound, "[site.timetable]\n", "[site.timetable]\npasswords = { purser = \"fair winds\" }\n", 1))
	said := g.Ns(2, "lint")
	g.Beside("password", "fair winds\n")
	hash := strings.TrimSpace(leads(g, said, "password", 0, "--file", filepath.Join(g.Dir, "password")))
	write(strings.Replace(sound, "[site.timetable]\n", "[site.timetable]\npasswords = { purser = \""+hash+"\" }\n", 1))
	g.Ns(0, "lint")
	write(strings.Replace(sound, "key_secret = \"keeper\"\n", "", 1))
	if said := g.Ns(2, "lint"); !strings.Contains(said, "northstake secret keep NAME") {
		t.Errorf("without a key lint says\n%s", said)
	}
	leads(g, g.Ns(2, "help", "no-such-word"), "help site", 0)

	// A ground that the service does not know yet, and one that is not there.
	said = g.Ns(2, "plan", "no-such-ground")
	if out := leads(g, said, "grounds", 0); out == "" {
		t.Error("without a ground the list of grounds says nothing")
	}
	write(sound)
	leads(g, said, "declare", 0, g.Dir)

	// A key that the service does not have, and a host that nobody trusts yet.
	secret := "key-of-" + g.Name
	write(strings.Replace(sound, "key_secret = \"keeper\"", "key_secret = \""+secret+"\"", 1))
	g.Ns(0, "declare")
	said = g.Ns(2, "survey")
	leads(g, said, "secret keep "+secret, 0, "--file", stage.Lab().KeyFile())
	said = g.Ns(2, "survey")
	leads(g, said, "trust "+host, 0, "--yes", "--fingerprint", g.Fingerprint(host))
	said = g.Ns(2, "show", host, "--claims")
	leads(g, said, "survey --on "+host, 1)
	g.Ns(0, "show", host, "--claims")
	leads(g, g.Ns(2, "survey", "--on", "nobody"), "hosts", 0)
	leads(g, g.Ns(2, "watch", "999999999", "--ground", g.Name), "runs "+g.Name, 0)

	// A plan, what was changed by hand, and what is declared anew.
	said = g.Ns(1, "plan")
	leads(g, said, `apply \d+`, 0, "--yes")
	g.On(host, "echo changed > /srv/www/timetable/index.html")
	said = g.Ns(1, "drift")
	leads(g, said, "restore "+g.Name, 0, "--yes")
	g.Ns(0, "drift")
	write(text() + "[host." + host + ".file.\"/srv/notice\"]\ntext = \"no ferry\\n\"\n[host." + host + ".account.harbour]\n")
	g.Ns(0, "declare")
	said = g.Ns(0, "drift")
	said = leads(g, said, "plan "+g.Name, 1)
	leads(g, said, `apply \d+`, 0, "--yes")

	// What nobody declares any more: the file goes, and the account when it is named.
	write(strings.Replace(sound, "key_secret = \"keeper\"", "key_secret = \""+secret+"\"", 1))
	g.Ns(0, "declare")
	said = g.Ns(0, "plan")
	said = leads(g, said, "plan --clear", 1)
	name := host + "/account/harbour"
	clear := leads(g, said, "plan --clear --removing "+name, 1)
	leads(g, clear, `apply \d+`, 0, "--yes", "--removing", name)
	if out := g.On(host, "ls /srv/notice 2>&1 || true; getent passwd harbour || true"); !strings.Contains(out, "No such file") || strings.Contains(out, "harbour:") {
		t.Errorf("what was to go is there:\n%s", out)
	}
	said = g.Ns(2, "plan", "--clear", "--removing", name)
	leads(g, said, "drift --on "+host, 0)

	// The journal, and leaving the host.
	said = g.Ns(2, "journal", host, "--dismiss", "999999/1", "--reason", "none")
	leads(g, said, "journal", 0, host)
	write(strings.ReplaceAll(text(), "[host."+host+"]", "[host.elsewhere]"))
	write(strings.Replace(text(), "[site.timetable]\non = [\"h*\"]", "[site.timetable]\non = [\"elsewhere\"]", 1))
	g.Ns(0, "declare")
	said = g.Ns(2, "forget", g.Name, host)
	said = leads(g, said, "retire", 0, host, "--yes")
	again := regexp.MustCompile(`--removing (\S+)`).FindStringSubmatch(said)
	if again == nil {
		t.Fatalf("it is not said how content goes:\n%s", said)
	}
	g.Ns(0, "retire", host, "--removing", again[1], "--yes")
	g.Ns(0, "forget", g.Name, host)
}
