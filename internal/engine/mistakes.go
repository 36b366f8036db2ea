package engine

import (
	"context"
	"errors"
	"slices"

	"imbricat/internal/content/census"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/compose"
	"imbricat/internal/engine/sources"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// LateError is what is wrong with a recipe and was only found when commands had been run.
type LateError struct{ Wrong *recipe.Errors }

// Error implements error.
func (e *LateError) Error() string { return e.Wrong.Error() }

// late tells a mistake that is found while nothing was started from one that is found later.
func (w *work) late(err error) error {
	var wrong *recipe.Errors
	if !errors.As(err, &wrong) {
		return err
	}
	for _, u := range w.units {
		for _, s := range u.steps {
			if s.outcome != nil && s.outcome.Run != nil && s.outcome.Run.Ran {
				return &LateError{wrong}
			}
		}
	}
	return err
}

// Wrong looks for owners that images do not have, as far as that can be known before any command is run. It does nothing where a plan
// names no owner, or runs no command before which something could be found.
func Wrong(ctx context.Context, in Inputs) error {
	var names, runs bool
	for _, u := range in.Plan.Units {
		for _, s := range u.Steps {
			names = names || slices.ContainsFunc(s.Do.Owners(), plan.Owner.Named)
			runs = runs || compose.Of(s.Do) == nil
		}
	}
	if !names || !runs {
		return nil
	}
	in.Sink = event.Discard
	w := newWork(ctx, Options{Inputs: in}, true)
	defer w.close()
	var wrong *recipe.Errors
	if errors.As(w.lookOver(ctx), &wrong) {
		return wrong
	}
	return nil // what else there is the build itself tells
}

// MissingSources finds what steps of a plan are to take of the project folder and cannot, without doing anything else.
func MissingSources(ctx context.Context, p *plan.Plan, folder *tree.Source) *recipe.Errors {
	problems := &recipe.Errors{File: p.File}
	ctx, done := context.WithCancel(ctx)
	defer done()
	tools := compose.NewTools(ctx, compose.Tools{File: p.File, Project: sources.NewProject(ctx, folder, nil, &census.Classes{}), Warner: &warner{sink: event.Discard, told: map[[2]string]bool{}}})
	for _, u := range p.Units {
		for i := range u.Steps {
			compose.Check(tools, &u.Steps[i], problems.Add)
		}
	}
	return problems
}
