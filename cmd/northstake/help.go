package main

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"

	"northstake/core/declare"
	"northstake/core/trade"
	"northstake/host/family/meaning"
)

func helpCommand(a *app) *cobra.Command {
	var markdown bool
	cmd := &cobra.Command{
		Use: "help [COMMAND | KEY]", Short: "Say what a command or a key means",
		RunE: func(cmd *cobra.Command, args []string) error {
			root := cmd.Root()
			if markdown {
				a.out.line("%s", strings.TrimSuffix(keysDocument(), "\n"))
				return nil
			}
			if len(args) == 0 {
				return root.Help()
			}
			if c, rest, err := root.Find(args); err == nil && len(rest) == 0 && c != root {
				return c.Help()
			}
			word := strings.Join(args, ".")
			keys, like := meaning.Keys(word)
			guessed := guessedKeys(word)
			if len(guessed) > 0 && !a.json {
				a.sayGuesses(word, guessed, len(keys) > 0)
			}
			if len(keys) == 0 {
				keys = guessed
			}
			if len(keys) == 0 {
				if commands := guessedCommands(root, word); commands != "" {
					return fmt.Errorf("%q is no command and no key\n  %s", word, commands)
				}
				if say := guessedOtherwise(word); say != "" {
					return fmt.Errorf("no key of a declaration is called %q\n  %s", word, say)
				}
				return noSuchKey(word, like)
			}
			if done, err := a.print(keys); done {
				return err
			}
			if len(keys) > 3 {
				a.listKeys(keys)
				return nil
			}
			for i, k := range keys {
				if i > 0 {
					a.out.line("")
				}
				a.showKey(k)
			}
			return nil
		},
	}
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return helpWords(cmd.Root()), cobra.ShellCompDirectiveNoFileComp
	}
	cmd.Flags().BoolVar(&markdown, "document", false, "print every key, as the document docs/keys.md")
	if err := cmd.Flags().MarkHidden("document"); err != nil {
		panic(err) // the flag is made in the line above
	}
	return cmd
}

// helpWords are what help says the meaning of, for a shell to complete: commands, and
// keys without what people choose, each with its meaning.
func helpWords(root *cobra.Command) []string {
	var out []string
	for _, c := range root.Commands() {
		if c.IsAvailableCommand() {
			out = append(out, c.Name()+"\t"+c.Short)
		}
	}
	seen := map[string]bool{}
	for _, k := range declare.Keys() {
		name := declare.WithoutChosen(k.Name)
		if rest, ok := strings.CutPrefix(name, "kit."); ok && !strings.HasPrefix(rest, "site") {
			continue // a host takes every key of a kit
		}
		if !seen[name] {
			seen[name] = true
			out = append(out, name+"\t"+k.About)
		}
	}
	return out
}

// guessedKeys are the keys that a trade word means, with or without a table before it.
func guessedKeys(word string) []declare.Key {
	var out []declare.Key
	table, last, nested := cutLast(word, ".")
	if !nested {
		last = word
	}
	for _, g := range trade.GuessedAnywhere(last) {
		below := func(in string) bool {
			return in == trade.TableOf(table) || strings.HasSuffix(in, "."+trade.TableOf(table))
		}
		if nested && !slices.ContainsFunc(g.In, below) {
			continue
		}
		if k, ok := declare.KeyCalled(g.Key); ok && !slices.ContainsFunc(out, func(o declare.Key) bool { return o.Word == k.Word && o.Type == k.Type }) {
			out = append(out, k)
		}
	}
	return out
}

// sayGuesses says what a trade word is called here, and where: elsewhere, where it is a key itself.
func (a *app) sayGuesses(word string, keys []declare.Key, elsewhere bool) {
	var said []string
	for _, k := range keys {
		where := cmp.Or(k.Table, "a declaration")
		said = append(said, fmt.Sprintf("%s in %s", k.Word, where))
	}
	if elsewhere {
		word = "elsewhere " + word
	}
	a.out.line("%s is called %s", word, strings.Join(said, "; "))
}

// guessedOtherwise is what to do where a trade word means no key.
func guessedOtherwise(word string) string {
	for _, g := range trade.GuessedAnywhere(word) {
		if g.Key == "" {
			return g.Say
		}
	}
	return ""
}

