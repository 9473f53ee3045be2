package kinds

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// TextFile says what a file should hold, and how it should be. Text, From and
// Template are three ways to give its text; From may hold any bytes.
type TextFile struct {
	Is       string   `toml:"is" json:"is,omitempty" enum:"there,gone" default:"there" example:"\"gone\""`
	Text     *string  `toml:"text" json:"text,omitempty" example:"\"Kept by North Stake.\\n\""`
	From     string   `toml:"from" json:"from,omitempty" example:"\"files/motd\""`
	Template string   `toml:"template" json:"template,omitempty" example:"\"files/motd.tmpl\""`
	Owner    string   `toml:"owner" json:"owner,omitempty" default:"root" example:"\"root\""`
	Group    string   `toml:"group" json:"group,omitempty" default:"the owner's name" example:"\"root\""`
	Mode     string   `toml:"mode" json:"mode,omitempty" default:"0644" example:"\"0640\""`
	Portion  string   `toml:"portion" json:"portion,omitempty" default:"the whole file is declared" example:"\"tides\""`
	Comment  string   `toml:"comment" json:"comment,omitempty" enum:"#,;,//,--,%" default:"#" example:"\";\""`
	Reload   []string `toml:"reload" json:"reload,omitempty" example:"[\"nginx\"]"`
	Restart  []string `toml:"restart" json:"restart,omitempty" example:"[\"cron\"]"`
}

var _ = declare.Explain[TextFile](map[string]string{
	"is":       "Whether it is there, with its text, or gone: a file or link of somebody's that is not to be there is taken away.",
	"text":     "The text itself.",
	"from":     "File beside the declaration that it is a copy of: text, or any bytes, 1 MB at most.",
	"template": "File beside the declaration whose text takes givens, hosts and sites, in the form of Go's text/template.",
	"owner":    "User that owns it.",
	"group":    "Group of it.",
	"mode":     "Mode in octal.",
	"portion":  "Name of a portion of the file: only the lines between North Stake's own marker lines are declared, and the rest of the file belongs to others.",
	"comment":  "What begins a comment line in the file, for the markers of a portion.",
	"reload":   "Services that reload when the file changes, once, at the end. With neither this nor restart, the SSH server takes in its own files; [] is for none.",
	"restart":  "Services that restart when the file changes, once, at the end.",
})

// TextFiles are the files beside the declaration that its text is made from.
func (f *TextFile) TextFiles() []string { return []string{f.From, f.Template} }

// TextOf is the text of a declared file for one host. The error of a template is a
// *declare.TextError.
func TextOf(d *declare.Declaration, f *TextFile, host string) (string, error) {
	switch {
	case f.Is == "gone":
		return "", nil
	case f.Text != nil:
		return *f.Text, nil
	case f.From != "":
		return d.TextBeside(f.From)
	}
	text, err := d.TextBeside(f.Template)
	if err != nil {
		return "", err
	}
	return d.Fill(f.Template, text, host)
}

var _ = stake.Register(stake.Kind{
	Type:       "file",
	After:      []string{"content"},
	Former:     func(want map[string]json.RawMessage) { renamed(want, "block", "portion") },
	Rehearsal:  "file.\"/etc/harbour/tide.conf\" = { text = \"tide = ebb\\n\" }",
	Settings:   []declare.Setting{declare.Table[TextFile]("file", "PATH", "Files, by absolute path.", `{ "/etc/motd" = { template = "files/motd.tmpl" } }`)},
	Check:      checkFiles,
	CheckPlace: checkTemplates,
	Wanted: func(w *stake.Wanting) error {
		for _, f := range declare.Nearest[TextFile](w.D, w.Place, "file") {
			want, err := wantedFile(w, f)
			if err != nil {
				return err
			}
			w.Want(stake.Stake{Type: "file", Name: f.Name, From: f.From, Want: wire.JSON(want)})
		}
		return nil
	},
	Implied: func(w *stake.Wanting) error {
		for _, f := range declare.Nearest[TextFile](w.D, w.Place, "file") {
			reload, restart := f.Value.takenIn(wire.Path(f.Name), w.Traits)
			for _, service := range append(slices.Clone(reload), restart...) {
				wantService(w, service, nil, nil, f.From)
			}
		}
		return nil
	},
	Claims: stake.Claiming(func(w wire.FileWant) []claim.Claim {
		out := []claim.Claim{{Need: claim.Owns, Sort: claim.Path, What: string(w.Path)}}
		out = append(out, claim.Owner(w.Owners)...)
		for _, s := range append(slices.Clone(w.Reload), w.Restart...) {
			out = append(out, claim.Claim{Need: claim.Requires, Sort: claim.Service, What: s})
		}
		return out
	}),
})

// takenIn are the services that reload or restart when the file at a path changes: those that are named,
// or the SSH server where none is.
func (f *TextFile) takenIn(path wire.Path, t wire.Traits) (reload, restart []string) {
	if f.Reload != nil || f.Restart != nil {
		return f.Reload, f.Restart
	}
	return t.SSHTakesIn(path)
}

