package engine

import (
	"context"

	"imbricat/internal/content/image"
	"imbricat/internal/engine/compose"
	"imbricat/internal/engine/graph"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/step"
)

// foresight tells what steps will lay down that lie above others of which that is not known yet. It takes for granted that
// commands leave what they left at the last build: the folders that a copy puts its files into are the same then.
type foresight struct {
	w         *work
	outcomes  map[*stepNode]*step.Outcome // nil: it cannot be told
	views     map[*stepNode]*step.View    // above them
	divisions map[*unitNode]*layering.Division
}

func newForesight(w *work) foresight {
	return foresight{w, map[*stepNode]*step.Outcome{}, map[*stepNode]*step.View{}, map[*unitNode]*layering.Division{}}
}

// foresee returns what a step will lay down if that does not depend on what the steps below it leave; nil if it does, or if it
// cannot be told.
func (f *foresight) foresee(ctx context.Context, s *stepNode) *step.Outcome {
	if !compose.StandsAlone(s.plan) {
		return nil
	}
	for _, u := range s.inputs.units {
		if u.done.State() != graph.Done {
			return nil
		}
	}
	return f.outcome(ctx, s)
}

// outcome returns what a step lays down, on a view that is known or taken for granted; nil if that cannot be told.
func (f *foresight) outcome(ctx context.Context, s *stepNode) *step.Outcome {
	if s.outcome != nil {
		return s.outcome
	}
	if known, asked := f.outcomes[s]; asked {
		return known
	}
	f.outcomes[s] = f.workOut(ctx, s)
	return f.outcomes[s]
}

func (f *foresight) workOut(ctx context.Context, s *stepNode) *step.Outcome {
	if s.settled != nil && s.settled.State() != graph.Done {
		return nil
	}
	o := &step.Outcome{Name: s.name, Task: s.task, Annotations: s.plan.Annotations}
	if compose.Of(s.plan.Do) == nil {
		if o.Tree = f.w.runner.LeftLast(s.unit.plan, s.name.Index); o.Tree == nil {
			return nil
		}
		return o
	}
	below := f.below(ctx, s.unit, s.name.Index)
	if below == nil || !f.ready(ctx, s.inputs) {
		return nil
	}
	laid, err := f.w.compose(ctx, s, s.plan, below, func(u *unitNode) *step.View { return f.top(ctx, u) })
	if err != nil {
		return nil // the build tells it, if it is so then
	}
	o.Tree = laid.tree
	return o
}

// ready reports whether what a step names is known or taken for granted.
func (f *foresight) ready(ctx context.Context, in inputsOf) bool {
	for _, u := range in.units {
		if f.top(ctx, u) == nil {
			return false
		}
	}
	for _, base := range in.images {
		if base.base == nil {
			return false
		}
	}
	for _, file := range in.files {
		if file.file == nil {
			return false
		}
	}
	return true
}

// top returns the view above all steps of a unit, and below that of one of its steps, by its place. Steps that cannot be told
// lay nothing down there. It is nil if what lies lowest is not known.
func (f *foresight) top(ctx context.Context, n *unitNode) *step.View {
	return f.below(ctx, n, len(n.steps))
}

func (f *foresight) below(ctx context.Context, n *unitNode, index int) *step.View {
	switch {
	case index > 0:
		return f.above(ctx, n.steps[index-1])
	case n.bottom != nil:
		return n.bottom
	case n.below != nil:
		return f.top(ctx, n.below)
	}
	return nil
}

func (f *foresight) above(ctx context.Context, s *stepNode) *step.View {
	if s.above != nil {
		return s.above
	}
	if known, asked := f.views[s]; asked {
		return known
	}
	view := f.below(ctx, s.unit, s.name.Index)
	if view != nil {
		if o := f.outcome(ctx, s); o != nil && !o.Empty {
			view = f.w.views.Above(view, o)
		}
	}
	f.views[s] = view
	return view
}

// division returns how an image will be divided into layers, as far as what its steps lay down is known or taken for granted;
// nil if that cannot be told.
func (f *foresight) division(ctx context.Context, n *unitNode) *layering.Division {
	if n.image != nil && n.image.division != nil {
		return n.image.division
	}
	if known, asked := f.divisions[n]; asked {
		return known
	}
	f.divisions[n] = f.divide(ctx, n)
	return f.divisions[n]
}

func (f *foresight) divide(ctx context.Context, n *unitNode) *layering.Division {
	u := &layering.Unit{Plan: n.plan}
	if below := n.imageBelow(); below != nil {
		division := f.division(ctx, below)
		if division == nil {
			return nil
		}
		u.Inherited = division.Layers
	}
	if base := f.base(n); base != nil {
		u.Base = len(base.Layers)
	}
	units := []*unitNode{n}
	for below := n.below; below != nil && !below.plan.IsImage; below = below.below {
		units = append([]*unitNode{below}, units...)
	}
	for _, unit := range units {
		for _, s := range unit.steps {
			u.MostSteps++
			if o := f.outcome(ctx, s); o != nil && !o.Empty {
				u.Steps = append(u.Steps, f.w.piece(n, s, o))
			}
		}
	}
	division, err := f.w.divider.Divide(ctx, u, nil)
	if err != nil {
		return nil
	}
	return division
}

// base returns the image elsewhere that lies lowest; nil if there is none, or if it is not known.
func (f *foresight) base(n *unitNode) *image.Base {
	for ; n != nil; n = n.below {
		if n.base != nil {
			return n.base
		}
	}
	return nil
}
