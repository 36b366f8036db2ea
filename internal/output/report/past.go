package report

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/output/receipt"

	"github.com/dustin/go-humanize"
)

// Logbook is a list of past builds, the latest first.
type Logbook struct {
	Builds []PastBuild `json:"builds"`
}

// PastBuild is a build of the logbook. Steps are there where one build is asked for. Times are in seconds, sizes in bytes.
type PastBuild struct {
	Number    int64             `json:"build"`
	Project   string            `json:"project"`
	Command   string            `json:"command"`
	Recipe    string            `json:"recipe"` // digest of its text
	Facts     map[string]string `json:"facts"`
	Started   time.Time         `json:"started"`
	Seconds   float64           `json:"seconds"`
	Processor float64           `json:"processorSeconds"`
	Outcome   string            `json:"outcome"` // built, failed, interrupted
	Error     string            `json:"error,omitempty"`
	Images    []PastImage       `json:"images"`
	Ran       int               `json:"ran"`
	Reused    int               `json:"reused"`
	Spared    float64           `json:"spared"`
	Steps     []PastStep        `json:"steps,omitempty"`
}

// Page is a page that was written.
type Page struct {
	File  string `json:"file"`
	Bytes int    `json:"bytes"`
}

// Sent tells what a collector of traces was sent.
type Sent struct {
	Builds   int `json:"builds"`
	Rejected int `json:"rejected"` // spans that it did not take
}

// PastImage is an image that a build made.
type PastImage struct {
	Name   string `json:"name"`
	Digest string `json:"digest"`
	Packed int64  `json:"packed"`
}

// PastStep is what became of a step.
type PastStep struct {
	Unit      string   `json:"unit"`
	Platform  string   `json:"platform"`
	Place     string   `json:"place"` // gauge:3
	Step      string   `json:"step"`
	Outcome   string   `json:"outcome"`
	Reason    string   `json:"reason"`
	Details   []string `json:"details"`         // all that there is to say of the reason
	Began     *float64 `json:"began,omitempty"` // seconds after the build began; nil: it is not known
	Seconds   float64  `json:"seconds"`
	Processor float64  `json:"processorSeconds"`
	Spared    float64  `json:"spared"`
	Files     int      `json:"files"`
	Bytes     int64    `json:"bytes"`
	Packed    int64    `json:"packed"`
	Ended     bool     `json:"-"`      // it was begun and not done; else what is skipped needed no layer
	Logged    bool     `json:"logged"` // `logbook log` has what its command printed
}

// totals says how much was done and spared: "3 of 34 steps ran, 4 min 12 s spared".
func (b *PastBuild) totals() string {
	text := fmt.Sprintf("%d of %s ran", b.Ran, Count(b.Ran+b.Reused, "step"))
	if b.Spared >= 0.5 {
		text += ", " + Took(seconds(b.Spared)) + " spared"
	}
	return text
}

// LogbookText returns a row for each build.
func LogbookText(p Paint, l *Logbook, now time.Time) string {
	w := &strings.Builder{}
	if len(l.Builds) == 0 {
		fmt.Fprintln(w, "no build yet: `imbricat build` makes one")
		return w.String()
	}
	var rows [][]string
	for _, b := range l.Builds {
		var names []string
		for _, i := range b.Images {
			names = append(names, i.Name)
		}
		rows = append(rows, []string{p.Bold(fmt.Sprint(b.Number)), humanize.RelTime(b.Started, now, "ago", "from now"), outcome(p, b.Outcome),
			b.totals(), Took(seconds(b.Seconds)), p.Muted(strings.Join(names, ", "))})
	}
	Table(w, p, []string{"build", "begun", "outcome", "steps", "took", "images"}, rows)
	return w.String()
}

func outcome(p Paint, text string) string {
	switch text {
	case "built":
		return "● built"
	case "failed":
		return p.Wrong("✗ failed")
	}
	return p.Muted("○ " + text)
}

