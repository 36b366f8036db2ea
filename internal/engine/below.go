package engine

import (
	"context"
	"fmt"
	"slices"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/engine/command"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/plan"
)

// Below is what lies below a step.
type Below struct {
	Unit   *plan.Unit
	Step   *plan.Step
	Name   step.Name
	View   *step.View      // with what is lent to the step
	Own    *step.View      // without; nil: nothing is lent
	Config *v1.ImageConfig // nil where no image is below
}

// Beneath builds what lies below a step, that number (from 1) of a unit's steps, and hands it to use; when that returns, what the
// view is read from may be gone. Nothing is packed, and nothing from the step on is made.
func Beneath(ctx context.Context, o Options, name string, p platform.Platform, number int, use func(*Below) error) error {
	at := slices.IndexFunc(o.Plan.Units, func(u *plan.Unit) bool { return u.ID.Name == name && u.ID.Platform == p })
	if at < 0 {
		return fmt.Errorf("the plan has no %s for %s", name, p)
	}
	u := o.Plan.Units[at]
	if number < 1 || number > len(u.Steps) {
		return fmt.Errorf("%s has %d steps, and no step %d", u.ID, len(u.Steps), number)
	}
	short := *u
	short.Steps, short.IsImage = u.Steps[:number-1], false
	only := *o.Plan
	only.Units = slices.Clone(o.Plan.Units)
	only.Units[at] = &short
	o.Plan = &only
	w := newWork(ctx, o, false)
	defer w.close()
	if err := w.prepare(ctx); err != nil {
		return err
	}
	n := w.unit(&short)
	own := u.Steps[number-1]
	if late := own.Late; late != nil {
		w.settle(n, late.Needs, func(k plan.Known) (func(), error) {
			do, err := late.Settle(k)
			return func() { own.Do = do }, err
		})
	}
	s := &stepNode{unit: n, plan: &own, name: step.Name{Unit: u.ID, Index: number - 1}}
	s.task = event.Task{ID: u.ID.String(), Unit: u.ID.Name, Platform: u.ID.Platform.String(), Place: s.name.Place(), Label: own.Label}
	w.inputs(s)
	if err := w.graph.Run(ctx); err != nil {
		return err
	}
	var lent command.Setting
	if err := w.lend(ctx, s, n.view(), &lent); err != nil {
		return err
	}
	out := &Below{Unit: u, Step: &own, Name: s.name, View: lent.Below, Own: lent.Own}
	if base := n.inherited(); base != nil {
		out.Config = &base.Config.Config
	}
	return use(out)
}
