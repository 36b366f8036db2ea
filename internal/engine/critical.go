package engine

import "time"

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
