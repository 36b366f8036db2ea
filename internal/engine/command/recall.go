package command

import (
	"context"
	"os"
	"slices"
	"time"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/explain"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

// Made is what a command left.
type Made struct {
	Tree *filetree.Tree
	Run  *step.Run
	// Refilled are the places among the fillers of those that ran again for their kept directories.
	Refilled []int
}

// Recall finds an earlier run of a command that would have gone the same way in its view, or why there is none.
func (r *Runner) Recall(ctx context.Context, c *Command) (*Made, event.Reason) {
	var first event.Reason
	for _, class := range r.Executor.Classes(ctx, c.Platform) {
		made, reason := r.recallIn(ctx, c.in(class))
		if made != nil {
			return made, nil
		}
		if first == nil {
			first = reason
		}
	}
	return nil, first
}

func (r *Runner) recallIn(ctx context.Context, c *Command) (*Made, event.Reason) {
	here := r.Store.Runs(c.Key)
	made, reason := r.among(ctx, c, here)
	if made == nil && r.Shared != nil {
		r.Shared.Run(ctx, c.Key)
		if all := r.Store.Runs(c.Key); len(all) > len(here) || reason == event.Lost {
			made, reason = r.among(ctx, c, all)
		}
	}
	if made == nil && reason == nil {
		reason = r.whyNew(c)
	}
	return made, reason
}

// among finds the first of some runs that would have gone the same way, or why none would.
func (r *Runner) among(ctx context.Context, c *Command, all []*store.Run) (*Made, event.Reason) {
	var reason event.Reason
	for i, record := range all {
		learnt, err := step.Learnt(r.Store, record)
		if err != nil {
			continue
		}
		if age := time.Since(record.Made); c.do.Expires > 0 && (age > c.do.Expires || age < 0) {
			reason = event.Expired{After: c.do.Expires}
			break // the others are older still
		}
		if d := learnt.Differences(c.View.Index, 1); len(d) > 0 {
			if i == 0 {
				looker := explain.Looker{Unit: c.unit.ID.Name, Base: c.base, View: c.View.Index, Steps: c.steps}
				reason = looker.Differs(learnt.Differences(c.View.Index, 0))
			}
			continue
		}
		t, err := r.treeOf(ctx, record, c.compression)
		if err != nil || !r.Store.RelyOnRun(record) {
			reason = event.Lost
			continue
		}
		return &Made{Tree: t, Run: &step.Run{ID: c.ID, Inputs: c.Inputs, Record: record, Fill: r.fill(c, record.Trace), Why: event.Recalled{
			WholeView: record.Whole != "", Spared: time.Duration(record.Millis) * time.Millisecond, Made: record.Made, Build: record.Build, Shared: record.Shared}}}, nil
	}
	return nil, reason
}

// treeOf finds a tree that a command left: its entries, and its contents where the executor or a layer has them.
func (r *Runner) treeOf(ctx context.Context, run *store.Run, compression layer.Compression) (*filetree.Tree, error) {
	text, found := r.Store.TreeEntries(run.Tree)
	if !found {
		return nil, os.ErrNotExist
	}
	entries, err := tree.DecodeEntries(string(text))
	if err != nil {
		return nil, err
	}
	summary := filetree.Summarize(entries)
	if summary.Key != run.Tree {
		return nil, digest.ErrMismatch
	}
	if summary.Files == 0 {
		return filetree.New(entries, nil), nil
	}
	if held, err := r.Executor.Holds(ctx, run.Tree, entries); err != nil {
		return nil, err
	} else if held != nil {
		return filetree.Of(entries, held), nil
	}
	for _, how := range []layer.Compression{compression, layer.Gzip, layer.Zstd, layer.None} {
		if record, found := r.Store.Record(layer.RecordKey(run.Tree, how)); found {
			contents, err := r.Library.Recorded(ctx, record, entries)
			return filetree.Of(entries, contents), err
		}
	}
	if places := r.Library.Places(ctx, entries, run.Parts); places != nil {
		return filetree.New(entries, places), nil
	}
	return nil, os.ErrNotExist
}

// LeftLast returns the tree that a unit's command left at the last build, by its place among the steps, without contents; nil if
// that is not known.
func (r *Runner) LeftLast(u *plan.Unit, index int) *filetree.Tree {
	if r.Past == nil {
		return nil
	}
	for _, past := range r.Past.Past(u.ID.Name, u.ID.Platform.String()) {
		if past.Key == "" || past.Label != u.Steps[index].Label {
			continue
		}
		for _, record := range r.Store.Runs(past.Key) {
			text, found := r.Store.TreeEntries(record.Tree)
			if entries, err := tree.DecodeEntries(string(text)); found && err == nil {
				return filetree.New(entries, nil)
			}
		}
	}
	return nil
}

// whyNew tells why there is no run of a command: how it differs from the step that it was at the last build.
func (r *Runner) whyNew(c *Command) event.Reason {
	if r.Past == nil {
		return event.FirstTime
	}
	past := r.Past.Past(c.unit.ID.Name, c.unit.ID.Platform.String())
	var current []string
	for i := range c.unit.Steps {
		current = append(current, c.unit.Steps[i].Label)
	}
	var was *explain.PastStep
	for i := range past {
		if p := &past[i]; p.Key != "" && p.Key != c.Key && p.Label == c.Task.Label {
			was = p
		}
	}
	if at := c.Name.Index; was == nil && at < len(past) && past[at].Key != "" && past[at].Key != c.Key && !slices.Contains(current, past[at].Label) {
		was = &past[at]
	}
	if was == nil {
		return event.FirstTime
	}
	if changes := explain.Given(explain.DecodeInputs(was.Inputs), c.inputs); len(changes) > 0 {
		return event.Given{Changes: changes}
	}
	return event.FirstTime
}
