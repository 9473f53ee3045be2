package main

import (
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/lipgloss/table"
	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
	"github.com/muesli/termenv"
	"golang.org/x/term"

	"northstake/core/form"
	"northstake/core/plan"
)

// paper is what the commands write on: with columns and a little colour on a
// terminal, plain with tabs when piped.
type paper struct {
	w        io.Writer
	terminal bool
	unicode  bool
	width    int
	style    *lipgloss.Renderer
}

func newPaper(f *os.File) *paper {
	p := &paper{w: cleaned(func() *os.File { return f }), terminal: term.IsTerminal(int(f.Fd())), width: 100, style: lipgloss.NewRenderer(f)}
	if os.Getenv("NO_COLOR") != "" || !p.terminal {
		p.style.SetColorProfile(termenv.Ascii)
	}
	if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 20 {
		p.width = w
	}
	locale := os.Getenv("LC_ALL") + os.Getenv("LC_CTYPE") + os.Getenv("LANG")
	p.unicode = strings.Contains(strings.ToLower(locale), "utf")
	return p
}

// line writes text. On a terminal its lines break between words, and go on below their own
// beginning.
func (p *paper) line(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if p.terminal {
		text = broken(text, p.width)
	}
	fmt.Fprintln(p.w, text)
}

// drawn writes what is a drawing, whose lines stay as they are.
func (p *paper) drawn(text string) { fmt.Fprintln(p.w, text) }

// beginning is what stands before the words of a line: blanks, and a number with two blanks
// behind it.
var beginning = regexp.MustCompile(`^ *(?:\d+  )?`)

// leastWords is how much room is left for the words of a line, however deep they stand.
const leastWords = 20

// broken breaks the lines of a text that are wider than a terminal, between words where it can.
func broken(text string, width int) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if ansi.StringWidth(l) <= width {
			continue
		}
		lead := len(beginning.FindString(ansi.Strip(l)))
		lead = max(0, min(lead, width-leastWords))
		words := atBlanks(ansi.Cut(l, lead, ansi.StringWidth(l)), width-lead)
		lines[i] = ansi.Cut(l, 0, lead) + strings.Join(words, "\n"+strings.Repeat(" ", lead))
	}
	return strings.Join(lines, "\n")
}

// atBlanks breaks a line at blanks alone, so that names stay whole; a word that is wider than
// all the room is broken where it ends.
func atBlanks(line string, width int) []string {
	var out []string
	now := ""
	for word := range strings.SplitSeq(line, " ") {
		switch {
		case now == "":
			now = word
		case ansi.StringWidth(now)+1+ansi.StringWidth(word) <= width:
			now += " " + word
		default:
			out, now = append(out, now), word
		}
		for ansi.StringWidth(now) > width {
			out, now = append(out, ansi.Cut(now, 0, width)), ansi.Cut(now, width, ansi.StringWidth(now))
		}
	}
	return append(out, now)
}

// Colour is kept for what needs a person.
func (p *paper) attention(s string) string {
	return painted(p.style.NewStyle().Foreground(lipgloss.AdaptiveColor{Light: "130", Dark: "215"}), s)
}

func (p *paper) alarm(s string) string {
	return painted(p.style.NewStyle().Foreground(lipgloss.AdaptiveColor{Light: "124", Dark: "210"}).Bold(true), s)
}

func (p *paper) strong(s string) string { return painted(p.style.NewStyle().Bold(true), s) }
func (p *paper) faint(s string) string  { return painted(p.style.NewStyle().Faint(true), s) }

// painted renders a text line by line: as one, its lines are filled up with blanks to
// the longest.
func painted(style lipgloss.Style, s string) string {
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		if l != "" {
			lines[i] = style.Render(l)
		}
	}
	return strings.Join(lines, "\n")
}

// stakes are the marks before the words of standings: a stake that stands
// upright, filled or hollow, leans, is hatched, or is dotted.
var stakes = map[plan.Standing]string{plan.Set: "▮", plan.Due: "▯", plan.Shifted: "▰", plan.Stray: "▨", plan.Unread: "┊"}

// standing writes a standing as its word, with its mark where the terminal can.
func (p *paper) standing(s plan.Standing) string { return p.marked(s, string(s)) }

// counted writes how many stakes stand so.
func (p *paper) counted(n int, s plan.Standing) string {
	return p.marked(s, fmt.Sprintf("%d %s", n, s))
}

func (p *paper) marked(s plan.Standing, words string) string {
	if p.terminal && p.unicode {
		words = stakes[s] + " " + words
	}
	switch s {
	case plan.Shifted, plan.Unread:
		return p.attention(words)
	case plan.Set:
		return words
	}
	return p.strong(words)
}

// list prints a table of records, or, where there are none, that this is so: beside what is
// piped, where a line is a record.
func (p *paper) list(head []string, rows [][]string, none string) {
	switch {
	case len(rows) == 0 && p.terminal:
		p.line("%s", none)
		return
	case len(rows) == 0:
		fmt.Fprintln(stderr, none)
		return
	}
	p.table(head, rows)
}

// table prints rows under a head, in columns on a terminal and with tabs when
// piped. Where the terminal is too narrow for all columns, cells break between words.
func (p *paper) table(head []string, rows [][]string) {
	for _, r := range rows {
		for i := range r {
			r[i] = aroundStyles(r[i], form.Name)
		}
	}
	if !p.terminal {
		for _, r := range rows {
			p.line("%s", strings.Join(r, "\t"))
		}
		return
	}
	cell := p.style.NewStyle().PaddingRight(2)
	t := table.New().Headers(head...).Rows(rows...).Wrap(true).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).BorderRow(false).BorderHeader(false).
		StyleFunc(func(row, _ int) lipgloss.Style {
			if row == table.HeaderRow {
				return cell.Faint(true)
			}
			return cell
		})
	drawn := t.String()
	if lipgloss.Width(drawn) > p.width+2 {
		drawn = t.Width(p.width).String()
	}
	for _, l := range strings.Split(drawn, "\n") {
		p.line("%s", strings.TrimRight(l, " "))
	}
}

// rule is the ruled line above a host's part of a page.
func (p *paper) rule(left, right string) {
	if !p.terminal {
		p.line("%s\t%s", left, right)
		return
	}
	n := min(p.width, 100) - ansi.StringWidth(left) - ansi.StringWidth(right) - 2
	mark := "-"
	if p.unicode {
		mark = "─"
	}
	p.line("%s %s %s", p.strong(left), p.faint(strings.Repeat(mark, max(n, 2))), right)
}

// ages are how an age is written, up to each.
var ages = []humanize.RelTimeMagnitude{
	{D: 90 * time.Second, Format: "%d s %s", DivBy: time.Second},
	{D: 90 * time.Minute, Format: "%d min %s", DivBy: time.Minute},
	{D: 36 * time.Hour, Format: "%d h %s", DivBy: time.Hour},
}

// ago writes how long ago something was, for people.
func ago(t time.Time) string {
	now := time.Now()
	switch {
	case t.IsZero():
		return "never"
	case now.Sub(t) >= ages[len(ages)-1].D:
		return t.Format("2006-01-02 15:04 UTC")
	case t.After(now):
		t = now // the clocks differ by a moment
	}
	return humanize.CustomRelTime(t, now, "ago", "ago", ages)
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
