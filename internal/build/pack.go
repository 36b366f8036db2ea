package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// Why a step was reused or ran.
const (
	unchanged = "unchanged"
	asAnother = "same as another step"
	noLayer   = "what is taken from a stage needs no layer of the stage's own"
	nothing   = "it lays nothing down"
	notPacked = "new content"
	askedFor  = "asked for with --fresh"
	replaced  = "later steps replace all of it"
	// endedFirst is of a step that was begun and not done: another failed, or the build was interrupted.
	endedFirst = "the build ended first"
)

// packedLayer is a layer in the store and how it came there.
type packedLayer struct {
	record  *store.Record
	outcome event.Outcome
}

// pack makes sure that the layers that hold something of a step are in the store, and reports what was done.
func (b *builder) pack(ctx context.Context, t *stepTree, layers []*stepTree) error {
	t.once.Do(func() {
		began := time.Now()
		t.err = b.packLayers(ctx, layers)
		done := event.Finished{Task: t.task, Took: time.Since(began)}
		if t.err != nil {
			t.err = fmt.Errorf("%s %s, %s: %w", t.task.Unit, t.task.Platform, t.task.Label, t.err)
			if ctx.Err() == nil {
				done.Outcome, done.Reason = event.Failed, t.err.Error()
				b.o.Sink.Send(done)
			}
			return
		}
		if t.files > 0 {
			done.Detail = fmt.Sprintf("%s, %s", plural(t.files, "file"), humanize.Bytes(uint64(t.bytes)))
		}
		r := t.report
		done.Outcome, done.Reason, r.More = b.became(ctx, t, layers)
		var spared time.Duration
		for _, l := range layers {
			r.Packed += l.layer.Layer.Size
			if l.layer.Layer.Size > r.Layer.Size {
				r.Layer = l.layer.Layer
			}
			if l.first && l.how == event.Reused {
				spared += time.Duration(l.layer.Millis) * time.Millisecond
			}
		}
		r.Layers = len(layers)
		if t.twin != nil && t.ran == nil && done.Outcome == event.Reused && done.Reason == asAnother {
			return // whoever packed it has told
		}
		if t.ran != nil && !t.ofImage {
			// The command was told of when it ended; this is about its layer, for an image that starts from the stage.
			done.Task.ID, done.Task.Label = done.Task.ID+"+", "layer of: "+done.Task.Label
			b.o.Sink.Send(done)
			return
		}
		if t.ran != nil {
			done.Outcome, done.Reason, done.Took = t.ran.outcome, t.ran.why.text, t.ran.took
		}
		r.Outcome, r.Reason, r.Took, r.done = done.Outcome, done.Reason, done.Took, true
		if t.layer != nil {
			r.DiffID = t.layer.DiffID
		}
		if done.Outcome == event.Reused || t.ran != nil {
			r.Spared += spared
		}
		b.o.Sink.Send(done)
	})
	return t.err
}

// became tells what became of a step whose layers are packed.
func (b *builder) became(ctx context.Context, t *stepTree, layers []*stepTree) (event.Outcome, string, []string) {
	ran, first := 0, false
	for _, l := range layers {
		first = first || l.first
		if l.how == event.Ran && l.first {
			ran++
		}
	}
	switch {
	case len(layers) == 0:
		return event.Skipped, replaced, nil
	case !first:
		return event.Reused, asAnother, nil
	case ran == 0:
		return event.Reused, unchanged, nil
	case t.task.Fresh:
		return event.Ran, askedFor, nil
	case layers[0] != t && len(layers) == 1:
		return event.Ran, notPacked + ", in a layer with other steps", nil
	case layers[0] != t:
		return event.Ran, fmt.Sprintf("%s: %d of %s", notPacked, ran, plural(len(layers), "layer")), nil
	}
	w := b.whyPacked(ctx, t)
	return event.Ran, w.text, w.more
}

// packLayers makes sure that layers are in the store.
func (b *builder) packLayers(ctx context.Context, layers []*stepTree) error {
	group, ctx := errgroup.WithContext(ctx)
	for _, l := range layers {
		group.Go(func() error {
			l.packed.Do(func() {
				packed, first, err := b.layers.do(l.layerKey(), func() (*packedLayer, error) { return b.packOnce(b.whole(ctx), l) })
				if l.bad = err; err == nil {
					l.layer, l.how, l.first = packed.record, packed.outcome, first
					b.follow(l)
				}
			})
			return l.bad
		})
	}
	return group.Wait()
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return humanize.Comma(int64(n)) + " " + noun + "s"
}

