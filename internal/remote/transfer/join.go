package transfer

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
)

// ErrTwice is wrapped when two images that are to be joined are for the same platform.
var ErrTwice = errors.New("two images are for the same platform")

// ErrDiffer is wrapped when images that are to be joined were not built from the same.
var ErrDiffer = errors.New("the images differ in what they were built from")

// Part is an image, or an index, that is to be joined.
type Part struct {
	Place Place
	Name  string // for messages; empty: the place's
	// As is the platform of an image whose config says none, or not all of it; zero: as it says.
	As platform.Platform
}

func (part *Part) name() string {
	if part.Name != "" {
		return part.Name
	}
	return part.Place.String()
}

// JoinOptions say what may be joined.
type JoinOptions struct {
	// Extend is an image whose other platforms stay; nil: none.
	Extend Place
	// Alike are annotations that images which have them must agree in.
	Alike []string
}

// Join makes one index over images that were built apart, of which none may be for the same platform as another, and names
// it. With an error about names comes how far it got. What the images' own indexes say alike is said by the new one. Its entries are in the order of platforms' names.
func Join(ctx context.Context, parts []Part, to Place, j JoinOptions, o Options) (*Result, error) {
	t, offers, from, err := beginJoin(ctx, parts, to, j, o)
	if err != nil {
		return nil, err
	}
	sum := &t.c.result
	for _, offer := range offers {
		part, err := Begin(ctx, from[offer.Descriptor.Digest], to, Options{Root: offer.Descriptor, Sink: o.Sink})
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
	_, err = t.Name(ctx)
	sofar := t.Sofar()
	return &sofar, err
}

// beginJoin finds and checks what is to be joined, and asks the guard. Nothing is written yet.
func beginJoin(ctx context.Context, parts []Part, to Place, options JoinOptions, o Options) (*Transfer, []image.Offer, map[digest.Digest]Place, error) {
	j := &joined{Place: to, from: map[digest.Digest]Place{}, said: map[string][2]string{}}
	var offers []image.Offer
	var names []string // of the parts that the offers are from
	for i, part := range parts {
		root, err := part.Place.Root(ctx)
		if err != nil {
			return nil, nil, nil, err
		}
		own, err := part.offers(ctx, root)
		if err != nil {
			return nil, nil, nil, fmt.Errorf("%s: %w", part.name(), err)
		}
		for _, offer := range own {
			if other := slices.IndexFunc(offers, func(o image.Offer) bool { return o.Platform == offer.Platform }); other >= 0 {
				return nil, nil, nil, fmt.Errorf("%w, %s: %s, and %s", ErrTwice, offer.Platform, names[other], part.name())
			}
			offers, names = append(offers, offer), append(names, part.name())
			j.from[offer.Descriptor.Digest] = part.Place
		}
		if err := j.annotate(ctx, &part, root, own, i == 0, options.Alike); err != nil {
			return nil, nil, nil, err
		}
	}
	if options.Extend != nil {
		stays, err := extended(ctx, options.Extend, offers)
		if err != nil {
			return nil, nil, nil, err
		}
		for _, offer := range stays {
			offers = append(offers, offer)
			j.from[offer.Descriptor.Digest] = options.Extend
		}
	}
	slices.SortFunc(offers, func(a, b image.Offer) int { return strings.Compare(a.Platform.String(), b.Platform.String()) })
	body, err := image.Encode(image.Index(offers, j.annotations))
	if err != nil {
		return nil, nil, nil, err
	}
	j.body, j.root = body, digest.Descriptor{MediaType: v1.MediaTypeImageIndex, Digest: digest.FromBytes(body), Size: int64(len(body))}
	o.Root, o.Platforms = j.root, nil
	t, err := Begin(ctx, j, to, o)
	return t, offers, j.from, err
}

// extended returns the platforms of an image, where it is there, that the new ones do not have.
func extended(ctx context.Context, place Place, fresh []image.Offer) ([]image.Offer, error) {
	root, err := place.Root(ctx)
	if NotThere(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	own, err := image.Offers(ctx, place, root)
	return slices.DeleteFunc(own, func(o image.Offer) bool {
		return o.Platform.Unknown() || slices.ContainsFunc(fresh, func(f image.Offer) bool { return f.Platform == o.Platform })
	}), err
}

// offers lists the images of a part, each with the platform that its config confirms.
func (part *Part) offers(ctx context.Context, root digest.Descriptor) ([]image.Offer, error) {
	all, err := image.Offers(ctx, part.Place, root)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(o image.Offer) bool { return o.Platform.Unknown() && image.IsIndex(root.MediaType) })
	if part.As != (platform.Platform{}) && len(all) > 1 {
		one, err := image.Select(all, part.As)
		if err != nil {
			return nil, err
		}
		all = []image.Offer{one}
	}
	for i := range all {
		if all[i].Platform, err = part.confirm(ctx, all[i]); err != nil {
			return nil, err
		}
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%w: it holds no image", image.ErrMalformed)
	}
	return all, nil
}

// confirm compares the platform that a part is said to be for with its config. Each may leave things unsaid that the other
// tells.
func (part *Part) confirm(ctx context.Context, offer image.Offer) (platform.Platform, error) {
	manifest, err := image.ReadManifest(ctx, part.Place, offer.Descriptor)
	if err != nil {
		return offer.Platform, err
	}
	config, err := image.ReadConfig(ctx, part.Place, manifest)
	if err != nil {
		return offer.Platform, err
	}
	wanted := offer.Platform
	if part.As != (platform.Platform{}) {
		wanted = part.As
	}
	says := platform.FromOCI(config.Platform)
	if wanted.Unknown() {
		wanted = platform.Platform{}
	}
	wanted = platform.Platform{OS: cmp.Or(wanted.OS, says.OS), Architecture: cmp.Or(wanted.Architecture, says.Architecture), Variant: cmp.Or(wanted.Variant, says.Variant)}
	differs := func(a, b string) bool { return a != "" && b != "" && a != b }
	switch {
	case wanted.OS == "" || wanted.Architecture == "":
		return wanted, fmt.Errorf("%s does not say what platform it is for: write it before the source, as in linux/arm64=SOURCE", offer.Descriptor.Digest)
	case differs(says.OS, wanted.OS), differs(says.Architecture, wanted.Architecture), differs(says.Variant, wanted.Variant):
		return wanted, fmt.Errorf("%w: %s is said to be for %s, and its config says %s", image.ErrMalformed, offer.Descriptor.Digest, wanted, says)
	}
	return wanted, nil
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
	said        map[string][2]string // annotation → value, and who said it first
}

// annotate keeps what all indexes say alike, and refuses what must not differ.
func (j *joined) annotate(ctx context.Context, part *Part, root digest.Descriptor, offers []image.Offer, first bool, alike []string) error {
	own := map[string]string{}
	if image.IsIndex(root.MediaType) {
		index, err := image.ReadIndex(ctx, part.Place, root)
		if err != nil {
			return err
		}
		own = index.Annotations
	}
	if first {
		j.annotations = maps.Clone(own)
	}
	maps.DeleteFunc(j.annotations, func(key, value string) bool { return own[key] != value })
	for _, key := range alike {
		value := own[key]
		if value == "" {
			manifest, err := image.ReadManifest(ctx, part.Place, offers[0].Descriptor)
			if err != nil {
				return err
			}
			value = manifest.Annotations[key]
		}
		before, known := j.said[key]
		if value != "" && known && before[0] != value {
			return fmt.Errorf("%w: %s is %s for %s, and %s for %s", ErrDiffer, key, before[0], before[1], value, part.name())
		}
		if value != "" && !known {
			j.said[key] = [2]string{value, part.name()}
		}
	}
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