// noSuchKey says that nothing is called so, and what is nearest.
func noSuchKey(word, like string) error {
	table, _, ok := cutLast(word, ".")
	what, fix := "no command and no key of a declaration is called %q", "northstake help lists the commands, and northstake help site the keys of a site"
	if above, _ := declare.FindKeys(table); ok && len(above) > 0 {
		what, fix = "no key of a declaration is called %q", fmt.Sprintf("northstake help %s lists the keys that there are", table)
	}
	if like != "" {
		fix = fmt.Sprintf("did you mean %q?", like)
	}
	return fmt.Errorf(what+"\n  %s", word, fix)
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

// listKeys prints a line for each key.
func (a *app) listKeys(keys []declare.Key) {
	var rows [][]string
	for _, k := range keys {
		about := k.About
		if k.Required {
			about += " Required."
		}
		rows = append(rows, []string{k.Name, about})
	}
	a.out.table([]string{"key", "meaning"}, rows)
	a.out.line("%s", a.out.faint("northstake help KEY says more of one"))
}

// showKey prints all there is to say about a key.
func (a *app) showKey(k declare.Key) {
	a.out.rule(k.Word, k.Table)
	a.out.line("%s", k.About)
	rows := [][]string{{"holds", k.Holds}}
	if len(k.Values) > 0 {
		rows[0][1] += ": " + strings.Join(k.Values, ", ")
	}
	switch {
	case k.Required:
		rows = append(rows, []string{"left out", "it has to be there"})
	case k.Default != "":
		rows = append(rows, []string{"left out", k.Default})
	}
	for _, f := range slices.Sorted(maps.Keys(k.Families)) {
		rows = append(rows, []string{"on " + f, k.Families[f]})
	}
	if k.Example != "" {
		rows = append(rows, []string{"example", exampleTable(k)}, []string{"", k.Word + " = " + k.Example})
	}
	a.out.table([]string{"", ""}, rows)
}

// exampleTable is the table of a key with names as people choose them.
func exampleTable(k declare.Key) string {
	parts := strings.Split(strings.Trim(k.Table, "[]"), ".")
	for i, p := range parts {
		switch p {
		case "NAME":
			parts[i] = nameFor(parts[i-1])
		case "PATH":
			parts[i] = `"/etc/tides"`
		case "PORT":
			parts[i] = `"5432/tcp"`
		case "URL":
			parts[i] = `"/freight"`
		}
	}
	table := "[" + strings.Join(parts, ".") + "]"
	if parts[len(parts)-1] == "probe" {
		table = "[" + table + "]"
	}
	return table
}

// nameFor is a name as people choose it for a table: the one in its own example.
func nameFor(table string) string {
	for _, s := range declare.AllSettings() {
		if s.Key != table {
			continue
		}
		var v map[string]map[string]any
		if toml.Unmarshal([]byte("it = "+s.Example), &v) == nil {
			for name := range v["it"] {
				return name
			}
		}
	}
	return map[string]string{"kit": "base", "host": "quay1", "site": "timetable"}[table]
}

// keysDocument is docs/keys.md.
func keysDocument() string {
	var b strings.Builder
	b.WriteString("# Every key of a declaration\n\nCapitals stand for what you choose. `northstake help KEY` says the same at the prompt, and editors\nshow it from the JSON Schema. This page is made by `make generate`.\n")
	keys, _ := meaning.Keys("")
	kit := map[string]bool{}
	var tables []string
	rows := map[string][]declare.Key{}
	for _, k := range keys {
		if rest, ok := strings.CutPrefix(k.Name, "kit.NAME."); ok {
			kit[rest] = true
		}
		if rest, ok := strings.CutPrefix(k.Name, "host.NAME."); ok && kit[rest] || k.Table == "" {
			continue // a host takes every key of a kit
		}
		if rows[k.Table] == nil {
			tables = append(tables, k.Table)
		}
		rows[k.Table] = append(rows[k.Table], k)
	}
	for _, table := range tables {
		fmt.Fprintf(&b, "\n## `%s`\n\n", table)
		if table == "[host.NAME]" {
			b.WriteString("A host takes every key of `[kit.NAME]`, and these.\n\n")
		}
		b.WriteString("| key | meaning | left out | example |\n|---|---|---|---|\n")
		for _, k := range rows[table] {
			fmt.Fprintf(&b, "| `%s` | %s | %s | `%s` |\n", k.Word, cell(k.About+valuesOf(k)+familiesOf(k)), cell(leftOut(k)), cell(k.Example))
		}
	}
	return b.String()
}

func cell(s string) string { return strings.ReplaceAll(s, "|", `\|`) }

func leftOut(k declare.Key) string {
	if k.Required {
		return "required"
	}
	return k.Default
}

func valuesOf(k declare.Key) string {
	if len(k.Values) == 0 {
		return ""
	}
	return " One of `" + strings.Join(k.Values, "`, `") + "`."
}

func familiesOf(k declare.Key) string {
	var out string
	for _, f := range slices.Sorted(maps.Keys(k.Families)) {
		out += fmt.Sprintf(" On %s: %s.", f, k.Families[f])
	}
	return out
}
