// Package pack makes blobs of layers, each once, and copies what did not change from the blob that a layer had before. It
// decides on no layers and tells nobody why.
package pack

import (
	"context"
	"errors"
	"io"
	"os"
	"runtime"
	"time"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/layering"
	"imbricat/internal/ground/count"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// Records is a shared cache that may know the record of a layer; what it finds lies in the store afterwards.
type Records interface {
	Layer(ctx context.Context, key digest.Key)
}

// Packer packs the layers of one build.
type Packer struct {
	Store  *store.Store
	Shared Records // may be nil
	Sink   event.Sink
	turns  chan struct{} // bounds how many layers are packed at once
}

// maxPacking bounds the layers packed at once: each compresses on all cores anyway.
const maxPacking = 4

// New completes a packer.
func New(p Packer) *Packer {
	p.turns = make(chan struct{}, min(maxPacking, runtime.GOMAXPROCS(0)))
	return &p
}

// Packed is a layer in the store.
type Packed struct {
	Record *store.Record
	New    bool // it was packed now
}

// Pack makes sure that a layer is in the store.
func (p *Packer) Pack(ctx context.Context, l *layering.Layer) (*Packed, error) {
	if l.Published != nil {
		return &Packed{Record: l.Published}, nil
	}
	if record, found := p.Known(ctx, l); found {
		return &Packed{Record: record}, p.mendIndex(ctx, l, record)
	}
	select {
	case p.turns <- struct{}{}:
		defer func() { <-p.turns }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	record, err := p.packNew(ctx, l)
	return &Packed{Record: record, New: true}, err
}

// Known finds a layer in the store, or in the shared cache.
func (p *Packer) Known(ctx context.Context, l *layering.Layer) (*store.Record, bool) {
	if l.Fresh() {
		return nil, false
	}
	record, found := p.Store.Record(l.Key())
	if !found && p.Shared != nil {
		p.Shared.Layer(ctx, l.Key())
		record, found = p.Store.Record(l.Key())
	}
	return record, found
}

// mendIndex keeps the index of a layer again that is in the store without.
func (p *Packer) mendIndex(ctx context.Context, l *layering.Layer, record *store.Record) error {
	if p.Store.HasLayerIndex(record.DiffID) {
		return nil
	}
	entries, err := l.Tree.Entries(ctx)
	if err != nil {
		return err
	}
	return baseimage.KeepIndex(p.Store, &layer.Indexed{Entries: entries, DiffID: record.DiffID, Unpacked: record.Unpacked})
}

var packed = count.New("bytes of files packed")

func (p *Packer) packNew(ctx context.Context, l *layering.Layer) (*store.Record, error) {
	tell := event.Reporter{Sink: p.Sink, Task: l.Steps[0].Task}
	tell.Started("packing", l.Tree.Bytes)
	packed.Add(l.Tree.Bytes)
	began := time.Now()
	entries, err := l.Tree.Entries(ctx)
	if err != nil {
		return nil, err
	}
	paths := make([]string, 0, l.Tree.Files)
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.File && e.Size > 0 {
			paths = append(paths, e.Path)
		}
	}
	if err := l.Tree.Prepare(ctx, paths); err != nil {
		return nil, err
	}
	previous, done := p.previous(l)
	defer done()
	packed, err := p.packBlob(ctx, l, entries, previous, tell)
	if errors.Is(err, layer.ErrPrevious) {
		packed, err = p.packBlob(ctx, l, entries, nil, tell)
	}
	if err != nil {
		return nil, err
	}
	if err := baseimage.KeepIndex(p.Store, &layer.Indexed{Entries: entries, DiffID: packed.DiffID, Unpacked: packed.Unpacked}); err != nil {
		return nil, err
	}
	p.keepTable(packed)
	record := &store.Record{Key: l.Key(), Tree: l.Tree.Key, Layer: packed.Descriptor, DiffID: packed.DiffID, Unpacked: packed.Unpacked,
		Files: l.Tree.Files, Millis: time.Since(began).Milliseconds(), Copied: packed.Copied}
	return record, p.Store.PutRecord(record)
}

func (p *Packer) packBlob(ctx context.Context, l *layering.Layer, entries []tree.Entry, previous *layer.Previous, tell event.Reporter) (layer.Packed, error) {
	blob, err := p.Store.Begin()
	if err != nil {
		return layer.Packed{}, err
	}
	defer blob.Abort()
	progress := tell.Progress()
	packed, err := layer.Pack(ctx, blob, entries, func(e *tree.Entry) (io.ReadCloser, error) {
		body, err := l.Tree.Open(e.Path)
		if err != nil {
			return nil, err
		}
		return progress.Reader(body), nil
	}, layer.Options{Compression: l.Compression, Previous: previous})
	if err != nil {
		return packed, err
	}
	return packed, blob.Commit(packed.Descriptor.Digest)
}

// previous returns the layer that the step made last, to copy chunks from, where the store still has it.
func (p *Packer) previous(l *layering.Layer) (*layer.Previous, func()) {
	none := func() {}
	if l.Fresh() {
		return nil, none
	}
	last, found := p.Store.Note(l.Lineage)
	if !found {
		return nil, none
	}
	desc := digest.Descriptor{Digest: digest.Digest(last)}
	text, found := p.Store.Table(desc.Digest)
	if !found {
		return nil, none
	}
	table, err := layer.DecodeTable(text)
	if err != nil {
		return nil, none
	}
	path, err := p.Store.BlobPath(desc.Digest)
	if err != nil {
		return nil, none
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, none
	}
	return &layer.Previous{Table: table, Blob: f}, func() { f.Close() }
}

// keepTable keeps the chunks of a layer. Failing to costs time at a later build and nothing else.
func (p *Packer) keepTable(packed layer.Packed) {
	// A small layer is packed anew as fast as it is copied.
	if len(packed.Table.Chunks) > 2 {
		_ = p.Store.PutTable(packed.Descriptor.Digest, packed.Table.Encode())
	}
}

// Follow notes which blob a layer stands for now, whoever packed it, where it is worth copying from.
func (p *Packer) Follow(l *layering.Layer, record *store.Record) {
	now := string(record.Layer.Digest)
	if record.Layer.Size < smallLayer {
		return
	}
	if last, found := p.Store.Note(l.Lineage); !found || string(last) != now {
		_ = p.Store.PutNote(l.Lineage, []byte(now))
	}
}

// smallLayer is a size in bytes below which a layer is packed anew as fast as it is copied.
const smallLayer = 256 << 10
