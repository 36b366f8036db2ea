package workspace

import (
	"context"
	"errors"
	"path/filepath"
	"slices"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/spec/recipe"
)

// mostRounds bounds how often a recipe with mistakes is looked at again without those that were found.
const mostRounds = 10

// mostMistakes is up to how many mistakes others are looked for: each is taken out by a walk over the recipe.
const mostMistakes = 100

// everything adds to the mistakes of a recipe what can be found besides: of the rest of it, without whatever holds one. Only what depends on
// something that is wrong has to wait.
func (p Project) everything(wrong *recipe.Errors, c Choice) error {
	if len(wrong.Problems) > mostMistakes {
		return wrong
	}
	all := &recipe.Errors{File: wrong.File, Problems: slices.Clone(wrong.Problems)}
	for range mostRounds {
		rest := wrong.File.Without(all.Problems)
		if rest == nil {
			break
		}
		more := p.mistakes(rest, c)
		if more == nil || len(more.Problems) == 0 {
			break
		}
		for _, one := range more.Problems {
			all.Add(one.Pos, "%s", one.Message)
		}
	}
	slices.SortStableFunc(all.Problems, recipe.Problem.Compare)
	return all
}

// mistakes finds those of a recipe that is well-formed, and what it names of the project folder and is not there; nil where there is none, or
// something else is wrong.
func (p Project) mistakes(r *recipe.Recipe, c Choice) *recipe.Errors {
	planned, err := p.expand(r, c)
	var wrong *recipe.Errors
	if err != nil {
		errors.As(err, &wrong)
		return wrong
	}
	dir, err := filepath.Abs(p.Dir)
	if err != nil {
		return nil
	}
	folder, err := tree.OpenSource(dir, tree.SourceOptions{Ignore: ignored(r)})
	if err != nil {
		return nil
	}
	defer folder.Close()
	return engine.MissingSources(context.Background(), planned.Plan, folder)
}
