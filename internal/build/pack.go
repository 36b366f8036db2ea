package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"

	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

func isNoMatch(err error) bool { return errors.Is(err, tree.ErrNoMatch) }

// match gives the nodes that a pattern names; what lies in a folder that matched belongs to it and is no match.
func match(view *tree.View, pattern string) ([]*tree.Node, error) {
	base, rest := doublestar.SplitPattern(pattern)
	if base == "." {
		base = ""
	}
	real, err := view.Resolve(base, true)
	if err != nil {
		return nil, err
	}
	top, exists := view.Lookup(real)
	if !exists {
		return nil, nil
	}
	var found []*tree.Node
	var visit func(n *tree.Node) error
	visit = func(n *tree.Node) error {
		for _, child := range n.Children() {
			matched, err := doublestar.Match(rest, strings.TrimPrefix(strings.TrimPrefix(child.Path, top.Path), "/"))
			if err != nil {
				return fmt.Errorf("%q is no valid pattern: %w", pattern, err)
			}
			if matched {
				found = append(found, child)
			} else if err := visit(child); err != nil {
				return err
			}
		}
		return nil
	}
	return found, visit(top)
}

// Why a step was reused or ran.
const (
	unchanged = "unchanged"
	asAnother = "same as another step"
	noLayer   = "what is taken from a stage needs no layer of the stage's own"
	nothing   = "it lays nothing down"
	notPacked = "new content"
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
		packed, first, err := b.layers.do(t.key, func() (*packedLayer, error) { return b.packOnce(ctx, t) })
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
		done.Outcome = packed.outcome
		if t.files > 0 {
			done.Detail = fmt.Sprintf("%s, %s", plural(t.files, "file"), humanize.Bytes(uint64(t.bytes)))
		}
		switch {
		case !first:
			done.Outcome, done.Reason = event.Reused, asAnother
		case done.Outcome == event.Reused:
			done.Reason = unchanged
		default:
			done.Reason = notPacked
		}
		t.report.Outcome, t.report.Reason, t.report.Layer, t.report.Took = done.Outcome, done.Reason, t.layer.Layer, done.Took
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
	if record, found := b.o.Store.Record(t.key); found {
		return &packedLayer{record, event.Reused}, nil
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

func (b *builder) packNew(ctx context.Context, t *stepTree) (*store.Record, error) {
	began := time.Now()
	paths := make([]string, 0, t.files)
	for i := range t.entries {
		if e := &t.entries[i]; e.Kind == tree.File && e.Size > 0 {
			paths = append(paths, e.Path)
		}
	}
	if err := t.prepare(ctx, paths); err != nil {
		return nil, err
	}
	blob, err := b.o.Store.Begin()
	if err != nil {
		return nil, err
	}
	defer blob.Abort()
	progress := newProgress(b.o.Sink, t.task)
	packed, err := layer.Pack(ctx, blob, t.entries, func(e *tree.Entry) (io.ReadCloser, error) {
		body, err := t.Open(e.Path)
		return &counted{body, progress}, err
	})
	if err != nil {
		return nil, err
	}
	if err := blob.Commit(packed.Descriptor.Digest); err != nil {
		return nil, err
	}
	if err := keepIndex(b.o.Store, &layer.Indexed{Entries: t.entries, DiffID: packed.DiffID, Unpacked: packed.Unpacked}); err != nil {
		return nil, err
	}
	record := &store.Record{Key: t.key, Layer: packed.Descriptor, DiffID: packed.DiffID, Unpacked: packed.Unpacked,
		Files: t.files, Millis: time.Since(began).Milliseconds()}
	return record, b.o.Store.PutRecord(record)
}

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