// PastBuildText returns a build whole.
func PastBuildText(p Paint, b *PastBuild, now time.Time) string {
	w := &strings.Builder{}
	fmt.Fprintf(w, "%s  %s  %s, %s (%s of processor time)\n", p.Bold(fmt.Sprint("build ", b.Number)), outcome(p, b.Outcome),
		humanize.RelTime(b.Started, now, "ago", "from now"), Took(seconds(b.Seconds)), Took(seconds(b.Processor)))
	fmt.Fprintf(w, "%s\n%s\n", p.Muted("$ "+b.Command), b.Project+p.Muted("  "+b.Recipe))
	if b.Error != "" {
		fmt.Fprintln(w, p.Wrong(b.Error))
	}
	for _, name := range sortedKeys(b.Facts) {
		fmt.Fprintf(w, "%s %s\n", p.Muted(name), b.Facts[name])
	}
	for _, i := range b.Images {
		fmt.Fprintf(w, "%s  %s  %s\n", p.Bold(i.Name), Size(i.Packed), p.Muted(i.Digest))
	}
	fmt.Fprintln(w, b.totals())
	w.WriteString(ReasonsText(p, b.Steps, false))
	return w.String()
}

// ReasonsText tells each step with what became of it and why, by units; with every all there is to say.
func ReasonsText(p Paint, steps []PastStep, every bool) string {
	w := &strings.Builder{}
	unit := ""
	for _, s := range steps {
		if head := s.Unit + " " + s.Platform; head != unit {
			unit = head
			fmt.Fprintf(w, "\n%s %s\n", p.Bold(s.Unit), s.Platform)
		}
		_, number, _ := strings.Cut(s.Place, ":")
		mark := p.Muted("○ " + fmt.Sprintf("%-8s", s.Outcome))
		switch s.Outcome {
		case "ran":
			mark = p.Accent("● ran     ")
		case "failed":
			mark = p.Wrong("✗ failed  ")
		case "skipped":
			if mark = p.Muted("· no layer"); s.Ended {
				mark = p.Muted("○ not done")
			}
		}
		line := fmt.Sprintf("  %2s %s  %s", number, mark, s.Step)
		if s.Outcome == "ran" || s.Outcome == "failed" {
			line += p.Muted("  " + Took(seconds(s.Seconds)))
		}
		if s.Reason != "" && (s.Outcome != "skipped" || every) {
			line += p.Muted("  (" + s.Reason + ")")
		}
		fmt.Fprintf(w, "%s\n", line)
		if !every || len(s.Details) == 1 && s.Details[0] == s.Reason {
			continue
		}
		for _, detail := range s.Details {
			fmt.Fprintf(w, "                   %s\n", p.Muted(detail))
		}
	}
	return w.String()
}

// Why is what became of steps at a build, and why.
type Why struct {
	Number int64      `json:"build"`
	Steps  []PastStep `json:"steps"`
}

// Reads is what a step reads.
type Reads struct {
	Number int64     `json:"build"`
	Steps  []ReadsOf `json:"steps"`
}

// ReadsOf is what a step reads on one platform, the most volatile and largest first.
type ReadsOf struct {
	Unit     string     `json:"unit"`
	Platform string     `json:"platform"`
	Place    string     `json:"place"`
	Step     string     `json:"step"`
	Whole    string     `json:"wholeView,omitempty"` // why everything below counts
	Runs     int        `json:"runs"`                // how many runs are compared
	Paths    []ReadPath `json:"paths"`
	// Reached is what it reached of the hosts that it lists.
	Reached []receipt.Reached `json:"reached,omitempty"`
}

// ReadPath is a path that a step learnt something about. Changes counts how many of the runs found something else there
// than the run before.
type ReadPath struct {
	Path    string   `json:"path"`
	Learnt  []string `json:"learnt"` // kind, metadata, contents, listing, everything below, absence
	Bytes   int64    `json:"bytes"`  // -1: not a file, or not known
	Changes int      `json:"changes"`
}

// ReadsText returns a row for each path, up to most for a step; 0 is all.
func ReadsText(p Paint, r *Reads, most int) string {
	w := &strings.Builder{}
	for _, s := range r.Steps {
		fmt.Fprintf(w, "%s %s  %s\n", p.Bold(s.Place), s.Platform, s.Step)
		writeReached(w, p, s.Reached)
		if s.Whole != "" {
			fmt.Fprintf(w, "  everything below counts: %s\n", s.Whole)
			continue
		}
		var rows [][]string
		for i, path := range s.Paths {
			if most > 0 && i == most {
				break
			}
			size, changed := "", ""
			if path.Bytes >= 0 {
				size = Size(path.Bytes)
			}
			if s.Runs > 1 {
				changed = fmt.Sprintf("%d of %d", path.Changes, s.Runs-1)
			}
			rows = append(rows, []string{"  /" + path.Path, size, changed, p.Muted(strings.Join(path.Learnt, ", "))})
		}
		Table(w, p, []string{"  path", "size", "changed", "what counts"}, rows)
		if rest := len(s.Paths) - len(rows); rest > 0 {
			fmt.Fprintf(w, "  and %s; --all lists them\n", Count(rest, "path"))
		}
	}
	return w.String()
}

