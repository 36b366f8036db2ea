package report

import (
	"fmt"
	"strings"
	"time"

	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
	"imbricat/internal/output/receipt"
)

// Round is a round of watching: what changed, and what was made of it.
type Round struct {
	Number  int       `json:"round"`
	Ended   time.Time `json:"ended"`
	Changed []string  `json:"changed"`          // paths in the project folder; none of the first round
	Commit  bool      `json:"commit,omitempty"` // another one is checked out, or another branch; or a recipe outside the project folder is another
	All     bool      `json:"all,omitempty"`    // more changed than can be told
	// Outcome is done, failed, or interrupted: by a newer change.
	Outcome string   `json:"outcome"`
	Error   string   `json:"error,omitempty"` // of an outcome failed
	Again   bool     `json:"again,omitempty"` // the round before failed, and this one did not
	Seconds float64  `json:"seconds"`         // of the build
	Built   *Build   `json:"built,omitempty"`
	Into    []Into   `json:"into,omitempty"`
	Pushed  []Pushed `json:"pushed,omitempty"`
	Then    *Then    `json:"then,omitempty"`
}

// Into is what a command in the background was given.
type Into struct {
	Name    string   `json:"name"`
	Put     []string `json:"put,omitempty"`     // places in its image
	Removed []string `json:"removed,omitempty"` // too
	Behind  []string `json:"behind,omitempty"`  // places where the image is another than what it sees
	Started bool     `json:"started,omitempty"` // it was started again
	Error   string   `json:"error,omitempty"`
	Seconds float64  `json:"seconds"`
}

// Then is what became of the command behind a build.
type Then struct {
	Status  int     `json:"status"` // -1: it did not end by itself, or could not be run
	Error   string  `json:"error,omitempty"`
	Seconds float64 `json:"seconds"`
}

// clock is how times of day are told.
const clock = "15:04:05"

// RoundBeginsText tells what changed.
func RoundBeginsText(p Paint, r *Round, now time.Time) string {
	var what []string
	if len(r.Changed) > 0 {
		what = append(what, say.Some(r.Changed))
	}
	if r.Commit {
		what = append(what, "the commit that is checked out, or a recipe elsewhere")
	}
	if r.All {
		what = append(what, "more than can be told")
	}
	return fmt.Sprintf("%s  changed: %s\n", p.Muted(now.Format(clock)), strings.Join(what, ", "))
}

// IntoText tells what a command in the background was given.
func IntoText(p Paint, i *Into, now time.Time) string {
	var w strings.Builder
	line := func(what string) {
		fmt.Fprintf(&w, "%s  %s: %s\n", p.Muted(now.Format(clock)), p.Bold(i.Name), what)
	}
	took := Took(time.Duration(i.Seconds * float64(time.Second)))
	if len(i.Put) > 0 {
		line(say.Some(i.Put) + " put there, in " + took)
	}
	if len(i.Removed) > 0 {
		line(say.Some(i.Removed) + " taken away")
	}
	switch {
	case i.Error != "":
		line(p.Wrong("failed: ") + i.Error)
	case i.Started:
		line("started again, in " + took)
	case len(i.Behind) > 0:
		line("runs without the change of " + say.Some(i.Behind) + ", until it is started again (--restart)")
	}
	return w.String()
}

// RoundText tells what was made of it.
func RoundText(p Paint, r *Round) string {
	var w strings.Builder
	took := Took(time.Duration(r.Seconds * float64(time.Second)))
	fmt.Fprintf(&w, "%s  ", p.Muted(r.Ended.Local().Format(clock)))
	switch {
	case r.Outcome == receipt.Interrupted:
		fmt.Fprintf(&w, "ended after %s, for a newer change\n", took)
		return w.String()
	case r.Outcome == receipt.Failed:
		fmt.Fprintf(&w, "%s after %s; the next change tries again\n", p.Wrong("failed"), took)
		return w.String()
	case r.Again:
		w.WriteString("right again: ")
	}
	var names []string
	for _, one := range r.Built.Images {
		names = append(names, one.Name)
	}
	for _, one := range r.Built.Stages {
		names = append(names, one.Name)
	}
	if r.Built.Ran == 0 {
		fmt.Fprintf(&w, "no step had to run for %s, in %s\n", say.Some(names), took)
	} else {
		var ran []string
		for _, one := range r.Built.Steps {
			if one.Outcome == event.Ran.String() {
				ran = append(ran, firstLine(one.Step))
			}
		}
		fmt.Fprintf(&w, "%s %s in %s: %s ran, %d reused\n", p.Accent("built"), say.Some(names), took, say.Some(ran), r.Built.Reused)
	}
	return w.String()
}

// ThenText tells what became of the command behind a build.
func ThenText(p Paint, t *Then, now time.Time) string {
	took := Took(time.Duration(t.Seconds * float64(time.Second)))
	out := p.Muted(now.Format(clock)) + "  then: "
	switch {
	case t.Error != "":
		return out + fmt.Sprintf("%s %s, after %s\n", p.Wrong("failed:"), t.Error, took)
	case t.Status != 0:
		return out + fmt.Sprintf("%s with status %d, after %s\n", p.Wrong("failed"), t.Status, took)
	}
	return out + fmt.Sprintf("done in %s\n", took)
}
