package build

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/store"
	"imbricat/internal/trace"
	"imbricat/internal/tree"
)

// Files have one constant time unless a recipe says otherwise, so a tool that compares times cannot tell that a later step
// has replaced what it made something of. Nobody can fix that for the tool; it is warned of where it is seen to be near.

// timeTools are programs that take what they made for current when it is not older than what it was made of.
var timeTools = []string{"make", "gmake", "bmake", "pmake", "ninja", "samu", "ant", "mvn", "cargo", "rake", "latexmk"}

// warnStale warns of a step that replaces files which an earlier command read, where a tool may go on with what it made of
// them before. Steps of stages and images below count as well.
func (b *builder) warnStale(ctx context.Context, u *plan.Unit, i int, s *unitState, t *stepTree) error {
	step := &u.Steps[i]
	if step.RisingTimes || t.empty || slices.Contains(b.o.Plan.Silence, event.Stale) || slices.Contains(step.Silence, event.Stale) {
		return nil
	}
	var commands []*stepTree
	places := ""
	for _, below := range slices.Concat(s.below, s.trees) {
		if below.ran != nil && below.ran.record != nil {
			commands, places = append(commands, below), places+" "+below.task.Place
		}
	}
	if len(commands) == 0 {
		return nil
	}
	later := slices.ContainsFunc(u.Steps[i+1:], func(step plan.Step) bool { _, is := step.Do.(plan.Run); return is })
	question := keyOfText(fmt.Sprintf("imbricat stale 1\n%s\n%s\n%s %v\n", s.identity(s.own), t.key, places, later))
	text, known := b.o.Store.Note(question)
	if !known {
		found, err := b.stale(ctx, s, t, commands, later)
		if err != nil {
			return err
		}
		text = []byte(found)
		if err := b.o.Store.PutNote(question, text); err != nil {
			return err
		}
	}
	if len(text) > 0 {
		b.warning(step, event.Stale, fmt.Sprintf("%s, %s: %s", u.ID.Name, step.Label, text))
	}
	return nil
}

// stale finds the first file that a step replaces and that a tool may not notice; empty where there is none.
func (b *builder) stale(ctx context.Context, s *unitState, t *stepTree, commands []*stepTree, later bool) (string, error) {
	view, err := s.see(ctx)
	if err != nil {
		return "", err
	}
	entries, err := t.all(ctx)
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
		learnt, err := b.learnt(command.ran.record)
		if err != nil {
			continue // it is gone, and there is nothing to say
		}
		left, err := command.all(ctx)
		if err != nil {
			return "", err
		}
		if found := staleIn(view, learnt, left, replaced, later); found != "" {
			return fmt.Sprintf(found, command.task.Place), nil
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
func (b *builder) warnUnstable(c *command, t *stepTree, learnt *trace.Trace, earlier []*store.Run) {
	for _, run := range earlier {
		if run.Trace != t.ran.record.Trace || run.Tree == t.key {
			continue
		}
		what := ""
		if text, found := b.o.Store.Entries(run.Tree); found {
			if before, err := tree.DecodeEntries(string(text)); err == nil {
				if changed := changedEntries(before, t.entries); len(changed) > 0 {
					what = ": " + Some(changed)
				}
			}
		}
		causes := []string{"the clock", "chance"}
		if c.do.Network {
			causes = append(causes, "the network")
		}
		if len(c.do.Keep) > 0 {
			causes = append(causes, "its kept directories")
		}
		if slices.ContainsFunc(learnt.Entries, func(e trace.Entry) bool { return e.Asked&trace.Names != 0 }) {
			causes = append(causes, "the order in which a folder lists its names")
		}
		if slices.ContainsFunc(learnt.Entries, func(e trace.Entry) bool { return e.Asked&trace.Meta != 0 && e.Answer[0] == 'd' }) {
			causes = append(causes, "the size or the number of links that a folder shows")
		}
		last := len(causes) - 1
		b.warning(c.step, event.Unstable, fmt.Sprintf("%s, %s left something else than at %s, though it read the same%s; what it leaves depends on something that is not observed: %s or %s",
			c.unit.ID.Name, c.task.Label, run.Made.Local().Format(time.DateTime), what, strings.Join(causes[:last], ", "), causes[last]))
		return
	}
}
