package transfer

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/remote/registry"
)

// Options of a copy.
type Options struct {
	Root      digest.Descriptor   // zero: what the source's reference stands for
	Platforms []platform.Platform // none: all
	Names     []string            // to write last; none: the content alone
	Referrers bool                // take along what refers to the image, and what refers to that
	Guard     Guard               // of names that stand on something else already
	Sink      event.Sink
	// Arrived is told of each blob that was moved, by several goroutines; it may be nil.
	Arrived func(desc digest.Descriptor)
}

// Result tells what a copy moved. Blobs are counted, manifests are not.
type Result struct {
	Descriptor   digest.Descriptor
	Sent         int
	SentBytes    int64
	Mounted      int // the destination's registry had them in another repository
	MountedBytes int64
	Skipped      int // the destination had them
	SkippedBytes int64
	Manifests    int      // written
	Named        []string // written, or found to stand right
}

// Transfer is an image on its way. Its content goes before its names, so that several transfers can bring all their content
// before any of them names anything.
type Transfer struct{ c *copier }

// Copy moves an image with all that it lists. Running it again changes nothing and moves nothing.
func Copy(ctx context.Context, from, to Place, o Options) (*Result, error) {
	t, err := Begin(ctx, from, to, o)
	if err != nil {
		return nil, err
	}
	if err := t.Content(ctx); err != nil {
		return nil, err
	}
	return t.Name(ctx)
}

// Begin finds what is to be moved, and asks the guard. Nothing is written yet.
func Begin(ctx context.Context, from, to Place, o Options) (*Transfer, error) {
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
	if err := c.guard(ctx, o.Names); err != nil {
		return nil, err
	}
	return &Transfer{c}, nil
}

// Content moves all that the image needs, its own manifest last.
func (t *Transfer) Content(ctx context.Context) error {
	c := t.c
	if err := c.collect(ctx, c.result.Descriptor, 0); err != nil {
		return err
	}
	if err := c.moveBlobs(ctx); err != nil {
		return c.tell(ctx, err)
	}
	if err := c.moveDocuments(ctx); err != nil {
		return c.tell(ctx, err)
	}
	return nil
}

// Ready asks the guard again. Whoever names several transfers does so before the first of them.
func (t *Transfer) Ready(ctx context.Context) error { return t.c.guard(ctx, t.c.o.Names) }

// Sofar is what a transfer has moved and named until now.
func (t *Transfer) Sofar() Result {
	t.c.mutex.Lock()
	defer t.c.mutex.Unlock()
	return t.c.result
}

// Name writes the names, last of all.
func (t *Transfer) Name(ctx context.Context) (*Result, error) {
	c := t.c
	if err := t.Ready(ctx); err != nil {
		return nil, err
	}
	for _, name := range c.o.Names {
		if err := c.name(ctx, name); err != nil {
			if len(c.result.Named) > 0 {
				err = fmt.Errorf("%w; written before: %q", err, c.result.Named)
			}
			return nil, err
		}
		c.result.Named = append(c.result.Named, name)
	}
	return &c.result, nil
}

// tell adds how far a copy came to what ended it.
func (c *copier) tell(ctx context.Context, err error) error {
	if _, is := c.to.(*remote); !is || ctx.Err() != nil {
		return err
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	r := &c.result
	return fmt.Errorf("%w; %d of %d blobs are at %s (%s sent), no tag was written; running it again goes on from there",
		err, r.Sent+r.Mounted+r.Skipped, len(c.blobs), c.to, humanize.Bytes(uint64(r.SentBytes)))
}

type copier struct {
	from, to  Place
	o         Options
	ahead     ahead
	seen      map[digest.Digest]bool
	edited    map[digest.Digest][]byte // documents that are new, by their digest
	blobs     []digest.Descriptor
	documents []digest.Descriptor      // children before parents
	stood     map[string]digest.Digest // what names stood on when the guard looked first

	mutex  sync.Mutex
	result Result
}

// Fetch returns a document, from the source or from those that are new.
func (c *copier) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	if body, known := c.edited[desc.Digest]; known {
		return io.NopCloser(newVerified(body, desc)), nil
	}
	if body, held := c.ahead.open(desc); held {
		return body, nil
	}
	return c.from.Fetch(ctx, desc)
}

// choose makes a smaller index where only some platforms are wanted. What else the index says stays as it is.
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
	old, err := image.ReadDocument(ctx, c, root)
	if err != nil {
		return root, err
	}
	body, err := image.Narrow(old, chosen)
	if err != nil {
		return root, err
	}
	smaller := digest.Descriptor{MediaType: v1.MediaTypeImageIndex, Digest: digest.FromBytes(body), Size: int64(len(body))}
	c.edited[smaller.Digest] = body
	return smaller, nil
}

