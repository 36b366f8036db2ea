package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layout"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/remote/registry"
)

// Verified is what was found of an image and all that it lists. Sizes are in bytes.
type Verified struct {
	Documents, Blobs int
	Bytes            int64    // of the blobs
	Findings         []string // what is missing or wrong
}

// Verify looks whether all that an image lists is at its place: its documents are read and compared with their digests,
// and of its blobs it is asked whether they are there; with contents they are read whole, too. What is missing or wrong is a
// finding, and no error.
func Verify(ctx context.Context, place Place, root digest.Descriptor, contents bool, sink event.Sink) (*Verified, error) {
	v := &Verified{}
	c := &copier{from: place, to: nowhere{place}, seen: map[digest.Digest]bool{}}
	if err := c.collect(ctx, root, 0); err != nil {
		return v, v.finding(err)
	}
	v.Documents, v.Blobs = len(c.documents), len(c.blobs)
	var mutex sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(inFlight)
	if contents {
		group.SetLimit(parallel)
	}
	for i, desc := range c.blobs {
		v.Bytes += desc.Size
		task := event.Task{ID: fmt.Sprintf("%06d", i), Unit: place.String(), Label: label(desc)}
		group.Go(func() error {
			err := verifyBlob(ctx, place, desc, contents, sink, task)
			mutex.Lock()
			defer mutex.Unlock()
			return v.finding(err)
		})
	}
	return v, group.Wait()
}

func verifyBlob(ctx context.Context, place Place, desc digest.Descriptor, contents bool, sink event.Sink, task event.Task) error {
	if !contents {
		there, err := place.Has(ctx, desc)
		if err == nil && !there {
			err = fmt.Errorf("%s: %w", task.Label, fs.ErrNotExist)
		}
		return err
	}
	sink.Send(event.Started{Task: task, Act: "reading", Total: desc.Size})
	in, err := place.Fetch(ctx, desc)
	if err == nil {
		_, err = io.Copy(io.Discard, in)
		err = errors.Join(err, in.Close())
	}
	if err == nil {
		sink.Send(event.Finished{Task: task, Outcome: event.Skipped, Reason: event.Text("it is as its digest says"), Detail: humanize.Bytes(uint64(desc.Size))})
		return nil
	}
	return fmt.Errorf("%s: %w", task.Label, err)
}

// finding keeps an error that tells of an image, and gives back any other.
func (v *Verified) finding(err error) error {
	if err != nil && (NotThere(err) || errors.Is(err, digest.ErrMismatch) || errors.Is(err, image.ErrMalformed)) {
		v.Findings = append(v.Findings, err.Error())
		return nil
	}
	return err
}

// NotThere reports whether an error of any place says that something is not there.
func NotThere(err error) bool {
	var answer *registry.Error
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, layout.ErrNotFound) || errors.As(err, &answer) && answer.NotFound()
}

// nowhere is a destination that has nothing, so that everything of an image is listed.
type nowhere struct{ Place }

// Has implements Place.
func (nowhere) Has(context.Context, digest.Descriptor) (bool, error) { return false, nil }

// Whole implements Place.
func (nowhere) Whole() bool { return false }
