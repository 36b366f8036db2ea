package workspace

import (
	"context"
	"slices"
	"sync"
	"time"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/paths"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
)

// projectHistory is what version control and the facts know of a project.
type projectHistory struct {
	p          *Planned
	sink       event.Sink
	difference func() (engine.Difference, error)
}

func newProjectHistory(p *Planned, sink event.Sink) *projectHistory {
	return &projectHistory{p, sink, sync.OnceValues(func() (engine.Difference, error) {
		d, err := p.Facts.Git.Difference()
		return engine.Difference(d), err
	})}
}

// CommitTimes implements engine.History.
func (h *projectHistory) CommitTimes(ctx context.Context) (func(string) int64, error) {
	times, err := h.p.Facts.Git.Times(ctx)
	return func(path string) int64 {
		if when, known := times[path]; known {
			return when.Unix()
		}
		return 0
	}, err
}

// Created implements engine.History.
func (h *projectHistory) Created(ctx context.Context, touches paths.Set) (time.Time, error) {
	if epoch, given := h.p.Facts.Epoch(); given {
		return epoch, nil
	}
	newest, known, err := h.p.Facts.Git.Newest(ctx, touches)
	if h.p.Facts.Git.Guessed() {
		h.sink.Send(event.Warning{Code: event.Shallow, Text: "the clone is shallow, so images are dated by its oldest commit, and a full clone may give others: fetch the history, or set SOURCE_DATE_EPOCH"})
	}
	if err != nil || known {
		return newest.When, err
	}
	return layer.Epoch, nil
}

// Revision implements engine.History.
func (h *projectHistory) Revision(ctx context.Context, of []*plan.Unit, takes paths.Set) (string, error) {
	return h.p.Made(ctx, of, takes)
}

// Says implements engine.History.
func (h *projectHistory) Says(ctx context.Context, of []*plan.Unit) (string, error) {
	return h.p.Origin(ctx, of).Says()
}

// Edited implements engine.History.
func (h *projectHistory) Edited(ctx context.Context, of []*plan.Unit, changed []string) ([]string, error) {
	return h.p.Origin(ctx, of).Edited(changed)
}

// Committed implements engine.History.
func (h *projectHistory) Committed() bool {
	return h.p.Facts.Git.Known() && slices.ContainsFunc(h.p.Plan.Images, func(i *plan.Image) bool { return len(i.Destinations) > 0 })
}

// Difference implements engine.History.
func (h *projectHistory) Difference() (engine.Difference, error) { return h.difference() }

// objectNames returns what version control calls the bytes of a file that is as it left it.
func objectNames(g *facts.Git) func(path string, s tree.Stat) string {
	all := sync.OnceValue(g.Objects)
	return func(path string, s tree.Stat) string {
		one, known := all()[path]
		if !known || one.State != facts.StateOf(s) {
			return ""
		}
		return one.ID
	}
}
