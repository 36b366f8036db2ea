package engine

import (
	"time"

	"imbricat/internal/engine/layering"
	"imbricat/internal/ground/event"
)

// tally tells how steps went, when all is over.
type tally struct {
	w      *work
	claims claims
}

// results tells how the steps went, in the order of the recipe: of several with the same work the first one did it.
func results(w *work) (all []StepResult) {
	t := &tally{w, newClaims()}
	for _, u := range w.o.Plan.Units {
		for _, s := range w.units[u].steps {
			if r, known := t.of(s); known && s.plan.Label != "" {
				all = append(all, r)
			}
		}
	}
	return all
}

// of tells how a step went; not of one that did not begin, or whose layers are not all packed.
func (t *tally) of(s *stepNode) (r StepResult, known bool) {
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
	second := o.Run != nil && !t.claims.run(o.Run.ID)
	layers, packed := t.layersOf(s)
	if packed {
		t.addLayers(&r, s, layers)
	}
	switch owner := t.w.owner(s); {
	case o.Run != nil:
		t.addRun(&r, s, second, layers, packed)
	case o.Empty:
		r.Outcome, r.Reason = event.Skipped, event.LaysNothing
	case owner == nil || !packed && owner != s.unit:
		r.Outcome, r.Reason = event.Skipped, event.NoLayer
	case !packed:
		return r, false
	default:
		r.Took, r.Spared = s.packing, t.spared(layers)
		r.Outcome, r.Reason = t.w.became(o, layers, &t.claims)
		if r.Outcome != event.Reused {
			r.Spared = 0
		}
	}
	return r, true
}

// layersOf returns the layers that are told of as a step's, and reports whether all of them are packed.
func (t *tally) layersOf(s *stepNode) ([]*layering.Layer, bool) {
	owner := t.w.owner(s)
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
		if n := t.w.packs[l.ID()]; n == nil || n.packed == nil {
			return nil, false
		}
	}
	return layers, true
}

// addLayers adds what is to be said of a step's layers.
func (t *tally) addLayers(r *StepResult, s *stepNode, layers []*layering.Layer) {
	r.Layers = len(layers)
	for _, l := range layers {
		record := t.w.packs[l.ID()].packed.Record
		if r.Packed += record.Layer.Size; record.Layer.Size > r.Layer.Size {
			r.Layer = record.Layer
		}
		if l.Whole(s.outcome) {
			r.DiffID = record.DiffID
		}
	}
}

// addRun adds what is to be said of a command.
func (t *tally) addRun(r *StepResult, s *stepNode, second bool, layers []*layering.Layer, packed bool) {
	run := s.outcome.Run
	r.Outcome, r.Reason, r.Took = s.ran(second)
	r.Run, r.Inputs, r.Failed, r.Before = run.Record, run.Inputs, run.Failed, run.Before
	if !second && !run.Ran {
		r.Spared = time.Duration(run.Record.Millis) * time.Millisecond
	}
	if packed {
		if spared := t.spared(layers); s.unit.plan.IsImage {
			r.Spared += spared
		}
		for _, l := range layers {
			t.claims.layer(l) // a later step with this layer has nothing to pack
		}
	}
	if s.refilled {
		r.Outcome, r.Reason = event.Ran, event.Refilled
	}
}

// spared is the time that packing took of those layers of a step that are reused and that nobody has claimed.
func (t *tally) spared(layers []*layering.Layer) (sum time.Duration) {
	for _, l := range layers {
		if known := t.claims.layers[l.ID()]; known != nil && known != l {
			continue
		}
		if n := t.w.packs[l.ID()]; !n.packed.New {
			sum += time.Duration(n.packed.Record.Millis) * time.Millisecond
		}
	}
	return sum
}
