package build

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"imbricat/internal/digest"
	"imbricat/internal/layer"
	"imbricat/internal/store"
	"imbricat/internal/trace"
	"imbricat/internal/tree"
)

// PastStep is a run step of the last build of a unit.
type PastStep struct {
	Label  string
	Key    digest.Key    // of the command
	Inputs string        // what the key is made of, as lines of names and quoted values
	Took   time.Duration // when it was done
	Layer  digest.DiffID // of a step that is no command
}

// input is a part of a command's key, with a name that people know.
type input struct{ name, value string }

// encodeInputs writes inputs as lines: the name and the quoted value.
func encodeInputs(all []input) string {
	var out strings.Builder
	for _, in := range all {
		fmt.Fprintf(&out, "%s %q\n", in.name, in.value)
	}
	return out.String()
}

func decodeInputs(text string) (all []input) {
	for line := range strings.Lines(text) {
		var in input
		if n, err := fmt.Sscanf(line, "%s %q\n", &in.name, &in.value); n == 2 && err == nil {
			all = append(all, in)
		}
	}
	return all
}

// why is a reason in one line, and all that there is to say of it.
type why struct {
	text string
	more []string
}

// recall finds an earlier run of the command that would have gone the same way in this view, or why there is none.
func (b *builder) recall(ctx context.Context, c *command) (*stepTree, why) {
	here := b.o.Store.Runs(c.key)
	t, reason := b.among(ctx, c, here)
	if t == nil && b.o.Shared != nil {
		b.o.Shared.Run(ctx, c.key)
		if all := b.o.Store.Runs(c.key); len(all) > len(here) || reason.text == gone {
			t, reason = b.among(ctx, c, all)
		}
	}
	if t == nil && reason.text == "" {
		reason = b.whyNew(c)
	}
	return t, reason
}

// among finds the first of some runs that would have gone the same way, or why none would.
func (b *builder) among(ctx context.Context, c *command, all []*store.Run) (*stepTree, why) {
	reason := why{}
	for i, record := range all {
		learnt, err := b.learnt(record)
		if err != nil {
			continue
		}
		if age := time.Since(record.Made); c.do.Expires > 0 && (age > c.do.Expires || age < 0) {
			reason = why{text: "its result is older than " + c.do.Expires.String()}
			break // the others are older still
		}
		if d := learnt.Differences(c.view, 1); len(d) > 0 {
			if i == 0 {
				reason = b.differs(c, learnt.Differences(c.view, 0))
			}
			continue
		}
		t, err := b.treeOf(ctx, record, layer.Compression(c.unit.Compression))
		if err != nil || !b.o.Store.RelyOnRun(record) {
			reason = why{text: gone}
			continue
		}
		t.ran = &ran{outcome: reused, why: spared(record), kept: record.Kept, record: record}
		return t, why{}
	}
	return nil, reason
}

const gone = "what it left is gone from the store"

// learnt gives the trace of a run.
func (b *builder) learnt(record *store.Run) (*trace.Trace, error) {
	text, found := b.o.Store.Trace(record.Trace)
	if !found || trace.ID(text) != record.Trace {
		return nil, digest.ErrMismatch
	}
	return trace.Decode(string(text))
}

// leastSpared is below what a spared time is worth no word.
const leastSpared = 500 * time.Millisecond

// spared is why a run is reused.
func spared(record *store.Run) why {
	w := why{text: sameReads}
	if record.Whole != "" {
		w.text = sameView
	}
	if took := time.Duration(record.Millis) * time.Millisecond; took >= leastSpared {
		w.text += ", " + shortly(took) + " spared"
	}
	w.more = []string{"ran at " + record.Made.Local().Format(time.DateTime) + ", build " + record.Build}
	if record.Shared {
		w.text += ", from the shared cache"
		w.more = []string{"ran at " + record.Made.Local().Format(time.DateTime) + " on another machine"}
	}
	return w
}

func shortly(d time.Duration) string {
	if d < 10*time.Second {
		return d.Round(100 * time.Millisecond).String()
	}
	return d.Round(time.Second).String()
}

// differs puts differences into words: that of most weight first, with where the path comes from.
func (b *builder) differs(c *command, all []trace.Difference) why {
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
	slices.SortStableFunc(all, func(x, y trace.Difference) int { return weight(x) - weight(y) })
	w := why{}
	for _, d := range all {
		text := d.String()
		if from := b.origin(c, d.Path); from != "" && d.Why == "" {
			text += " (" + from + ")"
		}
		w.more = append(w.more, text)
	}
	if w.text = w.more[0]; len(all) > 1 {
		w.text += fmt.Sprintf(", and %d more", len(all)-1)
	}
	return w
}

// origin tells what put a path into a view: a step of the recipe, or the base.
func (b *builder) origin(c *command, p string) string {
	n, exists := c.view.Lookup(p)
	if !exists {
		return ""
	}
	return b.originOf(c, n)
}

func (b *builder) originOf(c *command, n *tree.Node) string {
	switch from := n.From.(type) {
	case *stepTree:
		if from.task.Unit != c.unit.ID.Name {
			return from.task.Unit + ": " + from.task.Label
		}
		return from.task.Label
	case *packedContents:
		if c.base != "" {
			return "base " + c.base
		}
	}
	return ""
}