func wantedFile(w *stake.Wanting, f declare.For[*TextFile]) (wire.FileWant, error) {
	text, err := TextOf(w.D, f.Value, w.Place)
	if err != nil {
		return wire.FileWant{}, fmt.Errorf("%s:%d: file %s on host %s: %w", f.From.File, f.From.Line, f.Name, w.Place, err)
	}
	want := wire.FileWant{Path: wire.Path(f.Name), Text: text, Owners: wire.Owners{Owner: f.Value.Owner, Group: f.Value.Group}, Portion: f.Value.Portion, Comment: f.Value.Comment}
	want.Reload, want.Restart = f.Value.takenIn(want.Path, w.Traits)
	if f.Value.Is == "gone" {
		want.Gone = true
		return want, nil
	}
	if !utf8.ValidString(text) {
		want.Text, want.Data = "", []byte(text)
	}
	if want.Portion == "" {
		want.Owners = owners(want.Owner, want.Group)
		want.Mode = mode(f.Value.Mode, "0644")
		return want, nil
	}
	want.Mode = mode(f.Value.Mode, "")
	want.Comment = cmp.Or(want.Comment, "#")
	if want.Marks(want.Text) {
		return want, fmt.Errorf("%s:%d: file %s on host %s: the text of portion %s holds a line that marks where the portion ends; take that line out", f.From.File, f.From.Line, f.Name, w.Place, want.Portion)
	}
	if want.Text != "" && want.Text[len(want.Text)-1] != '\n' {
		want.Text += "\n" // a portion is made of whole lines
	}
	return want, nil
}

func checkFiles(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*TextFile](s, "file")
	for _, p := range stake.SortedKeys(list) {
		if c.Place(p, check.At(at, "file", p)) {
			checkFile(c, list[p], check.At(at, "file", p))
		}
	}
}

func checkFile(c *check.Checker, f *TextFile, at []string) {
	if !fileText(c, f, at) {
		return
	}
	c.OwnerAndMode(f.Owner, f.Group, f.Mode, at)
	filePortion(c, f, at)
	for key, list := range map[string][]string{"reload": f.Reload, "restart": f.Restart} {
		for i, s := range list {
			if !form.Service.MatchString(s) || strings.HasSuffix(s, ".service") {
				c.Say(check.At(at, key, fmt.Sprint(i)), fmt.Sprintf("%q is not a service name", s), "use the unit's name without .service")
			}
		}
	}
	if f.Text != nil && len(*f.Text) > check.TextLimit {
		c.Say(check.At(at, "text"), fmt.Sprintf("the text is longer than %d KB", check.TextLimit>>10), "publish large files as content")
	}
	for key, p := range map[string]string{"from": f.From, "template": f.Template} {
		switch {
		case p == "":
		case key == "from" && f.Portion == "":
			c.BesideAsItIs(p, check.At(at, key))
		default:
			c.Beside(p, check.At(at, key))
		}
	}
}

// fileText checks where a file's text comes from; false says that it comes from nowhere, or from two places.
func fileText(c *check.Checker, f *TextFile, at []string) bool {
	if f.Is == "gone" {
		for _, key := range []string{"text", "from", "template", "owner", "group", "mode", "portion", "comment"} {
			if here := check.At(at, key); c.Written(here...) {
				c.Say(here, "a file that is gone has no "+key, "take "+key+" out, or is = \"gone\"")
			}
		}
		return true
	}
	ways := 0
	for _, given := range []bool{f.Text != nil, f.From != "", f.Template != ""} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		c.Say(at, "a file takes its text in one way", "give it one of text = \"…\", from = \"FILE\" and template = \"FILE\"")
	}
	return ways == 1
}

// filePortion checks what is said of a file of which a portion is declared.
func filePortion(c *check.Checker, f *TextFile, at []string) {
	if f.Portion == "" {
		if f.Comment != "" {
			c.Say(check.At(at, "comment"), "a comment sign is for the lines around a portion", "add portion = \"NAME\", or take comment out")
		}
		return
	}
	if !form.PlainName.MatchString(f.Portion) {
		c.Say(check.At(at, "portion"), fmt.Sprintf("portion name %q has characters it cannot have", f.Portion), "use lower-case letters, digits and hyphens")
	}
	if portion := (wire.FileWant{Portion: f.Portion, Comment: cmp.Or(f.Comment, "#")}); f.Text != nil && portion.Marks(*f.Text) {
		c.Say(check.At(at, "text"), "the text of a portion holds a line that marks where the portion ends", "take that line out")
	}
}

// checkTemplates makes the text of every declared file that a host gets, and reports
// what a template lacks, once for each place.
func checkTemplates(c *check.Checker, host string) {
	for _, f := range declare.Nearest[TextFile](c.D, host, "file") {
		if f.Value.Template == "" || !c.D.AtHand(f.Value.Template) {
			continue
		}
		_, err := TextOf(c.D, f.Value, host)
		var e *declare.TextError
		if !errors.As(err, &e) || slices.ContainsFunc(c.Problems, func(p declare.Problem) bool { return p.Position == e.Position }) {
			continue
		}
		p := c.D.ProblemAt(e.Position, e.What, fmt.Sprintf("it is the template of %s on host %s (%s:%d)", f.Name, host, f.From.File, f.From.Line))
		text, _ := c.D.TextBeside(f.Value.Template)
		if lines := strings.Split(text, "\n"); e.Line <= len(lines) {
			p.Text, p.Width = lines[e.Line-1], 1
		}
		c.Problems = append(c.Problems, p)
	}
}