// parallel bounds how many large blobs move at once, where nobody chose otherwise.
const parallel = 4

// moveBlobs asks for all blobs first, and then moves those that are not there.
func (c *copier) moveBlobs(ctx context.Context) error {
	there := make([]bool, len(c.blobs))
	asking, within := errgroup.WithContext(ctx)
	asking.SetLimit(inFlight)
	for i, desc := range c.blobs {
		asking.Go(func() (err error) {
			there[i], err = c.to.Has(within, desc)
			return err
		})
	}
	if err := asking.Wait(); err != nil {
		return err
	}
	move := func(ctx context.Context, i int) error {
		desc := c.blobs[i]
		return c.moveBlob(ctx, desc, there[i], event.Task{ID: fmt.Sprintf("%06d", i), Unit: c.elsewhere().String(), Label: label(desc)})
	}
	if c.ordered() {
		return c.moveInOrder(ctx, move, there)
	}
	// Where somebody chose how many move, that is how many.
	sets := map[int][]int{}
	for i, desc := range c.blobs {
		most := cmp.Or(c.chosen(), parallel)
		if desc.Size <= smallBlob {
			most = c.inFlight()
		}
		sets[most] = append(sets[most], i)
	}
	all, ctx := errgroup.WithContext(ctx)
	for most, set := range sets {
		all.Go(func() error {
			group, ctx := errgroup.WithContext(ctx)
			group.SetLimit(most)
			for _, i := range set {
				group.Go(func() error { return move(ctx, i) })
			}
			return group.Wait()
		})
	}
	return all.Wait()
}

// ordered reports whether the destination takes one thing after the other.
func (c *copier) ordered() bool {
	_, is := c.to.(*newArchive)
	return is
}

// chosen is how many blobs are to move at once where somebody chose that, or 0.
func (c *copier) chosen() (most int) {
	for _, place := range []Place{c.from, c.to} {
		if r, is := place.(*remote); is {
			if n := r.repository.Parallel(); n > 0 && (most == 0 || n < most) {
				most = n
			}
		}
	}
	return most
}

// inFlight is how many small things are asked for at once.
func (c *copier) inFlight() int { return cmp.Or(c.chosen(), inFlight) }

// fetches reports whether the copy brings things into the store.
func (c *copier) fetches() bool {
	_, is := c.to.(*stored)
	return is
}

// elsewhere is the place that people name a copy by: where it goes, or of what is brought into the store where it comes from.
func (c *copier) elsewhere() Place {
	if c.fetches() {
		return c.from
	}
	return c.to
}

func (c *copier) act() string {
	if c.fetches() {
		return "fetching"
	}
	return "sending"
}

func (c *copier) outcome() event.Outcome {
	if c.fetches() {
		return event.Fetched
	}
	return event.Sent
}

func (c *copier) moveBlob(ctx context.Context, desc digest.Descriptor, there bool, task event.Task) error {
	began := time.Now()
	var err error
	mounted := false
	if !there {
		mounted, err = c.mount(ctx, desc)
	}
	if err == nil && !there && !mounted {
		c.o.Sink.Send(event.Started{Task: task, Act: c.act(), Total: desc.Size})
		err = c.again(ctx, func() error { return c.to.Put(ctx, desc, c.opener(ctx, desc, task)) })
	}
	if err == nil {
		if err = c.note(desc); c.o.Arrived != nil && !there {
			c.o.Arrived(desc)
		}
	} else {
		err = c.blame(ctx, desc, err)
	}
	done := event.Finished{Task: task, Outcome: c.outcome(), Detail: humanize.Bytes(uint64(desc.Size)), Took: time.Since(began)}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	switch {
	case err != nil:
		if ctx.Err() == nil {
			done.Outcome, done.Reason = event.Failed, event.Text(err.Error())
			c.o.Sink.Send(done)
		}
		return err
	case mounted:
		done.Outcome, done.Reason = event.Skipped, event.Text("the registry has it")
		c.result.Mounted++
		c.result.MountedBytes += desc.Size
	case there:
		done.Outcome, done.Reason = event.Skipped, event.Text("it is there already")
		c.result.Skipped++
		c.result.SkippedBytes += desc.Size
	default:
		c.result.Sent++
		c.result.SentBytes += desc.Size
	}
	c.o.Sink.Send(done)
	return nil
}

