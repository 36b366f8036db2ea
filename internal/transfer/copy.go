package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/image"
	"imbricat/internal/platform"
	"imbricat/internal/registry"
)

// Options of a copy.
type Options struct {
	Root      digest.Descriptor   // zero: what the source's reference stands for
	Platforms []platform.Platform // none: all
	Names     []string            // to write last; none: the content alone
	Sink      event.Sink
}

// Result tells what a copy moved. Blobs are counted, manifests are not.
type Result struct {
	Descriptor   digest.Descriptor
	Sent         int
	SentBytes    int64
	Skipped      int // the destination had them
	SkippedBytes int64
	Manifests    int // written
}

// parallel is how many blobs move at once.
const parallel = 4

// Copy moves an image with all that it lists. Running it again changes nothing and moves nothing.
func Copy(ctx context.Context, from, to Place, o Options) (*Result, error) {
	c := &copier{from: from, to: to, o: o, seen: map[digest.Digest]bool{}, edited: map[digest.Digest][]byte{}}
	root := o.Root
	if root.Digest == "" {
		var err error
		if root, err = from.Root(ctx); err != nil {
			return nil, err
		}
	}
	root, err := c.choose(ctx, root)
	if err != nil {
		return nil, err
	}
	c.result.Descriptor = root
	if err := c.collect(ctx, root, 0); err != nil {
		return nil, err
	}
	if err := c.moveBlobs(ctx); err != nil {
		return nil, err
	}
	for _, doc := range c.documents {
		if err := c.moveDocument(ctx, doc); err != nil {
			return nil, err
		}
	}
	for _, name := range o.Names {
		if err := to.Name(ctx, root, name); err != nil {
			return nil, err
		}
	}
	return &c.result, nil
}

type copier struct {
	from, to  Place
	o         Options
	seen      map[digest.Digest]bool
	edited    map[digest.Digest][]byte // documents that are new, by their digest
	blobs     []digest.Descriptor
	documents []digest.Descriptor // children before parents

	mutex  sync.Mutex
	result Result
}

// Fetch gives a document, from the source or from those that are new.
func (c *copier) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	if body, known := c.edited[desc.Digest]; known {
		return io.NopCloser(newVerified(body, desc)), nil
	}
	return c.from.Fetch(ctx, desc)
}

// choose makes a smaller index where only some platforms are wanted.
func (c *copier) choose(ctx context.Context, root digest.Descriptor) (digest.Descriptor, error) {
	if len(c.o.Platforms) == 0 {
		return root, nil
	}
	offers, err := image.Offers(ctx, c, root)
	if err != nil {
		return root, err
	}
	var chosen []image.Offer
	for _, wanted := range c.o.Platforms {
		offer, err := image.Select(offers, wanted)
		if err != nil {
			return root, err
		}
		chosen = append(chosen, offer)
	}
	if !image.IsIndex(root.MediaType) {
		return root, nil
	}
	old, err := image.ReadIndex(ctx, c, root)
	if err != nil {
		return root, err
	}
	body, err := image.Encode(image.Index(chosen, old.Annotations))
	if err != nil {
		return root, err
	}
	smaller := digest.Descriptor{MediaType: v1.MediaTypeImageIndex, Digest: digest.FromBytes(body), Size: int64(len(body))}
	c.edited[smaller.Digest] = body
	return smaller, nil
}

// collect lists what a document needs that the destination lacks.
func (c *copier) collect(ctx context.Context, desc digest.Descriptor, depth int) error {
	if depth > 4 {
		return fmt.Errorf("%s: %w: indexes are nested too deep", desc.Digest, image.ErrMalformed)
	}
	if c.seen[desc.Digest] {
		return nil
	}
	c.seen[desc.Digest] = true
	if c.to.Whole() {
		there, err := c.to.Has(ctx, desc)
		if err != nil {
			return err
		}
		if there {
			return c.countBelow(ctx, desc)
		}
	}
	needs, err := c.needs(ctx, desc)
	if err != nil {
		return err
	}
	for _, need := range needs {
		if document(need) {
			if err := c.collect(ctx, need, depth+1); err != nil {
				return err
			}
			continue
		}
		if !c.seen[need.Digest] {
			c.seen[need.Digest] = true
			c.blobs = append(c.blobs, need)
		}
	}
	c.documents = append(c.documents, desc)
	return nil
}

func (c *copier) needs(ctx context.Context, desc digest.Descriptor) ([]digest.Descriptor, error) {
	switch {
	case image.IsIndex(desc.MediaType):
		index, err := image.ReadIndex(ctx, c, desc)
		if err != nil {
			return nil, err
		}
		return index.Manifests, nil
	case image.IsManifest(desc.MediaType):
		manifest, err := image.ReadManifest(ctx, c, desc)
		if err != nil {
			return nil, err
		}
		return append(manifest.Layers, manifest.Config), nil
	}
	return nil, fmt.Errorf("%s: %w: the media type %q is unknown", desc.Digest, image.ErrMalformed, desc.MediaType)
}

