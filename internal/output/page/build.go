package page

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"imbricat/internal/ground/printable"
	"imbricat/internal/output/report"
)

// How much a page of a build has.
const (
	mostSteps = 450
	mostLog   = 32 << 10 // bytes of what one command printed, from its end
	mostLogs  = 2 << 20  // of all together
)

// The chart of times, in the units of its picture.
const (
	chartWidth = 1140
	nameWidth  = 240
	laneHeight = 20
	axisHeight = 24
	ticks      = 5
)

// BuildOf is what the page of a build is made of.
type BuildOf struct {
	Build *report.PastBuild
	Past  []report.PastBuild // the builds before it and itself, the latest last
	// Log returns what a step's command printed; empty where it ran none, or where that is gone.
	Log func(step int) string
}

type buildPage struct {
	About
	Title         string
	Build         *report.PastBuild
	Steps         int
	Width, Height int
	Ticks         []tick
	Lanes         []lane
	Left          int // steps that are not told of
	Groups        []*group
	Past          []pastRow
	Facts         []fact
}

type tick struct {
	X    float64
	Text string
}

type lane struct {
	Name  string
	TextY float64
	Bars  []bar
}

type bar struct {
	Outcome, What string
	X, Y, W       float64
}

type group struct {
	Name  string
	Steps []stepRow
}

type stepRow struct {
	report.PastStep
	Log  string
	More bool // there is something to unfold
}

type pastRow struct {
	report.PastBuild
	Width float64
}

type fact struct{ Name, Value string }

// Build writes the page of a build: when each step ran, why, and what it printed, and how the builds before it went.
func Build(about About, of BuildOf) ([]byte, error) {
	b := of.Build
	p := buildPage{About: about, Title: fmt.Sprintf("build %d: %s", b.Number, b.Command), Build: b, Steps: b.Ran + b.Reused, Width: chartWidth}
	told := chosen(b.Steps)
	p.Left = len(b.Steps) - len(told)
	p.chart(b, told)
	p.steps(of, told)
	longest := 0.0
	for _, one := range of.Past {
		longest = max(longest, one.Seconds)
	}
	if len(of.Past) > 1 {
		for _, one := range slices.Backward(of.Past) {
			p.Past = append(p.Past, pastRow{one, percent(one.Seconds, longest)})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(b.Facts)) {
		p.Facts = append(p.Facts, fact{name, b.Facts[name]})
	}
	return write("build", p)
}

// chosen are the steps that a page tells of: all of a few; of many what failed, then what ran, then the others.
func chosen(steps []report.PastStep) (told []int) {
	for _, want := range []func(outcome string) bool{
		func(o string) bool { return o == "failed" },
		func(o string) bool { return o == "ran" },
		func(o string) bool { return o != "failed" && o != "ran" },
	} {
		for i := range steps {
			if want(steps[i].Outcome) && len(told) < mostSteps {
				told = append(told, i)
			}
		}
	}
	slices.Sort(told)
	return told
}

// chart draws a lane for each unit and platform, and a bar in it for each step of which it is known when it began.
func (p *buildPage) chart(b *report.PastBuild, told []int) {
	whole := b.Seconds
	for _, s := range b.Steps {
		if s.Began != nil {
			whole = max(whole, *s.Began+s.Seconds)
		}
	}
	if whole <= 0 {
		return
	}
	at := func(s float64) float64 { return nameWidth + s/whole*(chartWidth-nameWidth-50) }
	lanes := map[string]int{}
	for _, i := range told {
		s := &b.Steps[i]
		if s.Began == nil || s.Outcome == "skipped" {
			continue
		}
		name := s.Unit + " " + s.Platform
		n, known := lanes[name]
		if !known {
			n = len(lanes)
			lanes[name] = n
			p.Lanes = append(p.Lanes, lane{Name: shortened(name), TextY: float64(axisHeight + n*laneHeight + 13)})
		}
		x := at(*s.Began)
		p.Lanes[n].Bars = append(p.Lanes[n].Bars, bar{s.Outcome, fmt.Sprintf("%s %s: %s, %s", s.Place, s.Step, s.Outcome, report.Took(seconds(s.Seconds))), x, float64(axisHeight + n*laneHeight + 2), max(at(*s.Began+s.Seconds)-x, 2)})
	}
	if len(p.Lanes) == 0 {
		return
	}
	p.Height = axisHeight + len(p.Lanes)*laneHeight + 4
	for i := range ticks {
		s := whole * float64(i) / (ticks - 1)
		p.Ticks = append(p.Ticks, tick{at(s), report.Took(seconds(s))})
	}
}

// shortened is a name that fits before its lane.
func shortened(name string) string {
	const most = nameWidth / 7
	if letters := []rune(name); len(letters) > most {
		return string(letters[:most-1]) + "…"
	}
	return name
}

// steps lists the steps by unit and platform, with what they printed as long as there is room.
func (p *buildPage) steps(of BuildOf, told []int) {
	groups, room := map[string]*group{}, mostLogs
	for _, i := range told {
		s := of.Build.Steps[i]
		name := s.Unit + " " + s.Platform
		g := groups[name]
		if g == nil {
			g = &group{Name: name}
			groups[name] = g
			p.Groups = append(p.Groups, g)
		}
		row := stepRow{PastStep: s}
		if s.Logged && room > 0 {
			row.Log = ending(of.Log(i), min(mostLog, room))
			room -= len(row.Log)
		}
		row.More = row.Log != "" || len(s.Details) > 0
		g.Steps = append(g.Steps, row)
	}
}

// ending is what a command printed, from its end, without what moves a cursor or colours.
func ending(log string, most int) string {
	log = printable.Output(log, false)
	if len(log) <= most {
		return log
	}
	return "… (the beginning is left out)\n" + trimToLine(log[len(log)-most:])
}

// trimToLine drops the line that a cut went through.
func trimToLine(text string) string {
	for i := range text {
		if text[i] == '\n' {
			return text[i+1:]
		}
	}
	return ""
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