// blame finds out who is at fault where a registry did not take bytes that nobody here has verified.
func (c *copier) blame(ctx context.Context, desc digest.Descriptor, err error) error {
	var answer *registry.Error
	if !errors.As(err, &answer) || answer.Status != http.StatusBadRequest {
		return err
	}
	in, openErr := c.from.Fetch(ctx, desc)
	if openErr != nil {
		return err
	}
	defer in.Close()
	if _, readErr := io.Copy(io.Discard, in); errors.Is(readErr, digest.ErrMismatch) {
		return fmt.Errorf("%w; %w", readErr, err)
	}
	return err
}

// note keeps in the store where else a blob is now known to be, so that the registry's other repositories can take it over
// from there.
func (c *copier) note(desc digest.Descriptor) error {
	if to, is := c.to.(*remote); is {
		if from, keeps := c.from.(keeper); keeps {
			return from.NoteSeen(desc, to.repository.String())
		}
	}
	if from, is := c.from.(*remote); is {
		if to, keeps := c.to.(keeper); keeps {
			return to.NoteSeen(desc, from.repository.String())
		}
	}
	return nil
}

// mount has the destination take a blob over from a place nearby where that is known to have it.
func (c *copier) mount(ctx context.Context, desc digest.Descriptor) (bool, error) {
	to, mounts := c.to.(mounter)
	if !mounts {
		return false, nil
	}
	var places []string
	switch from := c.from.(type) {
	case lender:
		places = from.Neighbours(desc.Digest)
	case *remote:
		places = []string{from.repository.String()}
	}
	for _, place := range places {
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

// again repeats a move that broke off in the middle where the place does not go on by itself.
func (c *copier) again(ctx context.Context, move func() error) error {
	if _, is := c.to.(*remote); is {
		return move()
	}
	var err error
	for range 3 {
		if err = move(); err == nil || ctx.Err() != nil || !errors.Is(err, registry.ErrUnreachable) {
			return err
		}
	}
	return err
}

// opener opens a blob of the source from one of its bytes on, and reports how far it is read.
func (c *copier) opener(ctx context.Context, desc digest.Descriptor, task event.Task) Opener {
	return func(at int64) (io.ReadCloser, error) {
		r, err := c.openAt(ctx, desc, at)
		if err != nil {
			return nil, err
		}
		return &watched{ReadCloser: r, sink: c.o.Sink, task: task, done: at}, nil
	}
}

// openAt leaves verifying to a registry that is the destination, which does it; any other place gets verified bytes.
func (c *copier) openAt(ctx context.Context, desc digest.Descriptor, at int64) (io.ReadCloser, error) {
	if at == 0 {
		if body, held := c.ahead.open(desc); held {
			return body, nil
		}
	}
	_, verifies := c.to.(*remote)
	if from, can := c.from.(seekable); can && verifies {
		return from.FetchFrom(ctx, desc, at)
	}
	r, err := c.from.Fetch(ctx, desc)
	if err != nil {
		return nil, err
	}
	if _, err := io.CopyN(io.Discard, r, at); err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

type watched struct {
	io.ReadCloser
	sink event.Sink
	task event.Task
	done int64
	last time.Time
}

// Verifies implements digest.Verifying.
func (w *watched) Verifies(want digest.Descriptor) bool { return digest.Verifies(w.ReadCloser, want) }

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.ReadCloser.Read(p)
	w.done += int64(n)
	if now := time.Now(); now.Sub(w.last) > 100*time.Millisecond {
		w.last = now
		w.sink.Send(event.Progress{Task: w.task, Done: w.done})
	}
	return n, err
}

// moveDocuments moves documents, those that others list first. Manifests that follow one another list each other only as subjects.
func (c *copier) moveDocuments(ctx context.Context) error {
	for list := c.documents; len(list) > 0; {
		n := 1
		if c.ordered() && (len(c.documents)-len(list))%mostBehind == 0 {
			c.readDocuments(ctx, list[:min(len(list), mostBehind)])
		}
		for !c.o.Referrers && !c.ordered() && n < len(list) && image.IsManifest(list[0].MediaType) && image.IsManifest(list[n].MediaType) {
			n++
		}
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(c.inFlight())
		for _, desc := range list[:n] {
			group.Go(func() error { return c.moveDocument(ctx, desc) })
		}
		if err := group.Wait(); err != nil {
			return err
		}
		list = list[n:]
	}
	return nil
}

func (c *copier) moveDocument(ctx context.Context, desc digest.Descriptor) error {
	if !c.to.Whole() { // else collect has asked already
		if there, err := c.to.Has(ctx, desc); err != nil || there {
			return err
		}
	}
	c.mutex.Lock()
	c.result.Manifests++
	c.mutex.Unlock()
	return c.to.Put(ctx, desc, func(int64) (io.ReadCloser, error) { return c.Fetch(ctx, desc) })
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
