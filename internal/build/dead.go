package build

import (
	"slices"

	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/order"
	"imbricat/internal/plan"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// leavingDead divides after the image that was published last so that its layers stay although newer ones on top replace
// some of what they hold. What a version removed is never left: a layer with a path that is there no more is given up, as
// is one whose folders are no longer what they were. nil is no division: what the layers give together would be another tree.
func (b *builder) leavingDead(u *plan.Unit, s *unitState, l *laid, last *Predecessor, o order.Options) []*stepTree {
	now := map[string]*tree.Squashed{}
	for i := range l.entries {
		if e := &l.entries[i]; e.Kind != tree.Opaque {
			now[e.Path] = e
		}
	}
	shelves := make([]order.Shelf, len(last.Layers))
	for n, entries := range last.Layers {
		shelves[n] = order.Shelf{}
		one := layTogether([][]tree.Entry{entries}, hintsOf(u.Stack))
		for i, item := range one.items {
			shelves[n][item.Path] = order.Held{Same: one.same[i], Size: item.Size}
		}
	}
	parts := order.Keep(l.items, func(i int) string { return l.same[i] }, shelves, func(n int) bool { return unfit(last.Layers[n], now) }, o)
	var fresh [][]int
	for _, p := range parts {
		if p.Old < 0 {
			fresh = append(fresh, p.Items)
		}
	}
	made := b.layersOf(u, l, fresh)
	layers := make([]*stepTree, 0, len(parts))
	for _, p := range parts {
		if p.Old < 0 {
			layers, made = append(layers, made[0]), made[1:]
			continue
		}
		layers = append(layers, b.published(u, l, last, p))
	}
	if !l.sameAs(layers) {
		return nil
	}
	if len(fresh) == 0 && len(parts) == len(last.Layers) {
		s.follows = last.Follows // nothing changed, so it is to be the same image again
	}
	return layers
}

// unfit tells whether a layer holds what is to be gone, or folders that are others now.
func unfit(entries []tree.Entry, now map[string]*tree.Squashed) bool {
	return slices.ContainsFunc(entries, func(e tree.Entry) bool {
		is := now[e.Path]
		switch {
		case e.Kind == tree.Opaque || is == nil:
			return true
		case e.Kind == tree.Folder || is.Kind == tree.Folder || e.Kind == tree.Whiteout || is.Kind == tree.Whiteout:
			return string(e.AppendLine(nil)) != string(is.Entry.AppendLine(nil))
		}
		return false
	})
}

// published is a layer that stays as it was published, wherever its bytes are.
func (b *builder) published(u *plan.Unit, l *laid, last *Predecessor, p order.Part) *stepTree {
	stored := last.Stored[p.Old]
	t := &stepTree{entries: slices.Clone(last.Layers[p.Old]), ofImage: true, compression: layer.Compression(u.Compression), report: &StepResult{},
		label: stored.CreatedBy, places: map[string]place{}}
	t.seal()
	for _, i := range p.Items {
		if step := l.steps[l.layer[i]]; !slices.Contains(t.of, step) {
			t.of = append(t.of, step)
		}
	}
	t.task = l.steps[0].task
	t.lineage = keyOfText("published " + string(stored.DiffID))
	// It is in the store, or can be had where it was published.
	if !b.o.Store.Has(stored.Descriptor) {
		_ = b.o.Store.NoteElsewhere(stored.Descriptor, last.Place)
	}
	t.packed.Do(func() {
		t.layer = &store.Record{Key: t.layerKey(), Layer: stored.Descriptor, DiffID: stored.DiffID, Files: t.files}
		t.how, t.first = event.Reused, true
	})
	return t
}

// sameAs tells whether layers give together what the steps give together.
func (l *laid) sameAs(layers []*stepTree) bool {
	var all [][]tree.Entry
	for _, t := range layers {
		all = append(all, t.entries)
	}
	got := tree.Squash(all)
	return slices.EqualFunc(got, l.entries, func(a, b tree.Squashed) bool {
		return string(a.AppendLine(nil)) == string(b.AppendLine(nil))
	})
}
