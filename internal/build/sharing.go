package build

import (
	"context"
	"slices"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/store"
)

// gather collects what a build used and others may want. What stages left is packed for that, since others have no
// unpacked trees of ours. What cannot be packed is not shared.
func (b *builder) gather(ctx context.Context, result *Result) {
	result.Layers = map[digest.Key]*store.Record{}
	seen := map[*store.Run]bool{}
	for _, u := range b.o.Plan.Units {
		s := b.units[u]
		for _, t := range s.trees {
			if t.ran != nil && t.ran.record != nil && !seen[t.ran.record] {
				seen[t.ran.record] = true
				result.Runs = append(result.Runs, t.ran.record)
			}
			record := t.layer
			if record == nil && t.ran != nil && t.files > 0 && (t.ran.record == nil || len(t.ran.record.Parts) == 0) {
				record = b.packToShare(ctx, t)
			}
			if record != nil {
				result.Layers[t.key] = record
			}
		}
	}
	for _, u := range b.o.Plan.Units {
		for _, l := range b.units[u].layers {
			if l.layer != nil {
				result.Layers[l.key] = l.layer
			}
		}
	}
	for _, one := range b.bases {
		if one.config != nil {
			for _, id := range one.config.RootFS.DiffIDs {
				result.Bases = append(result.Bases, digest.DiffID(id))
			}
		}
	}
}

// noteParts keeps with the runs of commands whose trees are divided which layers hold them, so that they can be had from
// there when they lie unpacked nowhere. What a later step replaced is in none; then nothing is noted.
func (b *builder) noteParts() {
	for _, s := range b.units {
		for _, t := range s.loose {
			if t.ran == nil || t.ran.record == nil || t.files == 0 || t.layer != nil {
				continue
			}
			var parts []digest.Key
			for _, l := range s.layersOf(t) {
				if l.layer != nil {
					parts = append(parts, l.layerKey())
				}
			}
			if slices.Equal(parts, t.ran.record.Parts) || b.placesInParts(t.entries, parts) == nil {
				continue
			}
			t.ran.record.Parts = parts
			_ = b.o.Store.PutRun(t.ran.record)
		}
	}
}

// packToShare gives the layer of a stage's tree, packed quickly where there is none.
func (b *builder) packToShare(ctx context.Context, t *stepTree) *store.Record {
	for _, how := range []layer.Compression{layer.Zstd, layer.Gzip, layer.None} {
		own := t.alias()
		own.compression = how
		if record, found := b.o.Store.Record(own.layerKey()); found {
			return record
		}
	}
	own := t.alias()
	own.compression, own.task, own.lineage = layer.Zstd, t.task, t.lineage
	own.task.ID, own.task.Fresh = own.task.ID+"=", false
	b.o.Sink.Send(event.Started{Task: own.task, Act: "packing", Total: t.bytes})
	record, err := b.packNew(ctx, own)
	if err != nil {
		b.o.Sink.Send(event.Warning{Code: event.SharedCache, Text: "what " + t.task.Label + " left cannot be shared: " + err.Error()})
		return nil
	}
	return record
}
