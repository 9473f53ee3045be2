package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/pflag"

	"northstake/core/declare"
	"northstake/docs/said"
)

// commandLine is a command that a page shows. Whole ones are to be typed as they stand; of
// others, in a sentence, arguments may be left out.
type commandLine struct {
	where, text string
	whole       bool
}

// shownCommands are the commands of this program on the README and the pages of docs.
func shownCommands(t *testing.T) []commandLine {
	t.Helper()
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	var out []commandLine
	for _, f := range append(files, "../../README.md") {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		fenced := false
		for i, l := range strings.Split(string(text), "\n") {
			where := fmt.Sprintf("%s:%d", filepath.Base(f), i+1)
			if strings.HasPrefix(l, "```") {
				fenced = !fenced
				continue
			}
			if whole := strings.TrimPrefix(strings.TrimSpace(l), "bin/"); (fenced || strings.HasPrefix(l, "    ")) && strings.HasPrefix(whole, "northstake ") {
				out = append(out, commandLine{where, whole, true})
				continue
			}
			for j, code := range strings.Split(l, "`") {
				if code = strings.TrimPrefix(code, "bin/"); j%2 == 1 && strings.HasPrefix(code, "northstake ") {
					out = append(out, commandLine{where, code, false})
				}
			}
		}
	}
	return out
}

// words are those of a command line, without what a shell does with the rest of it.
func words(line string) []string {
	line, _, _ = strings.Cut(line, " #")
	line = regexp.MustCompile(`"\$\([^)]*\)"`).ReplaceAllString(line, "7")
	line = regexp.MustCompile(` (\|\||>|<|&&).*`).ReplaceAllString(line, "")
	line = regexp.MustCompile(`\\\|[^ ]*`).ReplaceAllString(line, "") // of several words the first
	line = strings.NewReplacer("[", "", "]", "", `"`, "", "'", "").Replace(line)
	return strings.Fields(line)[1:]
}

// Every command that a page shows is there, and takes the options and as many arguments as
// it is given.
func TestEveryCommandOfThePagesIsThere(t *testing.T) {
	lines := shownCommands(t)
	whole := 0
	for _, l := range lines {
		args := words(l.text)
		if len(args) > 0 && args[0] == strings.ToUpper(args[0]) {
			continue // northstake COMMAND
		}
		root := command()
		root.InitDefaultHelpCmd()
		c, rest, err := root.Find(args)
		if c == root && guessedCommands(root, args[0]) != "" {
			continue // what people guess
		}
		if err != nil || c == root {
			t.Errorf("%s: %q: there is no such command", l.where, l.text)
			continue
		}
		if err := c.ParseFlags(rest); err != nil && err != pflag.ErrHelp {
			t.Errorf("%s: %q: %v", l.where, l.text, err)
			continue
		}
		given := c.Flags().Args()
		if c.HasSubCommands() && c.RunE != nil && len(given) > 0 && l.whole {
			t.Errorf("%s: %q: %s has no command %s", l.where, l.text, c.CommandPath(), given[0])
		}
		if l.whole {
			whole++
			if err := c.ValidateArgs(given); err != nil {
				t.Errorf("%s: %q: %v", l.where, l.text, err)
			}
		}
	}
	if len(lines) < 80 || whole < 30 {
		t.Errorf("the pages show %d commands, %d of them whole", len(lines), whole)
	}
}

// advised is a command in a message: up to where the sentence goes on.
var advised = regexp.MustCompile("(?:bin/)?northstake ((?:--)?[a-z][a-z-]*(?: (?:--?[a-z-]+(?:=[^ ,;:)]+)?|[A-Z%][A-Za-z%/]*|'[^']*'|[a-z]+[.][a-z_.]+|[a-z]+:[A-Z%]+|keep|list|forget|create|remove|reload|restart|upgrade|refresh-lists|reboot))*)")

// Every command that a message of the client, the service or a host advises is there, with
// its options. (What else it says is tried where it is said.)
func TestEveryAdvisedCommandIsThere(t *testing.T) {
	seen := 0
	all, err := said.Literals("../../core", "../../host", "../../service", "../../content", ".")
	if err != nil {
		t.Fatal(err)
	}
	for where, text := range all {
		for _, m := range advised.FindAllStringSubmatch(text, -1) {
			args := strings.Fields(m[1])
			root := command()
			root.InitDefaultHelpCmd()
			c, rest, err := root.Find(args)
			switch {
			case c == root && slices.Contains([]string{"is", "are", "has"}, args[0]):
				continue // of a sentence
			case err != nil || c == root:
				t.Errorf("%s advises %q, and there is no such command", where, m[0])
				continue
			}
			seen++
			if c.Name() == "help" && len(rest) > 0 && strings.Contains(rest[0], ".") && !strings.Contains(rest[0], "%") {
				if _, ok := declare.KeyCalled(rest[0]); !ok {
					t.Errorf("%s advises %q, and there is no such key", where, m[0])
				}
			}
			for i := 0; i < len(rest); i++ { // an option at the end has its value behind what was matched
				if name, is := strings.CutPrefix(rest[i], "--"); is {
					name, _, _ = strings.Cut(name, "=")
					if name != "help" && c.Flag(name) == nil && c.InheritedFlags().Lookup(name) == nil {
						t.Errorf("%s advises %q, and %s has no --%s", where, m[0], c.CommandPath(), name)
					}
				}
			}
		}
	}
	if seen < 60 {
		t.Errorf("%d commands are advised", seen)
	}
}
