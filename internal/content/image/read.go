package image

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/layer"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
)

// MaxDocument bounds manifests, indexes and configs, in bytes.
const MaxDocument = 4 << 20

// Fetcher gives the bytes of blobs and manifests.
type Fetcher interface {
	Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error)
}

// ErrMalformed is wrapped by errors about documents that are no image.
var ErrMalformed = errors.New("malformed image")

// ErrArtifact is wrapped where something else than an image is found in the form of one.
var ErrArtifact = fmt.Errorf("%w: it is an artifact", ErrMalformed)

// ReadDocument fetches a small document whole and verifies it.
func ReadDocument(ctx context.Context, f Fetcher, desc digest.Descriptor) ([]byte, error) {
	r, err := f.Fetch(ctx, desc)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return digest.ReadAll(r, desc, MaxDocument)
}

// readJSON reads a document; kind tells by a media type whether it is what it is taken for, nil where no document says so.
func readJSON(ctx context.Context, f Fetcher, desc digest.Descriptor, kind func(mediaType string) bool, into any) error {
	text, err := ReadDocument(ctx, f, desc)
	if err != nil {
		return err
	}
	if err := oneKind(text, kind); err != nil {
		return fmt.Errorf("%s: %w: %w", desc.Digest, ErrMalformed, err)
	}
	if err := json.Unmarshal(text, into); err != nil {
		return fmt.Errorf("%s: %w: %w", desc.Digest, ErrMalformed, err)
	}
	return nil
}

// oneKind refuses a document that could be taken for an index by one reader and for a manifest by another: who trusts its
// digest would not know what was trusted.
func oneKind(text []byte, kind func(mediaType string) bool) error {
	if kind == nil {
		return nil
	}
	var is struct {
		MediaType                 string
		Manifests, Layers, Config json.RawMessage
	}
	if json.Unmarshal(text, &is) != nil {
		return nil // whoever reads it says so
	}
	switch {
	case is.Manifests != nil && (is.Layers != nil || is.Config != nil):
		return errors.New("it is an index and a manifest at once")
	case is.MediaType != "" && !kind(is.MediaType):
		return fmt.Errorf("it says that it is of the type %q", is.MediaType)
	case is.Manifests != nil && !kind(v1.MediaTypeImageIndex), is.Layers != nil && !kind(v1.MediaTypeImageManifest):
		return errors.New("it is of another kind than it was said to be")
	}
	return nil
}

// ReadIndex fetches an index.
func ReadIndex(ctx context.Context, f Fetcher, desc digest.Descriptor) (*v1.Index, error) {
	var index v1.Index
	if err := readJSON(ctx, f, desc, IsIndex, &index); err != nil {
		return nil, err
	}
	if index.Manifests == nil {
		return nil, fmt.Errorf("the index %s: %w: it has no list of manifests", desc.Digest, ErrMalformed)
	}
	for _, m := range index.Manifests {
		if err := checkDescriptor(m); err != nil {
			return nil, fmt.Errorf("the index %s: %w", desc.Digest, err)
		}
	}
	return &index, nil
}

// ReadManifest fetches the manifest of an image. Layers of older media types are given with the standard's.
func ReadManifest(ctx context.Context, f Fetcher, desc digest.Descriptor) (*v1.Manifest, error) {
	var manifest v1.Manifest
	if err := readJSON(ctx, f, desc, IsManifest, &manifest); err != nil {
		return nil, err
	}
	if err := checkDescriptor(manifest.Config); err != nil {
		return nil, fmt.Errorf("the manifest %s: config: %w", desc.Digest, err)
	}
	for i, l := range manifest.Layers {
		if err := checkDescriptor(l); err != nil {
			return nil, fmt.Errorf("the manifest %s: layer %d: %w", desc.Digest, i+1, err)
		}
		manifest.Layers[i].MediaType = current(l.MediaType)
	}
	return &manifest, nil
}

func checkDescriptor(d digest.Descriptor) error {
	if err := d.Digest.Validate(); err != nil {
		return fmt.Errorf("%w: the digest %q: %w", ErrMalformed, d.Digest, err)
	}
	if d.Size < 0 {
		return fmt.Errorf("%w: %s has a negative size", ErrMalformed, d.Digest)
	}
	return nil
}