func (b *builder) packOnce(ctx context.Context, t *stepTree) (*packedLayer, error) {
	if record, found := b.o.Store.Record(t.layerKey()); found && !t.task.Fresh {
		return &packedLayer{record, event.Reused}, b.mendIndex(ctx, t, record)
	} else if b.o.Shared != nil && !t.task.Fresh {
		b.o.Shared.Layer(ctx, t.layerKey())
		if record, found := b.o.Store.Record(t.layerKey()); found {
			return &packedLayer{record, event.Reused}, b.mendIndex(ctx, t, record)
		}
	}
	select {
	case b.packing <- struct{}{}:
		defer func() { <-b.packing }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	b.o.Sink.Send(event.Started{Task: t.task, Act: "packing", Total: t.bytes})
	record, err := b.packNew(ctx, t)
	if err != nil {
		return nil, err
	}
	return &packedLayer{record, event.Ran}, nil
}

// mendIndex keeps the index of a layer again that is in the store without.
func (b *builder) mendIndex(ctx context.Context, t *stepTree, record *store.Record) error {
	if b.o.Store.HasTree(record.DiffID) {
		return nil
	}
	entries, err := t.all(ctx)
	if err != nil {
		return err
	}
	return keepIndex(b.o.Store, &layer.Indexed{Entries: entries, DiffID: record.DiffID, Unpacked: record.Unpacked})
}

func (b *builder) packNew(ctx context.Context, t *stepTree) (*store.Record, error) {
	began := time.Now()
	entries, err := t.all(ctx)
	if err != nil {
		return nil, err
	}
	paths := make([]string, 0, t.files)
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.File && e.Size > 0 {
			paths = append(paths, e.Path)
		}
	}
	if err := t.prepare(ctx, paths); err != nil {
		return nil, err
	}
	previous, done := b.previous(t)
	defer done()
	packed, err := b.packBlob(ctx, t, entries, previous)
	if errors.Is(err, layer.ErrPrevious) {
		packed, err = b.packBlob(ctx, t, entries, nil)
	}
	if err != nil {
		return nil, err
	}
	if err := keepIndex(b.o.Store, &layer.Indexed{Entries: entries, DiffID: packed.DiffID, Unpacked: packed.Unpacked}); err != nil {
		return nil, err
	}
	b.keepTable(packed)
	record := &store.Record{Key: t.layerKey(), Tree: t.key, Layer: packed.Descriptor, DiffID: packed.DiffID, Unpacked: packed.Unpacked,
		Files: t.files, Millis: time.Since(began).Milliseconds(), Copied: packed.Copied}
	return record, b.o.Store.PutRecord(record)
}

func (b *builder) packBlob(ctx context.Context, t *stepTree, entries []tree.Entry, previous *layer.Previous) (layer.Packed, error) {
	blob, err := b.o.Store.Begin()
	if err != nil {
		return layer.Packed{}, err
	}
	defer blob.Abort()
	progress := newProgress(b.o.Sink, t.task)
	packed, err := layer.Pack(ctx, blob, entries, func(e *tree.Entry) (io.ReadCloser, error) {
		body, err := t.Open(e.Path)
		return &counted{body, progress}, err
	}, layer.Options{Compression: t.compression, Previous: previous})
	if err != nil {
		return packed, err
	}
	return packed, blob.Commit(packed.Descriptor.Digest)
}

// previous gives the layer that the step made last, to copy chunks from, where the store still has it.
func (b *builder) previous(t *stepTree) (*layer.Previous, func()) {
	none := func() {}
	if t.task.Fresh {
		return nil, none
	}
	last, found := b.o.Store.Note(t.lineage)
	if !found {
		return nil, none
	}
	desc := digest.Descriptor{Digest: digest.Digest(last)}
	text, found := b.o.Store.Table(desc.Digest)
	if !found {
		return nil, none
	}
	table, err := layer.DecodeTable(text)
	if err != nil {
		return nil, none
	}
	path, err := b.o.Store.BlobPath(desc.Digest)
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
func (b *builder) keepTable(packed layer.Packed) {
	// A small layer is packed anew as fast as it is copied.
	if len(packed.Table.Chunks) > 2 {
		_ = b.o.Store.PutTable(packed.Descriptor.Digest, packed.Table.Encode())
	}
}

// follow notes which layer the step stands for now, whoever packed it, where it is worth copying from.
func (b *builder) follow(t *stepTree) {
	now := string(t.layer.Layer.Digest)
	if t.layer.Layer.Size < smallLayer {
		return
	}
	if last, found := b.o.Store.Note(t.lineage); !found || string(last) != now {
		_ = b.o.Store.PutNote(t.lineage, []byte(now))
	}
}

// smallLayer is a size in bytes below which a layer is packed anew as fast as it is copied.
const smallLayer = 256 << 10

// progress reports how far an act is, at most some times a second. Several goroutines may add to it.
type progress struct {
	sink  event.Sink
	task  event.Task
	mutex sync.Mutex
	done  int64
	last  time.Time
}

// counted adds what is read to a progress.
type counted struct {
	io.ReadCloser
	progress *progress
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.progress.add(int64(n))
	return n, err
}

func newProgress(sink event.Sink, task event.Task) *progress {
	return &progress{sink: sink, task: task}
}

func (p *progress) add(n int64) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.done += n
	if now := time.Now(); now.Sub(p.last) > 100*time.Millisecond {
		p.last = now
		p.sink.Send(event.Progress{Task: p.task, Done: p.done})
	}
}
