package tui

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"imbricat/internal/ground/event"
	"imbricat/internal/output/phrase"
	"imbricat/internal/output/progress"
	"imbricat/internal/output/report"
)

// What a terminal has that does not tell its size, and the least that is drawn for.
const (
	usualWidth, usualHeight = 80, 24
	leastWidth              = 40
	mostWidth               = 110 // numbers stay beside what they are of
)

// leastMiddle is how much room the name of a task has before its numbers get any, in columns.
const leastMiddle = 24

// longestBar bounds the bar, in tiles.
const longestBar = 24

// leastBar is the least that says something.
const leastBar = 4

// picture draws how far something is, for a screen of a size. It never has more lines than the screen.
func picture(p report.Paint, of *progress.Progress, now time.Time, width, height int) string {
	width, height = min(max(cmp.Or(width, usualWidth), leastWidth), mostWidth), cmp.Or(height, usualHeight)
	active := of.Active(now)
	if len(active) == 0 && of.Counts() == (progress.Counts{}) {
		return ""
	}
	lines := []string{head(p, of, now, width)}
	room := max(height-2, 1) // one for the head, and the line that the cursor is left on
	below := room >= 2*len(active)
	for i, s := range active {
		if len(lines)+1 > room && i < len(active)-1 {
			lines = append(lines, p.Muted(fmt.Sprintf("… and %d more", len(active)-i)))
			break
		}
		lines = append(lines, row(p, s, width))
		if text := details(s); text != "" && below {
			lines = append(lines, p.Muted(ansi.Truncate("    "+text, width, "…")))
		}
	}
	return strings.Join(lines, "\n")
}

// head is the bar for the whole, with the counts.
func head(p report.Paint, of *progress.Progress, now time.Time, width int) string {
	counts := of.Counts()
	elapsed := of.Elapsed(now)
	clock := brief(elapsed)
	share := -1.0
	if left, known := of.Left(now); known {
		if left >= time.Second {
			clock += ", about " + brief(left) + " left"
		}
		share = float64(elapsed) / float64(elapsed+left)
	} else if counts.Steps > 0 {
		share = float64(counts.Over) / float64(counts.Steps)
	}
	text := tally(counts, clock, width-leastBar-2)
	if share >= 0 {
		if tiles := min(width-ansi.StringWidth(text)-2, longestBar); tiles >= leastBar {
			full := min(int(share*float64(tiles)), tiles)
			return p.Accent(strings.Repeat("▰", full)) + p.Muted(strings.Repeat("▱", tiles-full)) + "  " + text
		}
	}
	return ansi.Truncate(text, width, "…")
}

// tally is the counts with a time. On a narrow screen it does without some.
func tally(c progress.Counts, clock string, room int) string {
	var all []string
	if c.Steps > 0 {
		all = append(all, fmt.Sprintf("%d of %s", c.Over, report.Count(c.Steps, "step")))
	}
	if c.Failed > 0 {
		all = append(all, fmt.Sprintf("%d failed", c.Failed))
	}
	least := len(all)
	if c.Worked > 0 {
		all = append(all, fmt.Sprintf("%d done", c.Worked))
	}
	if c.Reused > 0 {
		all = append(all, fmt.Sprintf("%d reused", c.Reused))
	}
	for {
		text := strings.Join(append(slices.Clone(all), clock), " · ")
		if len(all) <= max(least, 1) || ansi.StringWidth(text) <= room {
			return text
		}
		all = all[:len(all)-1]
	}
}

// row is a task that runs, in one line.
func row(p report.Paint, s progress.State, width int) string {
	left, right := fmt.Sprintf("◐ %-8s", s.Act), times(s)
	for _, form := range moved(s) {
		if text := form + "  " + times(s); width-ansi.StringWidth(left)-ansi.StringWidth(text) >= leastMiddle {
			right = text
			break
		}
	}
	room := width - ansi.StringWidth(left) - ansi.StringWidth(right) - 4
	where, label := plain(report.Where(s.Task)), plain(s.Task.Label)
	if label != "" && ansi.StringWidth(where)+12 > room { // the platform is what can be done without
		where = plain(cmp.Or(s.Task.Place, s.Task.Unit))
	}
	middle := ansi.Truncate(strings.TrimSpace(where+"  "+label), max(room, 8), "…")
	pad := strings.Repeat(" ", max(width-ansi.StringWidth(left)-1-ansi.StringWidth(middle)-ansi.StringWidth(right), 1))
	if rest, is := strings.CutPrefix(middle, where); is {
		middle = p.Bold(where) + rest
	}
	return p.Accent(left) + " " + middle + pad + p.Muted(right)
}

