// Package report turns data into text and JSON.
//
// It computes nothing that the core knows and asks no clock: times are given to it.
package report

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"

	"imbricat/internal/content/layer"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/phrase"
)

// Paint colours text, or leaves it alone.
type Paint struct {
	On    bool
	Whole bool // digests are written out where people compare them
	// Columns is how wide the terminal is that it goes to; 0: it goes elsewhere, and lines are as long as they are.
	Columns int
}

// Fit breaks lines that are too long for the terminal between words, and sets what follows in, so that nothing begins where a line of its
// own would.
func (p Paint) Fit(text string) string {
	const in, least, dash = "    ", 30, "\u2011" // at which nothing breaks: options begin with dashes
	if p.Columns < least {
		return text
	}
	lines := strings.Split(text, "\n")
	for n, line := range lines {
		if ansi.StringWidth(line) <= p.Columns {
			continue
		}
		body := strings.TrimLeft(line, " ")
		lead := line[:len(line)-len(body)]
		wrapped := ansi.Wrap(strings.ReplaceAll(body, "-", dash), max(p.Columns-len(lead)-len(in), least), "")
		lines[n] = lead + strings.ReplaceAll(strings.ReplaceAll(wrapped, dash, "-"), "\n", "\n"+lead+in)
	}
	return strings.Join(lines, "\n")
}

// Digest is a digest as people compare it: its first 12 digits, unless all are wanted.
func (p Paint) Digest(d digest.Digest) string {
	if p.Whole {
		return string(d)
	}
	return digest.Short(d)
}

// The palette: sea-green for what ran, slate for what was reused or is of less weight, red for failure alone.
var (
	accent = lipgloss.NewStyle().Foreground(lipgloss.Color("#2a9d8f"))
	muted  = lipgloss.NewStyle().Foreground(lipgloss.Color("#7d8ca3"))
	bold   = lipgloss.NewStyle().Bold(true)
	wrong  = lipgloss.NewStyle().Foreground(lipgloss.Color("#d1495b"))
)

func (p Paint) with(style lipgloss.Style, text string) string {
	if !p.On || text == "" {
		return text
	}
	return style.Render(text)
}

// Accent marks what is new or was done.
func (p Paint) Accent(text string) string { return p.with(accent, text) }

// Muted marks what is of less weight.
func (p Paint) Muted(text string) string { return p.with(muted, text) }

// Bold marks names.
func (p Paint) Bold(text string) string { return p.with(bold, text) }

// Wrong marks failures.
func (p Paint) Wrong(text string) string { return p.with(wrong, text) }

// JSON writes one document, indented.
func JSON(w io.Writer, document any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(document)
}

// JSONLine writes a document as JSON on one line, for those who read several.
func JSONLine(w io.Writer, document any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(document)
}

// Table writes rows in aligned columns, without lines around them.
func Table(w *strings.Builder, p Paint, head []string, rows [][]string) {
	t := table.New().Border(lipgloss.HiddenBorder()).BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).
		BorderHeader(false).BorderColumn(false).BorderRow(false).
		StyleFunc(func(row, _ int) lipgloss.Style {
			style := lipgloss.NewStyle().PaddingRight(3)
			if row == table.HeaderRow && p.On {
				return style.Inherit(muted)
			}
			return style
		})
	for i := range head {
		head[i] = strings.ToLower(head[i])
	}
	t.Headers(head...).Rows(rows...)
	for line := range strings.SplitSeq(t.String(), "\n") {
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// Size is a number of bytes for people; a negative one is not known.
func Size(n int64) string {
	if n < 0 {
		return "?"
	}
	return humanize.Bytes(uint64(n))
}

// Count is a number with its noun.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return humanize.Comma(int64(n)) + " " + noun + "s"
}

// Took is a duration for people.
func Took(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// Span is a time between two moments for people, in days where it is long.
func Span(d time.Duration) string {
	if d >= 48*time.Hour {
		return Count(int(d/(24*time.Hour)), "day")
	}
	return Took(d)
}

// When is the time of an image's making in words and exactly. The constant that stands for no time is not told as one:
// an image is not decades old because nobody knows better.
func When(t, now time.Time) string {
	if t.Equal(layer.Epoch) {
		return "unknown"
	}
	return humanize.RelTime(t, now, "ago", "from now") + " (" + t.UTC().Format("2006-01-02 15:04:05 UTC") + ")"
}

// Ago is a time in words alone, short enough for a table; a dash where it is not known.
func Ago(t, now time.Time) string {
	if t.IsZero() || t.Equal(layer.Epoch) {
		return "–"
	}
	return humanize.RelTime(t, now, "ago", "from now")
}

// Mark is the sign of an outcome, which tells it without colour.
func Mark(o event.Outcome) string {
	switch {
	case o.Worked():
		return "●"
	case o == event.Failed:
		return "✗"
	}
	return "○"
}

// Where tells what a task belongs to. Lines of one step all have the same before them.
func Where(t event.Task) string {
	name := cmp.Or(t.Place, t.Unit)
	if t.Platform == "" {
		return name
	}
	return name + " " + t.Platform
}

// Line is a finished task in one line.
func Line(p Paint, e event.Finished) string {
	what := p.with(outcomeStyle(e.Outcome), Mark(e.Outcome)+" "+fmt.Sprintf("%-7s", e.Outcome))
	line := what + " " + p.Muted(Where(e.Task)+":") + " " + e.Task.Label
	var tail []string
	for _, part := range []string{e.Detail, phrase.Line(e.Reason)} {
		if part != "" {
			tail = append(tail, part)
		}
	}
	if e.Outcome.Worked() {
		tail = append(tail, Took(e.Took))
	}
	if len(tail) > 0 {
		line += p.Muted(" (" + strings.Join(tail, "; ") + ")")
	}
	return line
}

func outcomeStyle(o event.Outcome) lipgloss.Style {
	switch {
	case o.Worked():
		return accent
	case o == event.Failed:
		return wrong
	}
	return muted
}
