package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/compose"
	"imbricat/internal/engine/sources"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

// Taking is what is wanted of a unit as files, when all else is built. It is picked as a take step would pick it.
type Taking struct {
	Unit  *plan.Unit
	Paths []string // absolute, clean; may hold patterns
	// Folder is where Use writes, relative to the project folder, with slashes; empty: outside of it.
	Folder string
	Use    func(ctx context.Context, t *filetree.Tree) error
}

// take hands what is wanted of a unit on.
func (w *work) take(ctx context.Context, t *Taking) error {
	view, err := w.units[t.Unit].view().Index(ctx)
	if err != nil {
		return err
	}
	do := plan.Take{Unit: t.Unit, Paths: t.Paths, To: plan.Target{Path: "/", Folder: true}}
	for range t.Paths {
		do.PathPos = append(do.PathPos, do.Pos)
	}
	made, err := w.tools.Compose(ctx, compose.Of(do), compose.Setting{Step: &plan.Step{Do: do}, Unit: t.Unit.ID, Below: step.Nothing(),
		Inputs: compose.Inputs{Units: map[*plan.Unit]*tree.View{t.Unit: view}}, Tell: event.Reporter{Sink: event.Discard}, Stage: true})
	if err != nil {
		return err
	}
	w.warnOfOutput(t.Folder)
	return t.Use(ctx, made.Tree)
}

// warnOfOutput tells where steps take in what is written into a folder of the project.
func (w *work) warnOfOutput(folder string) {
	if folder == "" {
		return
	}
	takes := false
	w.tools.Project.Each(func(c *sources.Picked) {
		takes = takes || slices.ContainsFunc(c.Survey.Picked, func(p tree.Picked) bool { return strings.HasPrefix(p.Path, folder+"/") })
	})
	if takes {
		w.tools.Warner.Warn(nil, event.OwnOutput, fmt.Sprintf(
			"steps take in what lies in %[1]s, so writing there changes what the next build reads: leave it out, with sources: {leave-out: [/%[1]s/]}", folder))
	}
}
