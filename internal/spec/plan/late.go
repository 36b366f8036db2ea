package plan

import (
	"sync"

	"imbricat/internal/content/image"
	"imbricat/internal/spec/recipe"
)

// Known is what some values of a plan need, and what is known only once work has begun.
type Known struct {
	Env, Labels map[string]string // of what lies below
	User        string
	// Result returns the text of a file of a unit, or nil where it is not there. The unit is among those that are needed.
	Result func(u *Unit, path string) (any, error)
}

// Late are the values of a step, or the settings and annotations of an image, that can be settled only once work has begun.
type Late[T any] struct {
	Needs  []*Unit // whose results are asked for
	settle func(Known) (T, error)
}

// Settle works out the values. The error is a *recipe.Errors.
func (l *Late[T]) Settle(k Known) (T, error) { return l.settle(k) }

// ImageValues are what an image says of itself.
type ImageValues struct {
	Settings    image.Settings
	Annotations map[string]string
	Places      Places
}

// Places are where settings stand that name something of the image's tree; the zero value where they are not given.
type Places struct{ User, WorkingDir, Program recipe.Pos }

// settling is held by whoever settles values: what they are made of is shared.
type settling struct{ sync.Mutex }

// missing gathers what values need that is not known yet.
type missing struct {
	late  bool
	units []*Unit
}

// tooEarly reports whether a template needs what is not known yet; that it does is noted.
func (e *evaluator) tooEarly(t recipe.Template) bool {
	if e.scope.Late != nil || !t.IsLate() {
		return false
	}
	e.missing.late = true
	for _, use := range t.Results() {
		e.missing.units = append(e.missing.units, e.unit(use.Name, e.platform))
	}
	return true
}

// settled works out values as far as they are known already. Where more is needed, how they are settled later is returned with them.
func settled[T any](e *evaluator, values func(*evaluator) T) (T, *Late[T]) {
	now := *e
	now.missing = &missing{}
	known := values(&now)
	if !now.missing.late {
		return known, nil
	}
	return known, &Late[T]{Needs: now.missing.units, settle: func(k Known) (T, error) {
		e.settling.Lock()
		defer e.settling.Unlock()
		expander, scope := *e.expander, *e.scope
		expander.problems, expander.doubts = &recipe.Errors{File: e.recipe.File}, nil
		scope.Late = &recipe.Late{Env: k.Env, Labels: k.Labels, User: k.User, Result: func(name, path string) (any, error) {
			return k.Result(e.units[UnitID{name, e.platform}], path)
		}}
		out := values(&evaluator{expander: &expander, scope: &scope, platform: e.platform, in: e.in})
		if len(expander.problems.Problems) > 0 {
			return out, expander.problems
		}
		return out, nil
	}}
}
