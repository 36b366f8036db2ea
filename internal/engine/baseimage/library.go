// Package baseimage brings images that others start from or take from into the store, and reads what their layers hold, each
// once. Where they come from is given to it; it runs nothing and changes no image.
package baseimage

import (
	"context"
	"fmt"
	"io"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/once"
)

// ReadLayer returns what a layer of the store holds, from the store's memory where it was read before.
func ReadLayer(ctx context.Context, s *store.Store, desc digest.Descriptor, id digest.DiffID) (*layer.Indexed, error) {
	if text, found := s.LayerIndex(id); found {
		if known, err := layer.DecodeIndex(text); err == nil && known.DiffID == id {
			return known, nil
		}
	}
	blob, err := s.Fetch(ctx, desc)
	if err != nil {
		return nil, err
	}
	defer blob.Close()
	indexed, err := layer.Index(digest.WithContext(ctx, blob))
	if err != nil {
		return nil, fmt.Errorf("the layer %s: %w", desc.Digest, err)
	}
	// To the end, so that the blob's own digest is checked too.
	if _, err := io.Copy(io.Discard, blob); err != nil {
		return nil, err
	}
	if indexed.DiffID != id {
		return nil, fmt.Errorf("the layer %s unpacks to %s, and its image says %s: %w", desc.Digest, indexed.DiffID, id, digest.ErrMismatch)
	}
	return indexed, KeepIndex(s, indexed)
}

// KeepIndex remembers what a layer holds.
func KeepIndex(s *store.Store, indexed *layer.Indexed) error {
	return s.PutLayerIndex(indexed.DiffID, indexed.Encode())
}

// Library gives what layers of the store hold.
type Library struct {
	store   *store.Store
	scratch *filetree.Scratch
	layers  *once.Map[digest.DiffID, *filetree.Archive]
}

// NewLibrary makes a library of a store. Its work ends with ctx; what it unpacks it unpacks in scratch.
func NewLibrary(ctx context.Context, s *store.Store, scratch *filetree.Scratch) *Library {
	return &Library{s, scratch, once.NewMap[digest.DiffID, *filetree.Archive](ctx)}
}

// Layer returns what a layer holds.
func (l *Library) Layer(ctx context.Context, desc digest.Descriptor, id digest.DiffID) (*filetree.Archive, error) {
	return l.layers.Do(ctx, id, func(ctx context.Context) (*filetree.Archive, error) {
		indexed, err := ReadLayer(ctx, l.store, desc, id)
		if err != nil {
			return nil, err
		}
		return l.scratch.Layer("the layer "+string(desc.Digest), indexed.Entries, func(ctx context.Context) (io.ReadCloser, error) {
			if err := l.store.Prove(ctx, desc, id); err != nil {
				return nil, err
			}
			return l.store.Fetch(ctx, desc)
		}), nil
	})
}

// Recorded returns what a layer of a record holds whose entries are known already: it is opened when somebody needs a file.
func (l *Library) Recorded(ctx context.Context, record *store.Record, entries []tree.Entry) (*filetree.Archive, error) {
	return l.layers.Do(ctx, record.DiffID, func(context.Context) (*filetree.Archive, error) {
		return l.scratch.Layer("the layer "+string(record.Layer.Digest), entries, func(ctx context.Context) (io.ReadCloser, error) {
			return l.store.Fetch(ctx, record.Layer)
		}), nil
	})
}

// Places finds the files of entries in layers that hold them together; nil where they do not.
func (l *Library) Places(ctx context.Context, entries []tree.Entry, parts []digest.Key) map[string]filetree.Place {
	where := map[digest.Content]filetree.Place{}
	for _, key := range parts {
		record, found := l.store.Record(key)
		if !found {
			return nil
		}
		text, found := l.store.LayerIndex(record.DiffID)
		indexed, err := layer.DecodeIndex(text)
		if !found || err != nil {
			return nil
		}
		contents, err := l.Recorded(ctx, record, indexed.Entries)
		if err != nil {
			return nil
		}
		for i := range indexed.Entries {
			if e := &indexed.Entries[i]; e.Kind == tree.File {
				where[e.Content] = filetree.Place{From: contents, At: e.Path}
			}
		}
	}
	places := map[string]filetree.Place{}
	for i := range entries {
		if entries[i].Kind != tree.File {
			continue
		}
		at, known := where[entries[i].Content]
		if !known {
			return nil
		}
		places[entries[i].Path] = at
	}
	return places
}
