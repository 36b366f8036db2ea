// Package phrase puts reasons into words for people. It decides nothing: whoever wants to know what a reason is asks its type.
package phrase

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
)

var causes = map[event.Cause]string{
	event.Unchanged:     "unchanged",
	event.SameAsAnother: "same as another step",
	event.NoLayer:       "what is taken from a stage needs no layer of the stage's own",
	event.LaysNothing:   "it lays nothing down",
	event.Replaced:      "later steps replace all of it",
	event.AskedFor:      "asked for with --fresh",
	event.EndedFirst:    "the build ended first",
	event.FirstTime:     "first time",
	event.Refilled:      "its kept directory was not as it leaves it",
	event.Lost:          "what it left is gone from the store",
}

// Line returns a reason in one line; empty for none.
func Line(r event.Reason) string {
	switch r := r.(type) {
	case event.Cause:
		return causes[r]
	case event.Text:
		return string(r)
	case event.Recalled:
		return recalled(r)
	case event.Expired:
		return "its result is older than " + r.After.String()
	case event.Packed:
		return packed(r)
	case event.Differs:
		return andMore(changes(r.Changes))
	case event.Given:
		text, _ := given(r.Changes[0])
		return text
	}
	return ""
}

// More returns all that there is to say of a reason, in lines; nothing where that is no more than its line.
func More(r event.Reason) (lines []string) {
	switch r := r.(type) {
	case event.Recalled:
		at := "ran at " + r.Made.Local().Format(time.DateTime)
		if r.Shared {
			return []string{at + " on another machine"}
		}
		return []string{at + ", build " + r.Build}
	case event.Packed:
		return changes(r.Changes)
	case event.Differs:
		return changes(r.Changes)
	case event.Given:
		for _, one := range r.Changes {
			text, more := given(one)
			lines = append(append(lines, text), more...)
		}
	}
	return lines
}

// leastSpared is below what a spared time is worth no word.
const leastSpared = 500 * time.Millisecond

func recalled(r event.Recalled) string {
	text := "what it reads did not change"
	if r.WholeView {
		text = "nothing below it changed"
	}
	if r.Spared >= leastSpared {
		text += ", " + shortly(r.Spared) + " spared"
	}
	if r.Shared {
		text += ", from the shared cache"
	}
	return text
}

func shortly(d time.Duration) string {
	if d < 10*time.Second {
		return d.Round(100 * time.Millisecond).String()
	}
	return d.Round(time.Second).String()
}

func packed(r event.Packed) string {
	text := "new content"
	switch {
	case r.Merged:
		return text + ", in a layer with other steps"
	case r.Of > 0:
		return fmt.Sprintf("%s: %d of %s", text, r.New, say.Count(r.Of, "layer"))
	case len(r.Changes) > 0:
		return text + ": " + andMore(changes(r.Changes))
	}
	return text
}

func andMore(lines []string) string {
	if len(lines) > 1 {
		return fmt.Sprintf("%s, and %d more", lines[0], len(lines)-1)
	}
	return lines[0]
}

func changes(all []event.Change) (lines []string) {
	for _, c := range all {
		text := Change(c)
		if c.From != "" {
			text += " (" + c.From + ")"
		}
		lines = append(lines, text)
	}
	return lines
}

// Change puts what changed of a path into words.
func Change(c event.Change) string {
	path := "/" + c.Path
	switch c.Kind {
	case event.Appeared:
		return path + " appeared"
	case event.Vanished:
		return path + " vanished"
	case event.OtherKind:
		return fmt.Sprintf("%s is a %s now and was a %s", path, c.Now, c.Was)
	case event.Listing:
		return "the listing of " + path + " " + listing(c.Gained, c.Lost)
	case event.LeadsAway:
		return path + " leads elsewhere"
	case event.SizeChanged:
		return path + " changed (its size alone was looked at)"
	case event.MetaChanged:
		return "mode, owner or time of " + path + " changed"
	case event.Everything:
		return "something below changed, and all of it counts: " + c.Now
	}
	return path + " changed"
}