// countBelow counts what lies below a document that the destination has whole.
func (c *copier) countBelow(ctx context.Context, desc digest.Descriptor) error {
	needs, err := c.needs(ctx, desc)
	if err != nil {
		return err
	}
	for _, need := range needs {
		if c.seen[need.Digest] {
			continue
		}
		c.seen[need.Digest] = true
		if document(need) {
			if err := c.countBelow(ctx, need); err != nil {
				return err
			}
			continue
		}
		c.result.Skipped++
		c.result.SkippedBytes += need.Size
	}
	return nil
}

func (c *copier) moveBlobs(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(parallel)
	if _, ordered := c.to.(*newArchive); ordered {
		group.SetLimit(1)
	}
	for i, desc := range c.blobs {
		task := event.Task{ID: fmt.Sprintf("%06d", i), Unit: c.to.String(), Label: label(desc)}
		group.Go(func() error { return c.moveBlob(ctx, desc, task) })
	}
	return group.Wait()
}

func (c *copier) moveBlob(ctx context.Context, desc digest.Descriptor, task event.Task) error {
	began := time.Now()
	mounted, err := c.mount(ctx, desc)
	there := mounted
	if err == nil && !mounted {
		there, err = c.to.Has(ctx, desc)
	}
	if err == nil && !there {
		c.o.Sink.Send(event.Started{Task: task, Act: "sending", Total: desc.Size})
		err = c.again(ctx, func() error { return c.to.Put(ctx, desc, c.opener(ctx, desc, task)) })
	}
	done := event.Finished{Task: task, Outcome: event.Sent, Detail: humanize.Bytes(uint64(desc.Size)), Took: time.Since(began)}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	switch {
	case err != nil:
		if ctx.Err() == nil {
			done.Outcome, done.Reason = event.Failed, err.Error()
			c.o.Sink.Send(done)
		}
		return err
	case there:
		done.Outcome, done.Reason = event.Skipped, "it is there already"
		if mounted {
			done.Reason = "the registry has it"
		}
		c.result.Skipped++
		c.result.SkippedBytes += desc.Size
	default:
		c.result.Sent++
		c.result.SentBytes += desc.Size
	}
	c.o.Sink.Send(done)
	return nil
}

// mount has the destination take a blob over from a place nearby where that is known to have it.
func (c *copier) mount(ctx context.Context, desc digest.Descriptor) (bool, error) {
	from, lends := c.from.(lender)
	to, mounts := c.to.(mounter)
	if !lends || !mounts {
		return false, nil
	}
	for _, place := range from.Elsewhere(desc.Digest) {
		if mounted, err := to.Mount(ctx, desc, place); err != nil || mounted {
			return mounted, err
		}
	}
	return false, nil
}

// label names a blob for people.
func label(desc digest.Descriptor) string {
	kind := "layer "
	if desc.MediaType == v1.MediaTypeImageConfig {
		kind = "config "
	}
	return kind + digest.Short(desc.Digest)
}

// again repeats a move that broke off in the middle; requests by themselves are tried again below.
func (c *copier) again(ctx context.Context, move func() error) error {
	var err error
	for range 3 {
		if err = move(); err == nil || ctx.Err() != nil || !errors.Is(err, registry.ErrUnreachable) {
			return err
		}
	}
	return err
}

// opener opens a blob of the source and reports how far it is read.
func (c *copier) opener(ctx context.Context, desc digest.Descriptor, task event.Task) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		r, err := c.from.Fetch(ctx, desc)
		if err != nil {
			return nil, err
		}
		return &watched{ReadCloser: r, sink: c.o.Sink, task: task}, nil
	}
}

type watched struct {
	io.ReadCloser
	sink event.Sink
	task event.Task
	done int64
	last time.Time
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.ReadCloser.Read(p)
	w.done += int64(n)
	if now := time.Now(); now.Sub(w.last) > 100*time.Millisecond {
		w.last = now
		w.sink.Send(event.Progress{Task: w.task, Done: w.done})
	}
	return n, err
}

func (c *copier) moveDocument(ctx context.Context, desc digest.Descriptor) error {
	if !c.to.Whole() { // else collect has asked already
		if there, err := c.to.Has(ctx, desc); err != nil || there {
			return err
		}
	}
	c.result.Manifests++
	return c.to.Put(ctx, desc, func() (io.ReadCloser, error) { return c.Fetch(ctx, desc) })
}

// Missing counts what a place lacks of an image, the image's own manifest included.
func Missing(ctx context.Context, place Place, root digest.Descriptor) (int, error) {
	there, err := place.Has(ctx, root)
	if err != nil || !there {
		return 1, err
	}
	c := &copier{from: place, to: place}
	needs, err := c.needs(ctx, root)
	if err != nil {
		return 0, err
	}
	missing := 0
	for _, need := range needs {
		if document(need) {
			below, err := Missing(ctx, place, need)
			if err != nil {
				return 0, err
			}
			missing += below
		} else if there, err := place.Has(ctx, need); err != nil {
			return 0, err
		} else if !there {
			missing++
		}
	}
	return missing, nil
}
