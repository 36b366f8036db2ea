package engine

import (
	"context"
	"slices"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// gather collects what a build used and others may want. What stages left is packed for that, since others have no
// unpacked trees of ours. What cannot be packed is not shared.
func gather(ctx context.Context, w *work, result *Result) {
	result.Layers = map[digest.Key]*store.Record{}
	seen := map[*store.Run]bool{}
	for _, n := range w.packs {
		if n.packed != nil {
			result.Layers[n.packed.Record.Tree] = n.packed.Record
		}
	}
	for _, u := range w.o.Plan.Units {
		for _, s := range w.units[u].steps {
			if s.outcome == nil || s.outcome.Run == nil {
				continue
			}
			if record := s.outcome.Run.Record; !seen[record] {
				seen[record] = true
				result.Runs = append(result.Runs, record)
			}
			if result.Layers[s.outcome.Key] == nil && s.outcome.Files > 0 && len(s.outcome.Run.Record.Parts) == 0 {
				if record := packToShare(ctx, w, s); record != nil {
					result.Layers[s.outcome.Key] = record
				}
			}
		}
	}
	for _, n := range w.bases {
		if n.base != nil {
			for _, id := range n.base.Config.RootFS.DiffIDs {
				result.Bases = append(result.Bases, digest.DiffID(id))
			}
		}
	}
}

// packToShare returns the layer of a command's tree, packed quickly where there is none.
func packToShare(ctx context.Context, w *work, s *stepNode) *store.Record {
	for _, how := range []layer.Compression{layer.Zstd, layer.Gzip, layer.None} {
		if record, found := w.o.Store.Record(layer.RecordKey(s.outcome.Key, how)); found {
			return record
		}
	}
	own := *s.outcome
	own.Task.ID, own.Task.Fresh = own.Task.ID+" shared", false
	packed, err := w.packer.Pack(ctx, &layering.Layer{Tree: own.Tree, Compression: layer.Zstd, Label: own.Task.Label, Steps: []*step.Outcome{&own}, Lineage: w.lineage(s)})
	if err != nil {
		w.o.Sink.Send(event.Warning{Code: event.SharedCache, Text: "what " + own.Task.Label + " left cannot be shared: " + err.Error()})
		return nil
	}
	return packed.Record
}

// noteParts keeps with the runs of commands whose trees are divided which layers hold them, so that they can be had from
// there when they lie unpacked nowhere. What a later step replaced is in none; then nothing is noted.
func noteParts(w *work) {
	for _, u := range w.o.Plan.Units {
		i := w.units[u].image
		if i == nil {
			continue
		}
		for _, piece := range i.layering.Steps {
			if piece.Run == nil || piece.Files == 0 {
				continue
			}
			var parts []digest.Key
			layers := layering.Of(i.division.Layers, piece.Outcome)
			if len(layers) == 1 && layers[0].Whole(piece.Outcome) {
				continue
			}
			for _, l := range layers {
				parts = append(parts, l.Key())
			}
			entries, err := piece.Entries(context.Background()) // they are there: it was divided
			if err != nil || slices.Equal(parts, piece.Run.Record.Parts) || w.library.Places(context.Background(), entries, parts) == nil {
				continue
			}
			record := *piece.Run.Record
			record.Parts = parts
			_ = w.o.Store.PutRun(&record)
		}
	}
}
