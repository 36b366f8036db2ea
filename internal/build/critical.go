package build

import (
	"slices"
	"time"

	"imbricat/internal/plan"
)

// expect fills in what a unit waits for and how long its steps took when they were done last.
func (b *builder) expect(one *UnitPreview) {
	u := one.Unit
	need := func(other *plan.Unit) {
		if other != nil && !slices.Contains(one.Needs, other.ID.String()) {
			one.Needs = append(one.Needs, other.ID.String())
		}
	}
	need(u.Base.Unit)
	var past []PastStep
	if b.o.Past != nil {
		past = b.o.Past(u.ID.Name, u.ID.Platform.String())
	}
	for i := range u.Steps {
		step := &one.Steps[i]
		step.Place = placeOf(u, i)
		if take, is := u.Steps[i].Do.(plan.Take); is {
			need(take.Unit)
		}
		if step.Forecast != WillRun && step.Forecast != Depends {
			continue
		}
		for at, p := range past {
			if p.Label == step.Label || at == i && step.Expected == 0 {
				step.Expected = p.Took
			}
		}
	}
}

// critical marks the chain of steps that the build cannot be faster than: a unit begins when all that it needs has ended,
// and its steps follow each other.
func (p *Preview) critical() {
	ends := map[string]time.Duration{}
	before := map[string]string{}
	at := map[string]*UnitPreview{}
	last := ""
	for i := range p.Units {
		u := &p.Units[i]
		id := u.Unit.ID.String()
		at[id] = u
		end := time.Duration(0)
		for _, need := range u.Needs {
			if ends[need] > end {
				end, before[id] = ends[need], need
			}
		}
		for _, step := range u.Steps {
			end += step.Expected
		}
		if ends[id] = end; end > ends[last] {
			last = id
		}
	}
	p.Expected = ends[last]
	for id := last; id != ""; id = before[id] {
		for i := range at[id].Steps {
			at[id].Steps[i].Critical = at[id].Steps[i].Expected > 0
		}
	}
}