// ReadConfig fetches the config that a manifest names.
func ReadConfig(ctx context.Context, f Fetcher, manifest *v1.Manifest) (*v1.Image, error) {
	if !IsConfig(manifest.Config.MediaType) {
		return nil, fmt.Errorf("%w of type %q, not an image", ErrArtifact, manifest.Config.MediaType)
	}
	var config v1.Image
	if err := readJSON(ctx, f, manifest.Config, nil, &config); err != nil {
		return nil, err
	}
	if len(config.RootFS.DiffIDs) != len(manifest.Layers) {
		return nil, fmt.Errorf("%w: the config lists %d layers, the manifest %d", ErrMalformed, len(config.RootFS.DiffIDs), len(manifest.Layers))
	}
	for _, d := range config.RootFS.DiffIDs {
		if err := d.Validate(); err != nil {
			return nil, fmt.Errorf("%w: the layer %q: %w", ErrMalformed, d, err)
		}
	}
	return &config, nil
}

// Offer is an image for one platform, as an index offers it.
type Offer struct {
	Platform   platform.Platform
	Descriptor digest.Descriptor
}

// maxNesting is how deep indexes may stand in each other.
const maxNesting = 3

// Offers lists the images that a manifest or an index leads to. For a lone manifest the config tells the platform.
func Offers(ctx context.Context, f Fetcher, root digest.Descriptor) ([]Offer, error) {
	return offers(ctx, f, root, 0)
}

func offers(ctx context.Context, f Fetcher, desc digest.Descriptor, depth int) ([]Offer, error) {
	switch {
	case depth > maxNesting:
		return nil, fmt.Errorf("%s: %w: indexes are nested more than %d deep", desc.Digest, ErrMalformed, maxNesting)
	case IsIndex(desc.MediaType):
		index, err := ReadIndex(ctx, f, desc)
		if err != nil {
			return nil, err
		}
		var all []Offer
		for _, m := range index.Manifests {
			if IsManifest(m.MediaType) && m.Platform != nil {
				all = append(all, Offer{platform.FromOCI(*m.Platform), m})
				continue
			}
			if !IsIndex(m.MediaType) && !IsManifest(m.MediaType) {
				continue // something else that travels with the image
			}
			below, err := offers(ctx, f, m, depth+1)
			if err != nil {
				return nil, err
			}
			all = append(all, below...)
		}
		return all, nil
	case IsManifest(desc.MediaType):
		manifest, err := ReadManifest(ctx, f, desc)
		if err != nil {
			return nil, err
		}
		config, err := ReadConfig(ctx, f, manifest)
		if err != nil {
			return nil, err
		}
		return []Offer{{platform.FromOCI(config.Platform), desc}}, nil
	}
	return nil, fmt.Errorf("%s: %w: the media type %q is unknown", desc.Digest, ErrMalformed, desc.MediaType)
}

// NoPlatformError says that an image lacks the wanted platform.
type NoPlatformError struct {
	Wanted  platform.Platform
	Offered []platform.Platform
}

func (e *NoPlatformError) Error() string {
	var words []string
	for _, p := range e.Offered {
		if !p.Unknown() {
			words = append(words, p.String())
		}
	}
	if len(words) == 0 {
		return fmt.Sprintf("it has no image for %s, nor for any other platform", e.Wanted)
	}
	return fmt.Sprintf("it has no image for %s; it offers %s", e.Wanted, strings.Join(words, ", "))
}

// Select picks the offer for a platform. The error is a *NoPlatformError.
func Select(list []Offer, wanted platform.Platform) (Offer, error) {
	platforms := make([]platform.Platform, len(list))
	for i, o := range list {
		platforms[i] = o.Platform
	}
	i := platform.Best(wanted, platforms)
	if i < 0 {
		return Offer{}, &NoPlatformError{wanted, platforms}
	}
	return list[i], nil
}

// PlatformDigests returns the digests of an image's platforms.
func PlatformDigests(ctx context.Context, f Fetcher, root digest.Descriptor) (map[string]digest.Digest, error) {
	offers, err := Offers(ctx, f, root)
	if errors.Is(err, ErrMalformed) {
		return nil, nil // an artifact
	}
	all := map[string]digest.Digest{}
	for _, o := range offers {
		all[o.Platform.String()] = o.Descriptor.Digest
	}
	return all, err
}

// KnownTime is a time, or zero for the constant that an image has where nobody knows when it was made.
func KnownTime(t time.Time) time.Time {
	if t.Equal(layer.Epoch) {
		return time.Time{}
	}
	return t
}
