package engine

import (
	"time"

	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

// Outline tells of which steps the build of a plan is. Took tells how long one took when it was done last; 0: it is not known.
func Outline(p *plan.Plan, took func(u *plan.Unit, index int) time.Duration) event.Planned {
	var out event.Planned
	at := map[*plan.Unit]int{}
	for i, u := range p.Units {
		at[u] = i
		var one event.PlannedUnit
		for _, other := range u.Needs() {
			if n, before := at[other]; before {
				one.Needs = append(one.Needs, n)
			}
		}
		for index := range u.Steps {
			one.Steps = append(one.Steps, event.PlannedStep{ID: taskID(u, index), Took: took(u, index)})
		}
		out.Units = append(out.Units, one)
	}
	return out
}
