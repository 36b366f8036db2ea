// Package published reads what registries tell about earlier versions of images: each version for one platform, its tags, and
// what its layers hold. The latter is published beside an image as indexes of its layers, an artifact whose form is this
// package's. What was read is noted in the store; nothing is built and nothing printed.
package published

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/engine/layering"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/retention"
)

// Edition is an image for one platform at some place.
type Edition struct {
	Descriptor digest.Descriptor
	Manifest   *v1.Manifest
	Config     *v1.Image
	place      transfer.Place
}

// Find returns the image for a platform that a reference stands for.
func Find(ctx context.Context, places *transfer.Places, ref reference.Reference, p platform.Platform) (*Edition, error) {
	place, err := places.Source(ref)
	if err != nil {
		return nil, err
	}
	root, err := place.Root(ctx)
	if err != nil {
		return nil, err
	}
	offers, err := image.Offers(ctx, place, root)
	if err != nil {
		return nil, err
	}
	offer, err := image.Select(offers, p)
	if err != nil {
		return nil, err
	}
	e := &Edition{place: place, Descriptor: offer.Descriptor}
	if e.Manifest, err = image.ReadManifest(ctx, place, e.Descriptor); err != nil {
		return nil, err
	}
	if e.Config, err = image.ReadConfig(ctx, place, e.Manifest); err != nil {
		return nil, err
	}
	if len(e.Manifest.Layers) != len(e.Config.RootFS.DiffIDs) {
		return nil, fmt.Errorf("%w: it lists %d layers and its config %d", image.ErrMalformed, len(e.Manifest.Layers), len(e.Config.RootFS.DiffIDs))
	}
	return e, nil
}

// Below is how many layers of an image are not its own.
func (e *Edition) Below() int { return below(e.Manifest) }

func below(m *v1.Manifest) int {
	n, err := strconv.Atoi(m.Annotations[layering.BelowKey])
	if err != nil || n < 0 || n > len(m.Layers) {
		return 0
	}
	return n
}

// CreatedBy returns for each layer what its line of history says.
func (e *Edition) CreatedBy() []string {
	made := make([]string, len(e.Config.RootFS.DiffIDs))
	n := 0
	for _, h := range e.Config.History {
		if !h.EmptyLayer && n < len(made) {
			made[n] = h.CreatedBy
			n++
		}
	}
	return made
}

// NewestTags gives up to most tags of a repository that tell most of the past: those that look like versions last, the highest at
// the end.
func NewestTags(ctx context.Context, client *registry.Client, repository reference.Reference, most int) ([]string, error) {
	tags, err := client.Source(repository.Host, repository.Repository).Tags(ctx)
	var answer *registry.Error
	if errors.Is(err, fs.ErrNotExist) || errors.As(err, &answer) && answer.Status == 404 {
		return nil, nil
	}
	// A registry that cannot list what refers to an image keeps that under a tag.
	tags = slices.DeleteFunc(tags, func(tag string) bool { return strings.HasPrefix(tag, "sha256-") })
	slices.SortFunc(tags, func(a, b string) int { return retention.Compare(b, a) })
	return tags[max(0, len(tags)-most):], err
}
