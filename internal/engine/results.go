package engine

import (
	"time"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/layering"
	"imbricat/internal/step"
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
	if c.layers[l.Key()] == nil {
		c.layers[l.Key()] = l
	}
	return c.layers[l.Key()] == l
}

// became tells what became of a step whose layers are packed.
func (w *work) became(o *step.Outcome, layers []*layering.Layer, c *claims) (event.Outcome, event.Reason) {
	made, first := 0, false
	for _, l := range layers {
		if c.layer(l) {
			first = true
			if w.packs[l.Key()].packed.New {
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
	return event.Ran, event.Packed{Changes: w.packs[layers[0].Key()].changes}
}

// results tells how the steps went, in the order of the recipe: of several with the same work the first one did it.
func (w *work) results() (all []StepResult) {
	c := newClaims()
	for _, u := range w.o.Plan.Units {
		for _, s := range w.units[u].steps {
			if r, known := w.resultOf(s, &c); known && s.plan.Label != "" {
				all = append(all, r)
			}
		}
	}
	return all
}

// resultOf tells how a step went; not of one that did not begin, or whose layers are not all packed.
func (w *work) resultOf(s *stepNode, c *claims) (r StepResult, known bool) {
	r = StepResult{Unit: s.name.Unit.Name, Platform: s.name.Unit.Platform, Place: s.name.Place(), Label: s.plan.Label}
	if s.failure != nil {
		r.Outcome, r.Reason, r.Took = s.failure.outcome, s.failure.reason, s.failure.took
		return r, true
	}
	o := s.outcome
	if o == nil {
		return r, false
	}
	r.Files, r.Bytes = o.Files, o.Bytes
	second := o.Run != nil && !c.run(o.Run.ID)
	layers, packed := w.layersOf(s)
	if packed {
		w.addLayers(&r, s, layers)
	}
	switch owner := w.owner(s); {
	case o.Run != nil:
		w.addRun(&r, s, second, layers, packed, c)
	case o.Empty:
		r.Outcome, r.Reason = event.Skipped, event.LaysNothing
	case owner == nil || !packed && owner != s.unit:
		r.Outcome, r.Reason = event.Skipped, event.NoLayer
	case !packed:
		return r, false
	default:
		r.Took, r.Spared = s.packing, w.spared(layers, c)
		r.Outcome, r.Reason = w.became(o, layers, c)
		if r.Outcome != event.Reused {
			r.Spared = 0
		}
	}
	return r, true
}

// layersOf gives the layers that are told of as a step's, and reports whether all of them are packed.
func (w *work) layersOf(s *stepNode) ([]*layering.Layer, bool) {
	owner := w.owner(s)
	if owner == nil || owner.image == nil {
		return nil, false
	}
	layers, known := owner.image.parts[s.outcome]
	if !known {
		if owner.image.division == nil {
			return nil, false
		}
		layers = layering.Of(owner.image.division.Layers, s.outcome)
	}
	for _, l := range layers {
		if n := w.packs[l.Key()]; n == nil || n.packed == nil {
			return nil, false
		}
	}
	return layers, true
}

// addLayers adds what is to be said of a step's layers.
func (w *work) addLayers(r *StepResult, s *stepNode, layers []*layering.Layer) {
	r.Layers = len(layers)
	for _, l := range layers {
		record := w.packs[l.Key()].packed.Record
		if r.Packed += record.Layer.Size; record.Layer.Size > r.Layer.Size {
			r.Layer = record.Layer
		}
		if l.Whole(s.outcome) {
			r.DiffID = record.DiffID
		}
	}
}

// addRun adds what is to be said of a command.
func (w *work) addRun(r *StepResult, s *stepNode, second bool, layers []*layering.Layer, packed bool, c *claims) {
	run := s.outcome.Run
	r.Outcome, r.Reason, r.Took = s.ran(second)
	r.Run, r.Inputs = run.Record, run.Inputs
	if !second && !run.Ran {
		r.Spared = time.Duration(run.Record.Millis) * time.Millisecond
	}
	if packed {
		if spared := w.spared(layers, c); s.unit.plan.IsImage {
			r.Spared += spared
		}
		for _, l := range layers {
			c.layer(l) // a later step with this layer has nothing to pack
		}
	}
	if s.refilled {
		r.Outcome, r.Reason = event.Ran, event.Refilled
	}
}

// spared is the time that packing took of those layers of a step that are reused and that nobody has claimed.
func (w *work) spared(layers []*layering.Layer, c *claims) (sum time.Duration) {
	for _, l := range layers {
		if known := c.layers[l.Key()]; known != nil && known != l {
			continue
		}
		if n := w.packs[l.Key()]; !n.packed.New {
			sum += time.Duration(n.packed.Record.Millis) * time.Millisecond
		}
	}
	return sum
}