// writeReached returns a row for each host, or file, that a command asked for.
func writeReached(w *strings.Builder, p Paint, reached []receipt.Reached) {
	if len(reached) == 0 {
		return
	}
	var rows [][]string
	for _, one := range reached {
		what := p.Muted("only the command sees what came")
		switch {
		case one.Problem != "":
			what = p.Wrong(one.Problem)
		case one.Content != "":
			what = p.Digest(one.Content)
		case one.Status != 0:
			what = p.Muted("it did not come whole, or holds nothing")
		}
		status := ""
		if one.Status != 0 {
			status = strconv.Itoa(one.Status)
		}
		rows = append(rows, []string{"  " + one.To, strconv.Itoa(one.Times), Size(one.Bytes), status, what})
	}
	Table(w, p, []string{"  reached", "times", "size", "status", "content"}, rows)
}

// PastComparison is two builds side by side.
type PastComparison struct {
	Before PastBuild        `json:"before"`
	After  PastBuild        `json:"after"`
	Steps  []StepComparison `json:"steps"`
}

// StepComparison is a step at two builds; one of them may not have had it.
type StepComparison struct {
	Unit     string    `json:"unit"`
	Platform string    `json:"platform"`
	Step     string    `json:"step"`
	Before   *PastStep `json:"before,omitempty"`
	After    *PastStep `json:"after,omitempty"`
}

// ComparePast puts the steps of two builds side by side, by unit and line.
func ComparePast(before, after *PastBuild) *PastComparison {
	c := &PastComparison{Before: *before, After: *after, Steps: []StepComparison{}}
	c.Before.Steps, c.After.Steps = nil, nil
	used := make([]bool, len(before.Steps))
	for i := range after.Steps {
		now := &after.Steps[i]
		one := StepComparison{Unit: now.Unit, Platform: now.Platform, Step: now.Step, After: now}
		at := slices.IndexFunc(before.Steps, func(s PastStep) bool { return s.Unit == now.Unit && s.Platform == now.Platform && s.Step == now.Step })
		if at >= 0 && !used[at] {
			used[at], one.Before = true, &before.Steps[at]
		}
		c.Steps = append(c.Steps, one)
	}
	for i := range before.Steps {
		if was := &before.Steps[i]; !used[i] {
			c.Steps = append(c.Steps, StepComparison{Unit: was.Unit, Platform: was.Platform, Step: was.Step, Before: was})
		}
	}
	return c
}

// PastComparisonText returns a row for each step, the builds side by side.
func PastComparisonText(p Paint, c *PastComparison) string {
	w := &strings.Builder{}
	cell := func(s *PastStep) string {
		if s == nil {
			return p.Muted("–")
		}
		switch s.Outcome {
		case "ran":
			return p.Accent("● ran ") + Took(seconds(s.Seconds))
		case "failed":
			return p.Wrong("✗ failed")
		case "skipped":
			return p.Muted("· no layer")
		}
		return p.Muted("○ " + s.Outcome)
	}
	var rows [][]string
	for _, s := range c.Steps {
		why := ""
		if s.After != nil && s.After.Outcome != "skipped" {
			why = s.After.Reason
		}
		rows = append(rows, []string{s.Unit + " " + s.Platform, cut(s.Step, 50), cell(s.Before), cell(s.After), p.Muted(cut(why, 70))})
	}
	head := func(b *PastBuild) string { return fmt.Sprint("build ", b.Number) }
	Table(w, p, []string{"of", "step", head(&c.Before), head(&c.After), "why"}, rows)
	for _, b := range []*PastBuild{&c.Before, &c.After} {
		fmt.Fprintf(w, "%s  %s, in %s\n", p.Bold(head(b)), b.totals(), Took(seconds(b.Seconds)))
	}
	return w.String()
}
