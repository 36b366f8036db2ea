package compose

import (
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Of returns the kind of an action; nil for a command, which is run.
func Of(do plan.Action) Kind {
	switch do := do.(type) {
	case plan.Copy:
		return copyStep{do}
	case plan.Take:
		return takeStep{do}
	case plan.Write:
		return writeStep{do}
	case plan.Make:
		return makeStep{do}
	case plan.Enrol:
		return enrolStep{do}
	case plan.Link:
		return linkStep{do}
	case plan.Unpack:
		return unpackStep{do}
	case plan.Fetch:
		return fetchStep{do}
	case plan.Remove:
		return removeStep{do}
	}
	return nil
}

// Check finds what is wrong with what a step takes of the project, before any work, and warns of what is doubtful.
func Check(t *Tools, s *plan.Step, report func(pos recipe.Pos, format string, args ...any)) {
	t.check(s, Of(s.Do), report)
}
