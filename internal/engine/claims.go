package engine

import (
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// claims tell which of several steps with the same work is said to have done it: the first one.
type claims struct {
	runs   map[digest.Key]bool
	layers map[digest.Key]*layering.Layer
}

func newClaims() claims {
	return claims{map[digest.Key]bool{}, map[digest.Key]*layering.Layer{}}
}

// run reports whether a run of a command was not claimed before.
func (c *claims) run(id digest.Key) (first bool) {
	first = !c.runs[id]
	c.runs[id] = true
	return first
}

// layer reports whether a layer was not claimed before, but for other steps that it is of.
func (c *claims) layer(l *layering.Layer) (first bool) {
	if l.Published != nil {
		return true
	}
	if c.layers[l.ID()] == nil {
		c.layers[l.ID()] = l
	}
	return c.layers[l.ID()] == l
}

// became tells what became of a step whose layers are packed.
func (w *work) became(o *step.Outcome, layers []*layering.Layer, c *claims) (event.Outcome, event.Reason) {
	made, first := 0, false
	for _, l := range layers {
		if c.layer(l) {
			first = true
			if w.packs[l.ID()].packed.New {
				made++
			}
		}
	}
	switch {
	case len(layers) == 0:
		return event.Skipped, event.Replaced
	case !first:
		return event.Reused, event.SameAsAnother
	case made == 0:
		return event.Reused, event.Unchanged
	case o.Task.Fresh:
		return event.Ran, event.AskedFor
	case !layers[0].Whole(o) && len(layers) == 1:
		return event.Ran, event.Packed{Merged: true}
	case !layers[0].Whole(o):
		return event.Ran, event.Packed{New: made, Of: len(layers)}
	}
	return event.Ran, event.Packed{Changes: w.packs[layers[0].ID()].changes}
}