// whyNew tells why there is no run of a command: how it differs from the step that it was at the last build.
func (b *builder) whyNew(c *command) why {
	first := why{text: newCommand}
	if b.o.Past == nil {
		return first
	}
	past := b.o.Past(c.unit.ID.Name, c.unit.ID.Platform.String())
	if len(past) == 0 {
		return first
	}
	var current []string
	index := 0
	for i := range c.unit.Steps {
		if current = append(current, c.unit.Steps[i].Label); &c.unit.Steps[i] == c.step {
			index = i
		}
	}
	var was *PastStep
	for i := range past {
		p := &past[i]
		if p.Key != "" && p.Key != c.key && p.Label == c.task.Label {
			was = p
		}
	}
	if was == nil && index < len(past) && past[index].Key != "" && past[index].Key != c.key && !slices.Contains(current, past[index].Label) {
		was = &past[index]
	}
	if was == nil {
		return first
	}
	if w := otherInputs(decodeInputs(was.Inputs), c.inputs()); w.text != "" {
		return w
	}
	return first
}

// otherInputs puts into words what a command is given that it was not given before.
func otherInputs(was, now []input) why {
	w := why{}
	say := func(text string, more ...string) {
		if w.text == "" {
			w.text = text
		}
		w.more = append(append(w.more, text), more...)
	}
	if old, current := valuesOf(was, "arg"), valuesOf(now, "arg"); !slices.Equal(old, current) {
		text, more := otherLines(old, current)
		say("the command changed: "+text, more...)
	}
	oldEnv, env := pairs(valuesOf(was, "env")), pairs(valuesOf(now, "env"))
	for _, name := range union(oldEnv, env) {
		old, had := oldEnv[name]
		current, has := env[name]
		switch {
		case !had:
			say("the environment " + name + " is new")
		case !has:
			say("the environment " + name + " is gone")
		case old != current:
			say("the environment " + name + " changed")
		}
	}
	for _, name := range []string{"user", "in", "platform", "network", "fresh-tmp", "times", "keep", "secret", "machine", "ids", "sandbox"} {
		if !slices.Equal(valuesOf(was, name), valuesOf(now, name)) {
			say(inputNames[name] + " changed")
		}
	}
	return w
}

var inputNames = map[string]string{"user": "its user", "in": "its folder", "platform": "its platform", "network": "its network", "fresh-tmp": "its /tmp", "times": "the time of its files", "machine": "what it sees of this machine",
	"keep": "its kept directories", "secret": "its secrets", "ids": "the ids that the sandbox has", "sandbox": "the sandbox's version"}

func valuesOf(all []input, name string) (values []string) {
	for _, in := range all {
		if in.name == name {
			values = append(values, in.value)
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
	short := func(s string) string {
		if r := []rune(s); len(r) > 50 {
			return string(r[:49]) + "…"
		}
		return s
	}
	switch {
	case len(come) > 0 && len(gone) > 0:
		return fmt.Sprintf("%q was %q", short(come[0]), short(gone[0])), more
	case len(come) > 0:
		return fmt.Sprintf("%q is new", short(come[0])), more
	case len(gone) > 0:
		return fmt.Sprintf("%q is gone", short(gone[0])), more
	}
	return "its lines are in another order", more
}

func notIn(all, those []string) (rest []string) {
	for _, one := range all {
		if !slices.Contains(those, one) {
			rest = append(rest, one)
		}
	}
	return rest
}

// whyPacked tells how a step's tree differs from the layer that the step was at the last build.
func (b *builder) whyPacked(ctx context.Context, t *stepTree) why {
	w := why{text: notPacked}
	if b.o.Past == nil || t.ran != nil {
		return w
	}
	var was digest.DiffID
	for _, p := range b.o.Past(t.task.Unit, t.task.Platform) {
		if p.Label == t.task.Label && p.Layer != "" {
			was = p.Layer
		}
	}
	text, found := b.o.Store.Tree(was)
	if was == "" || !found {
		return w
	}
	indexed, err := layer.DecodeIndex(text)
	entries, entriesErr := t.all(ctx)
	if err != nil || entriesErr != nil {
		return w
	}
	w.more = changedEntries(indexed.Entries, entries)
	if len(w.more) > 0 {
		w.text += ": " + w.more[0]
	}
	if len(w.more) > 1 {
		w.text += fmt.Sprintf(", and %d more", len(w.more)-1)
	}
	return w
}

// changedEntries says which paths of a layer differ, files before folders.
func changedEntries(was, now []tree.Entry) (files []string) {
	lines := map[string]string{}
	for i := range was {
		lines[was[i].Path] = string(was[i].AppendLine(nil))
	}
	var folders []string
	say := func(e *tree.Entry, what string) {
		if text := "/" + e.Path + " " + what; e.Kind == tree.Folder {
			folders = append(folders, text)
		} else {
			files = append(files, text)
		}
	}
	for i := range now {
		e := &now[i]
		line, had := lines[e.Path]
		delete(lines, e.Path)
		switch {
		case !had:
			say(e, "appeared")
		case line != string(e.AppendLine(nil)):
			say(e, "changed")
		}
	}
	for i := range was {
		if _, gone := lines[was[i].Path]; gone {
			say(&was[i], "vanished")
		}
	}
	return append(files, folders...)
}
