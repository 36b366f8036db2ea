package command

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/explain"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
	"imbricat/internal/spec/plan"
)

// Files have one constant time unless a recipe says otherwise, so a tool that compares times cannot tell that a later step
// has replaced what it made something of. Nobody can fix that for the tool; it is warned of where it is seen to be near.

// timeTools are programs that take what they made for current when it is not older than what it was made of.
var timeTools = []string{"make", "gmake", "bmake", "pmake", "ninja", "samu", "ant", "mvn", "cargo", "rake", "latexmk"}

// Later is a step that comes after commands.
type Later struct {
	Step    *plan.Step
	Name    step.Name
	Tree    *filetree.Tree
	Below   *step.View
	Before  []*step.Outcome // of the units below as well
	RunsToo bool            // a command comes after it
}

// WarnStale warns of a step that replaces files which an earlier command read, where a tool may go on with what it made of
// them before.
func (r *Runner) WarnStale(ctx context.Context, l Later) error {
	if l.Step.RisingTimes || l.Tree.Empty || slices.Contains(r.Plan.Silence, event.Stale) || slices.Contains(l.Step.Silence, event.Stale) {
		return nil
	}
	var commands []*step.Outcome
	places := ""
	for _, before := range l.Before {
		if before.Run != nil {
			commands, places = append(commands, before), places+" "+before.Name.Place()
		}
	}
	if len(commands) == 0 {
		return nil
	}
	question := filetree.KeyOfText(fmt.Sprintf("imbricat stale 1\n%s\n%s\n%s %v\n", l.Below.Key(), l.Tree.Key, places, l.RunsToo))
	text, known := r.Store.Note(question)
	if !known {
		found, err := r.stale(ctx, l, commands)
		if err != nil {
			return err
		}
		text = []byte(found)
		if err := r.Store.PutNote(question, text); err != nil {
			return err
		}
	}
	if len(text) > 0 {
		r.Warner.Warn(l.Step, event.Stale, fmt.Sprintf("%s, %s: %s", l.Name.Unit, l.Step.Label, text))
	}
	return nil
}

// stale finds the first file that a step replaces and that a tool may not notice; empty where there is none.
func (r *Runner) stale(ctx context.Context, l Later, commands []*step.Outcome) (string, error) {
	view, err := l.Below.Index(ctx)
	if err != nil {
		return "", err
	}
	entries, err := l.Tree.Entries(ctx)
	if err != nil {
		return "", err
	}
	replaced := map[string]*tree.Entry{}
	for i := range entries {
		e := &entries[i]
		if n, exists := view.Lookup(e.Path); e.Kind == tree.File && exists && n.Kind == tree.File && n.Content != e.Content && e.Time <= n.Time {
			replaced[e.Path] = e
		}
	}
	if len(replaced) == 0 {
		return "", nil
	}
	for _, command := range commands {
		learnt, err := step.Learnt(r.Store, command.Run.Record)
		if err != nil {
			continue // it is gone, and there is nothing to say
		}
		left, err := command.Entries(ctx)
		if err != nil {
			return "", err
		}
		if found := staleIn(view, learnt, left, replaced, l.RunsToo); found != "" {
			return fmt.Sprintf(found, command.Name.Place()), nil
		}
	}
	return "", nil
}

// staleIn tells which file that a command read is replaced so that a tool may not notice; %s stands for the command.
func staleIn(view *tree.View, learnt *trace.Trace, left []tree.Entry, replaced map[string]*tree.Entry, later bool) string {
	tool := ""
	for i := range learnt.Entries {
		if name := path.Base(learnt.Entries[i].Path); slices.Contains(timeTools, name) && learnt.Entries[i].Answer[0] != '-' {
			tool = name
		}
	}
	cached := map[string]bool{}
	for i := range left {
		// __pycache__/levels.cpython-313.pyc is of levels.py beside the folder.
		dir, name := path.Split(left[i].Path)
		if stem, _, compiled := strings.Cut(name, "."); compiled && strings.HasSuffix(name, ".pyc") && path.Base(dir) == "__pycache__" {
			cached[tree.Join(tree.Parent(tree.Parent(left[i].Path)), stem+".py")] = true
		}
	}
	for i := range learnt.Entries {
		p := learnt.Entries[i].Path
		e := replaced[p]
		if e == nil || learnt.Entries[i].Asked&(trace.Meta|trace.Content) == 0 {
			continue
		}
		p = strings.ReplaceAll(p, "%", "%%")
		n, _ := view.Lookup(e.Path)
		switch {
		case cached[e.Path] && n.Size == e.Size:
			return "it replaces /" + p + ", of which %s left compiled Python code, by a file of the same size and time, so Python goes on with that; lay it down before, remove __pycache__, or set times: rising on this step"
		case tool != "" && later:
			return "it replaces /" + p + ", which %s read, and all files have one time, so " + tool + " may take what it made of the old one for current; lay it down before, or set times: rising on this step"
		}
	}
	return ""
}

// warnUnstable warns of a command that left something else than before, though it learnt the same of its view: something
// that nobody observes decides what it leaves.
func (r *Runner) warnUnstable(c *Command, record *store.Run, entries []tree.Entry, learnt *trace.Trace, earlier []*store.Run) {
	for _, run := range earlier {
		if run.Trace != record.Trace || run.Tree == record.Tree {
			continue
		}
		what := ""
		if text, found := r.Store.TreeEntries(run.Tree); found {
			if before, err := tree.DecodeEntries(string(text)); err == nil {
				if changes := explain.Changes(before, entries); len(changes) > 0 {
					what = ": " + changedWords(changes)
				}
			}
		}
		if brought := store.BroughtElse(run.Reached, record.Reached); len(brought) > 0 {
			r.Warner.Warn(c.step, event.Unstable, fmt.Sprintf("%s, %s left something else than at %s: %s brought something else%s", c.Name.Unit.Name, c.Task.Label,
				run.Made.Local().Format(time.DateTime), say.Some(brought), what))
			return
		}
		causes := []string{"the clock", "chance"}
		if c.Outside() {
			causes = append(causes, "the network")
		}
		if len(c.Keep) > 0 {
			causes = append(causes, "its kept directories")
		}
		if slices.ContainsFunc(learnt.Entries, func(e trace.Entry) bool { return e.Asked&trace.Names != 0 }) {
			causes = append(causes, "the order in which a folder lists its names")
		}
		if slices.ContainsFunc(learnt.Entries, func(e trace.Entry) bool { return e.Asked&trace.Meta != 0 && e.Answer[0] == 'd' }) {
			causes = append(causes, "the size or the number of links that a folder shows")
		}
		last := len(causes) - 1
		r.Warner.Warn(c.step, event.Unstable, fmt.Sprintf("%s, %s left something else than at %s, though it read the same%s; what it leaves depends on something that is not observed: %s or %s",
			c.Name.Unit.Name, c.Task.Label, run.Made.Local().Format(time.DateTime), what, strings.Join(causes[:last], ", "), causes[last]))
		return
	}
}

// changedWords names the first of some changes.
func changedWords(changes []event.Change) string {
	verbs := map[event.ChangeKind]string{event.Appeared: "appeared", event.Vanished: "vanished", event.Changed: "changed"}
	var words []string
	for _, c := range changes {
		words = append(words, "/"+c.Path+" "+verbs[c.Kind])
	}
	return say.Some(words)
}
