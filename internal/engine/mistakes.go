package engine

import (
	"context"

	"imbricat/internal/content/census"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/compose"
	"imbricat/internal/engine/sources"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

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
