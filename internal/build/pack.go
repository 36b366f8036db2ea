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
	// endedFirst is of a step that was begun and not done: another failed, or the build was interrupted.
	endedFirst = "the build ended first"
)

// packedLayer is a layer in the store and how it came there.
type packedLayer struct {
	record  *store.Record
	outcome event.Outcome
}

// pack makes sure that a step's layer is in the store, and reports what was done.
func (b *builder) pack(ctx context.Context, t *stepTree) error {
	t.once.Do(func() {
		began := time.Now()
		packed, first, err := b.layers.do(t.layerKey(), func() (*packedLayer, error) { return b.packOnce(ctx, t) })
		done := event.Finished{Task: t.task, Took: time.Since(began)}
		if t.err = err; err != nil {
			t.err = fmt.Errorf("%s %s, %s: %w", t.task.Unit, t.task.Platform, t.task.Label, err)
			if ctx.Err() == nil {
				done.Outcome, done.Reason = event.Failed, err.Error()
				b.o.Sink.Send(done)
			}
			return
		}
		t.layer = packed.record
		b.follow(t)
		done.Outcome = packed.outcome
		if t.files > 0 {
			done.Detail = fmt.Sprintf("%s, %s", plural(t.files, "file"), humanize.Bytes(uint64(t.bytes)))
		}
		switch {
		case !first:
			done.Outcome, done.Reason = event.Reused, asAnother
		case done.Outcome == event.Reused:
			done.Reason = unchanged
		case t.task.Fresh:
			done.Reason = askedFor
		default:
			w := b.whyPacked(ctx, t)
			done.Reason, t.report.More = w.text, w.more
		}
		if t.ran != nil && !t.ofImage {
			// The command was told of when it ended; this is about its layer, for an image that starts from the stage.
			done.Task.ID, done.Task.Label = done.Task.ID+"+", "layer of: "+done.Task.Label
			t.report.Layer = t.layer.Layer
			b.o.Sink.Send(done)
			return
		}
		if t.ran != nil {
			done.Outcome, done.Reason, done.Took = t.ran.outcome, t.ran.why.text, t.ran.took
		}
		t.report.Outcome, t.report.Reason, t.report.Layer, t.report.Took, t.report.done = done.Outcome, done.Reason, t.layer.Layer, done.Took, true
		t.report.DiffID = t.layer.DiffID
		if packed.outcome == event.Reused && first {
			t.report.Spared += time.Duration(packed.record.Millis) * time.Millisecond
		}
		b.o.Sink.Send(done)
	})
	return t.err
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
	record := &store.Record{Key: t.layerKey(), Layer: packed.Descriptor, DiffID: packed.DiffID, Unpacked: packed.Unpacked,
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
