// Package explain finds out why a step runs or is new: what it reads that changed, what it is given that it was not given
// before, and which paths differ. It makes reasons as data and decides nothing.
package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// Past knows the builds before this one.
type Past interface {
	// Past returns the steps of the last build of a unit, in order; nil where none is known.
	Past(unit, platform string) []PastStep
}

// PastStep is a step of the last build of a unit.
type PastStep struct {
	Label  string
	Key    digest.Key    // of a command
	Inputs string        // what the key is made of, as lines of names and quoted values
	Took   time.Duration // when it was done
	Layer  digest.DiffID // of a step that is no command
}

// Input is a part of a command's key, with a name that people know.
type Input struct{ Name, Value string }

// EncodeInputs writes inputs as lines: the name and the quoted value.
func EncodeInputs(all []Input) string {
	var out strings.Builder
	for _, in := range all {
		fmt.Fprintf(&out, "%s %q\n", in.Name, in.Value)
	}
	return out.String()
}

// DecodeInputs reads what EncodeInputs wrote. What is no such line is passed over.
func DecodeInputs(text string) (all []Input) {
	for line := range strings.Lines(text) {
		var in Input
		if n, err := fmt.Sscanf(line, "%s %q\n", &in.Name, &in.Value); n == 2 && err == nil {
			all = append(all, in)
		}
	}
	return all
}

// Given tells what a command is given that it was not given before.
func Given(was, now []Input) (changes []event.Input) {
	if old, current := valuesOf(was, "arg"), valuesOf(now, "arg"); !slices.Equal(old, current) {
		changes = append(changes, event.Input{Name: "arg", Was: old, Now: current})
	}
	oldEnv, env := pairs(valuesOf(was, "env")), pairs(valuesOf(now, "env"))
	for _, name := range union(oldEnv, env) {
		one := event.Input{Name: "env", Variable: name}
		old, had := oldEnv[name]
		current, has := env[name]
		if had {
			one.Was = []string{old}
		}
		if has {
			one.Now = []string{current}
		}
		if !slices.Equal(one.Was, one.Now) {
			changes = append(changes, one)
		}
	}
	for _, name := range []string{"user", "in", "platform", "network", "fresh-tmp", "clock", "listing", "times", "keep", "secret", "lent", "machine", "ids", "sandbox"} {
		if old, current := valuesOf(was, name), valuesOf(now, name); !slices.Equal(old, current) {
			changes = append(changes, event.Input{Name: name, Was: old, Now: current})
		}
	}
	return changes
}

func valuesOf(all []Input, name string) (values []string) {
	for _, in := range all {
		if in.Name == name {
			values = append(values, in.Value)
		}
	}
	return values
}

func pairs(list []string) map[string]string {
	all := map[string]string{}
	for _, pair := range list {
		name, value, _ := strings.Cut(pair, "=")
		all[name] = value
	}
	return all
}

func union(a, b map[string]string) (names []string) {
	for name := range a {
		names = append(names, name)
	}
	for name := range b {
		if _, both := a[name]; !both {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Looker is a command that looks at a view.
type Looker struct {
	Unit  string // that it belongs to, by name
	Base  string // what people call the image that lies lowest
	View  *tree.View
	Steps []*step.Outcome // of which the view is laid together, lowest first
}

// own returns the step of this view that laid down what another did: views that give the same share what is known of them.
func (l Looker) own(from *step.Outcome) *step.Outcome {
	for _, one := range slices.Backward(l.Steps) {
		if one.Key == from.Key {
			return one
		}
	}
	return from
}

// nearness orders where paths come from by how near that is to whoever reads the reason: what steps lay down of the project, then what
// lies below or is gone, and last what commands left, which changes along with something else.
func (l Looker) nearness(d trace.Difference) int {
	if d.Why != "" {
		return 0
	}
	// What is gone comes from where its folder does.
	path := d.Path
	n, exists := l.View.Lookup(path)
	for ; !exists && path != ""; n, exists = l.View.Lookup(path) {
		path = tree.Parent(path)
	}
	if !exists {
		return 2
	}
	switch from := n.From.(type) {
	case *step.Outcome:
		if l.own(from).Run != nil {
			return 3
		}
		return 1
	}
	return 2
}

// Differs tells differences, those nearest to the project and of most weight first, with where each path comes from.
func (l Looker) Differs(all []trace.Difference) event.Differs {
	weight := func(d trace.Difference) int {
		switch {
		case d.Why != "":
			return 0
		case d.Asked&trace.Content != 0 && d.Was[0] == 'f':
			return 1
		case d.Asked&trace.Names == 0 && (d.Was[0] == '-' || d.Now[0] == '-'):
			return 2
		case d.Asked&trace.Names != 0:
			return 3
		}
		return 4
	}
	slices.SortStableFunc(all, func(x, y trace.Difference) int {
		return cmp.Or(l.nearness(x)-l.nearness(y), weight(x)-weight(y))
	})
	var out event.Differs
	for _, d := range all {
		change := d.Change()
		if d.Why == "" {
			change.From = l.origin(d.Path)
		}
		out.Changes = append(out.Changes, change)
	}
	return out
}

// origin tells what put a path into the view: a step of the recipe, or the base.
func (l Looker) origin(p string) string {
	n, exists := l.View.Lookup(p)
	if !exists {
		return ""
	}
	switch from := n.From.(type) {
	case *step.Outcome:
		if from = l.own(from); from.Task.Unit != l.Unit {
			return from.Task.Unit + ": " + from.Task.Label
		}
		return from.Task.Label
	case *filetree.Archive:
		if l.Base != "" {
			return "base " + l.Base
		}
	}
	return ""
}

// Changes tells which paths of two trees differ, files before folders.
func Changes(was, now []tree.Entry) (files []event.Change) {
	lines := map[string]string{}
	for i := range was {
		lines[was[i].Path] = string(was[i].AppendLine(nil))
	}
	var folders []event.Change
	note := func(e *tree.Entry, kind event.ChangeKind) {
		if one := (event.Change{Kind: kind, Path: e.Path}); e.Kind == tree.Folder {
			folders = append(folders, one)
		} else {
			files = append(files, one)
		}
	}
	for i := range now {
		e := &now[i]
		line, had := lines[e.Path]
		delete(lines, e.Path)
		switch {
		case !had:
			note(e, event.Appeared)
		case line != string(e.AppendLine(nil)):
			note(e, event.Changed)
		}
	}
	for i := range was {
		if _, gone := lines[was[i].Path]; gone {
			note(&was[i], event.Vanished)
		}
	}
	return append(files, folders...)
}