func listing(gained, lost []string) string {
	var parts []string
	for _, one := range []struct {
		verb  string
		names []string
	}{{"gained", gained}, {"lost", lost}} {
		if len(one.names) == 0 {
			continue
		}
		text := one.verb + " " + one.names[0]
		if len(one.names) > 1 {
			text += fmt.Sprintf(" and %d more", len(one.names)-1)
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " and ")
}

var inputs = map[string]string{"user": "its user", "in": "its folder", "platform": "its platform", "network": "its network", "fresh-tmp": "its /tmp", "clock": "its clock", "listing": "the order in which it lists folders", "times": "the time of its files", "machine": "what it sees of this machine",
	"keep": "its kept directories", "secret": "its secrets", "lent": "its lent folders", "ids": "the ids that the sandbox has", "sandbox": "the sandbox's version"}

func given(in event.Input) (text string, more []string) {
	switch {
	case in.Name == "arg":
		text, more = otherLines(in.Was, in.Now)
		return "the command changed: " + text, more
	case in.Name == "env" && len(in.Was) == 0:
		return "the environment " + in.Variable + " is new", nil
	case in.Name == "env" && len(in.Now) == 0:
		return "the environment " + in.Variable + " is gone", nil
	case in.Name == "env":
		return "the environment " + in.Variable + " changed", nil
	}
	return inputs[in.Name] + " changed", nil
}

// otherLines shows the lines of a command that changed, the first pair in short.
func otherLines(was, now []string) (text string, more []string) {
	lines := func(args []string) (out []string) {
		for _, arg := range args {
			for line := range strings.Lines(arg) {
				if line = strings.TrimSpace(line); line != "" && line != "[ $? = 0 ] || exit" {
					out = append(out, line)
				}
			}
		}
		return out
	}
	old, current := lines(was), lines(now)
	gone, come := notIn(old, current), notIn(current, old)
	for _, line := range gone {
		more = append(more, "- "+line)
	}
	for _, line := range come {
		more = append(more, "+ "+line)
	}
	switch {
	case len(come) > 0 && len(gone) > 0:
		from := differAt(come[0], gone[0])
		return fmt.Sprintf("%q was %q", cut(come[0], from), cut(gone[0], from)), more
	case len(come) > 0:
		return fmt.Sprintf("%q is new", cut(come[0], 0)), more
	case len(gone) > 0:
		return fmt.Sprintf("%q is gone", cut(gone[0], 0)), more
	}
	return "its lines are in another order", more
}

// differAt is how many letters two lines begin with in common.
func differAt(a, b string) int {
	n, other := 0, []rune(b)
	for _, r := range a {
		if n == len(other) || other[n] != r {
			break
		}
		n++
	}
	return n
}

// cut shortens a line to 50 letters, so that the one at from is among them, with some before it.
func cut(line string, from int) string {
	const most, before = 50, 15
	r := []rune(line)
	if len(r) <= most {
		return line
	}
	start := max(0, min(from-before, len(r)-most))
	text := string(r[start:min(start+most, len(r))])
	if start > 0 {
		text = "…" + string([]rune(text)[1:])
	}
	if start+most < len(r) {
		text = string([]rune(text)[:most-1]) + "…"
	}
	return text
}

func notIn(all, those []string) (rest []string) {
	for _, one := range all {
		if !slices.Contains(those, one) {
			rest = append(rest, one)
		}
	}
	return rest
}

// WithTexts returns an event with each of its texts put through a function; output is what a command printed.
func WithTexts(e event.Event, text, output func(string) string) event.Event {
	task := func(t event.Task) event.Task { t.Label, t.Unit = text(t.Label), text(t.Unit); return t }
	switch e := e.(type) {
	case event.Started:
		if e.Why != nil {
			e.Why = event.Text(text(Line(e.Why)))
		}
		e.Task, e.Note = task(e.Task), text(e.Note)
		return e
	case event.Progress:
		e.Task = task(e.Task)
		return e
	case event.Output:
		e.Task, e.Text = task(e.Task), output(e.Text)
		return e
	case event.Finished:
		if e.Reason != nil {
			e.Reason = event.Text(text(Line(e.Reason)))
		}
		e.Task, e.Detail = task(e.Task), text(e.Detail)
		return e
	case event.Warning:
		e.Text = text(e.Text)
		return e
	}
	return e
}
