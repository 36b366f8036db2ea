package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/digest"
	"imbricat/internal/image"
)

// ErrTwice is wrapped when two images that are to be joined are for the same platform.
var ErrTwice = errors.New("two images are for the same platform")

// Join makes one index over images that were built apart, of which none may be for the same platform as another, and names
// it. What the images' own indexes say alike is said by the new one. Its entries are in the order of platforms' names.
func Join(ctx context.Context, sources []Place, to Place, o Options) (*Result, error) {
	j := &joined{Place: to, from: map[digest.Digest]Place{}}
	var offers []image.Offer
	for i, source := range sources {
		root, err := source.Root(ctx)
		if err != nil {
			return nil, err
		}
		own, err := image.Offers(ctx, source, root)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", source, err)
		}
		for _, offer := range own {
			if other := slices.IndexFunc(offers, func(o image.Offer) bool { return o.Platform == offer.Platform }); other >= 0 {
				return nil, fmt.Errorf("%w, %s: %s, and %s", ErrTwice, offer.Platform, j.from[offers[other].Descriptor.Digest], source)
			}
			offers = append(offers, offer)
			j.from[offer.Descriptor.Digest] = source
		}
		if err := j.annotate(ctx, source, root, i == 0); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(offers, func(a, b image.Offer) int { return strings.Compare(a.Platform.String(), b.Platform.String()) })
	body, err := image.Encode(image.Index(offers, j.annotations))
	if err != nil {
		return nil, err
	}
	j.body, j.root = body, digest.Descriptor{MediaType: v1.MediaTypeImageIndex, Digest: digest.FromBytes(body), Size: int64(len(body))}
	o.Root, o.Platforms = j.root, nil
	t, err := Begin(ctx, j, to, o)
	if err != nil {
		return nil, err
	}
	sum := &t.c.result
	for _, offer := range offers {
		part, err := Begin(ctx, j.from[offer.Descriptor.Digest], to, Options{Root: offer.Descriptor, Sink: o.Sink})
		if err != nil {
			return nil, err
		}
		if err := part.Content(ctx); err != nil {
			return nil, err
		}
		sum.add(&part.c.result)
	}
	before := *sum
	if err := t.Content(ctx); err != nil {
		return nil, err
	}
	// The parts were counted above.
	sum.Skipped, sum.SkippedBytes = before.Skipped, before.SkippedBytes
	return t.Name(ctx)
}

func (r *Result) add(other *Result) {
	r.Sent, r.SentBytes = r.Sent+other.Sent, r.SentBytes+other.SentBytes
	r.Mounted, r.MountedBytes = r.Mounted+other.Mounted, r.MountedBytes+other.MountedBytes
	r.Skipped, r.SkippedBytes = r.Skipped+other.Skipped, r.SkippedBytes+other.SkippedBytes
	r.Manifests += other.Manifests
}

// joined is a source whose root is the new index, and whose other content lies in the images' own places.
type joined struct {
	Place       // the destination, for what nobody asks of a source
	from        map[digest.Digest]Place
	root        digest.Descriptor
	body        []byte
	annotations map[string]string
}

// annotate keeps what all indexes say alike.
func (j *joined) annotate(ctx context.Context, source Place, root digest.Descriptor, first bool) error {
	own := map[string]string{}
	if image.IsIndex(root.MediaType) {
		index, err := image.ReadIndex(ctx, source, root)
		if err != nil {
			return err
		}
		own = index.Annotations
	}
	if first {
		j.annotations = maps.Clone(own)
	}
	maps.DeleteFunc(j.annotations, func(key, value string) bool { return own[key] != value })
	return nil
}

// Fetch implements Place.
func (j *joined) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	if desc.Digest == j.root.Digest {
		return io.NopCloser(newVerified(j.body, desc)), nil
	}
	if from, known := j.from[desc.Digest]; known {
		return from.Fetch(ctx, desc)
	}
	return nil, fmt.Errorf("%s: %w", desc.Digest, fs.ErrNotExist)
}

// Root implements Place.
func (j *joined) Root(context.Context) (digest.Descriptor, error) { return j.root, nil }