// times is how long a task has run, beside what it took last time.
func times(s progress.State) string {
	text := brief(s.For)
	if s.Before >= time.Second {
		text += " of " + brief(s.Before)
	}
	return text
}

// moved is what a task has moved, how fast it does, and how long it may take; then the same with less of that, for narrow screens.
func moved(s progress.State) (forms []string) {
	text := ""
	add := func(more string) {
		text += more
		forms = append([]string{text}, forms...)
	}
	switch {
	case s.Total > 0:
		add(report.Size(s.Done) + " of " + report.Size(s.Total))
	case s.Done > 0:
		add(report.Size(s.Done))
	}
	if s.Rate > 0 {
		add(", " + report.Size(int64(s.Rate)) + "/s")
	}
	if left := s.Left(); left >= time.Second {
		add(", " + brief(left) + " left")
	}
	return forms
}

// details are why a task runs, for what it waits, and what its command printed last.
func details(s progress.State) string {
	var all []string
	for _, one := range []string{s.Note, phrase.Line(s.Why), s.Line} {
		if one = plain(one); one != "" {
			all = append(all, one)
		}
	}
	return strings.Join(all, " │ ")
}

// plain is a text without what moves a cursor or colours it.
func plain(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, ansi.Strip(text))
}

// brief is a time in whole seconds.
func brief(d time.Duration) string {
	d = d.Truncate(time.Second)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// How much of what was done is told in words: of each unit, and of how many units.
const (
	mostOfUnit = 8
	mostUnits  = 12
)

// transcript is what is left on the screen: what was done or failed, by units, each drawn as a pile of tiles, the lowest first, and how much
// was reused.
func transcript(p report.Paint, of *progress.Progress) string {
	var out strings.Builder
	told, more, moreOf := 0, 0, 0
	for _, g := range of.Ended() {
		if len(g.Tasks) == 0 {
			continue
		}
		if told++; told > mostUnits {
			more, moreOf = more+1, moreOf+len(g.Tasks)
			continue
		}
		if len(g.Tasks) == 1 && g.Tasks[0].Finished.Outcome != event.Failed {
			fmt.Fprintln(&out, report.Line(p, g.Tasks[0].Finished))
			continue
		}
		fmt.Fprintf(&out, "%s  %s\n", strings.TrimSpace(p.Bold(g.Unit)+" "+g.Platform), tiles(p, g))
		for i, s := range g.Tasks {
			if i == mostOfUnit-1 && len(g.Tasks) > mostOfUnit {
				fmt.Fprintf(&out, "  %s\n", p.Muted(fmt.Sprintf("… and %d more", len(g.Tasks)-i)))
				break
			}
			fmt.Fprintf(&out, "  %s\n", words(p, s.Finished))
		}
	}
	if more > 0 {
		fmt.Fprintln(&out, p.Muted(fmt.Sprintf("… and %d more done in %d others", moreOf, more)))
	}
	if n := of.Counts().Reused; n > 0 {
		fmt.Fprintln(&out, p.Muted(fmt.Sprintf("○ %d reused", n)))
	}
	return out.String()
}

// mostTiles bounds how many tiles are drawn of one unit.
const mostTiles = 40

// tiles draws a unit from the side: what was reused lies below.
func tiles(p report.Paint, g progress.Group) string {
	var out strings.Builder
	reused := min(g.Reused, mostTiles/2)
	out.WriteString(p.Muted(strings.Repeat("▰", reused)))
	for _, s := range g.Tasks[:min(len(g.Tasks), mostTiles-reused)] {
		if s.Finished.Outcome == event.Failed {
			out.WriteString(p.Wrong("✗"))
		} else {
			out.WriteString(p.Accent("▰"))
		}
	}
	return out.String()
}

// words is a task that has ended.
func words(p report.Paint, e event.Finished) string {
	line := report.Mark(e.Outcome) + " " + fmt.Sprintf("%-7s", e.Outcome) + " "
	if e.Outcome == event.Failed {
		return p.Wrong(line) + e.Task.Label // the error itself tells why, once
	}
	var tail []string
	for _, one := range []string{e.Detail, phrase.Line(e.Reason), report.Took(e.Took)} {
		if one != "" {
			tail = append(tail, one)
		}
	}
	return p.Accent(line) + e.Task.Label + p.Muted(" ("+strings.Join(tail, "; ")+")")
}
