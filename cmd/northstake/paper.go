package main

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/mattn/go-runewidth"
	"github.com/muesli/termenv"
	"golang.org/x/term"

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
	p := &paper{w: f, terminal: term.IsTerminal(int(f.Fd())), width: 100, style: lipgloss.NewRenderer(f)}
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

func (p *paper) line(format string, args ...any) { fmt.Fprintf(p.w, format+"\n", args...) }

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

// table prints rows under a head, in columns on a terminal and with tabs when
// piped. The last column may be as long as it likes.
func (p *paper) table(head []string, rows [][]string) {
	if !p.terminal {
		for _, r := range rows {
			p.line("%s", strings.Join(r, "\t"))
		}
		return
	}
	width := make([]int, len(head))
	for _, r := range append([][]string{head}, rows...) {
		for i, c := range r {
			width[i] = max(width[i], visible(c))
		}
	}
	write := func(r []string, dress func(string) string) {
		var b strings.Builder
		for i, c := range r {
			if i == len(r)-1 {
				b.WriteString(dress(c))
				break
			}
			b.WriteString(dress(c) + strings.Repeat(" ", width[i]-visible(c)+2))
		}
		p.line("%s", strings.TrimRight(b.String(), " "))
	}
	write(head, p.faint)
	for _, r := range rows {
		write(r, func(s string) string { return s })
	}
}

func visible(s string) int { return runewidth.StringWidth(stripStyle(s)) }

func stripStyle(s string) string {
	var b strings.Builder
	for {
		i := strings.Index(s, "\x1b[")
		if i < 0 {
			return b.String() + s
		}
		b.WriteString(s[:i])
		j := strings.IndexByte(s[i:], 'm')
		if j < 0 {
			return b.String()
		}
		s = s[i+j+1:]
	}
}

// rule is the ruled line above a host's part of a page.
func (p *paper) rule(left, right string) {
	if !p.terminal {
		p.line("%s\t%s", left, right)
		return
	}
	n := min(p.width, 100) - visible(left) - visible(right) - 2
	mark := "-"
	if p.unicode {
		mark = "─"
	}
	p.line("%s %s %s", p.strong(left), p.faint(strings.Repeat(mark, max(n, 2))), right)
}

// ago writes how long ago something was, for people.
func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case t.IsZero():
		return "never"
	case d < 90*time.Second:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < 90*time.Minute:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 36*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Format("2006-01-02 15:04 UTC")
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
