package layering

import (
	"context"
	"slices"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/order"
)

// leavingDead divides after the image that was published last so that its layers stay although newer ones on top replace
// some of what they hold. What a version removed is never left: a layer with a path that is there no more is given up, as
// is one whose folders are no longer what they were. nil is no division: what the layers give together would be another tree.
// It reports whether nothing changed, so that it is to be the same image again.
func (d *Divider) leavingDead(u *Unit, l *mergedSteps, last *Predecessor, o order.Options) (layers []*Layer, same bool) {
	now := map[string]*tree.Squashed{}
	for i := range l.entries {
		if e := &l.entries[i]; e.Kind != tree.Opaque {
			now[e.Path] = e
		}
	}
	shelves := make([]order.Shelf, len(last.Layers))
	for n, entries := range last.Layers {
		shelves[n] = order.Shelf{}
		one := mergeLayers([][]tree.Entry{entries}, hintsOf(u.Plan.Stack))
		for i, item := range one.items {
			shelves[n][item.Path] = order.Held{Same: one.identities()[i], Size: item.Size}
		}
	}
	parts := order.Keep(l.items, func(i int) string { return l.identities()[i] }, shelves, func(n int) bool { return unfit(last.Layers[n], now) }, o)
	var fresh [][]int
	for _, p := range parts {
		if p.Old < 0 {
			fresh = append(fresh, p.Items)
		}
	}
	made := l.layersOf(u.compression(), fresh)
	layers = make([]*Layer, 0, len(parts))
	for _, p := range parts {
		if p.Old < 0 {
			layers, made = append(layers, made[0]), made[1:]
			continue
		}
		layers = append(layers, d.published(u, l, last, p))
	}
	if !l.sameAs(layers) {
		return nil, false
	}
	return layers, len(fresh) == 0 && len(parts) == len(last.Layers)
}

// unfit reports whether a layer holds what is to be gone, or folders that are others now.
func unfit(entries []tree.Entry, now map[string]*tree.Squashed) bool {
	return slices.ContainsFunc(entries, func(e tree.Entry) bool {
		is := now[e.Path]
		switch {
		case e.Kind == tree.Opaque || is == nil:
			return true
		case e.Kind == tree.Folder || is.Kind == tree.Folder || e.Kind == tree.Whiteout || is.Kind == tree.Whiteout:
			return !e.Equal(&is.Entry)
		}
		return false
	})
}

// published is a layer that stays as it was published, wherever its bytes are.
func (d *Divider) published(u *Unit, l *mergedSteps, last *Predecessor, p order.Part) *Layer {
	stored := last.Stored[p.Old]
	out := &Layer{Tree: filetree.New(slices.Clone(last.Layers[p.Old]), nil), Compression: u.compression(), Label: stored.CreatedBy,
		Lineage: filetree.KeyOfText("published " + string(stored.DiffID))}
	for _, i := range p.Items {
		if s := l.steps[l.layer[i]].Outcome; !out.Holds(s) {
			out.Steps = append(out.Steps, s)
		}
	}
	// It is in the store, or can be had where it was published.
	if !d.Store.Has(stored.Descriptor) {
		_ = d.Store.NoteElsewhere(stored.Descriptor, last.Place)
	}
	out.Published = &store.Record{Key: out.Key(), Tree: out.Tree.Key, Layer: stored.Descriptor, DiffID: stored.DiffID, Files: out.Tree.Files}
	return out
}

// sameAs reports whether layers give together what the steps give together.
func (l *mergedSteps) sameAs(layers []*Layer) bool {
	var all [][]tree.Entry
	for _, t := range layers {
		entries, err := t.Tree.Entries(context.Background()) // they are there
		if err != nil {
			return false
		}
		all = append(all, entries)
	}
	got := tree.Squash(all)
	return slices.EqualFunc(got, l.entries, func(a, b tree.Squashed) bool {
		return a.Equal(&b.Entry)
	})
}
