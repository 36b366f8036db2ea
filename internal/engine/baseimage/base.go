package baseimage

import (
	"context"
	"fmt"
	"sync"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
)

// Finder finds images.
type Finder interface {
	// Resolve finds the image for a platform without fetching its layers. An image without the platform is an
	// *image.NoPlatformError.
	Resolve(ctx context.Context, ref reference.Reference, p platform.Platform) (*Found, error)
}

// Found is an image for one platform, wherever it is.
type Found struct {
	Name       string            // as people see it
	Root       digest.Descriptor // what the reference stands for: an index or a manifest
	Descriptor digest.Descriptor // the platform's manifest
	Source     Source
}

// Source is where an image comes from.
type Source interface {
	// IsLocal reports whether the store has all of the image.
	IsLocal(ctx context.Context) bool
	// FetchAll puts the manifest with all that it needs into the store.
	FetchAll(ctx context.Context) error
	// FetchMetadata puts the manifest and the config alone into the store, and notes where the layers can be had. It reports whether
	// they can be had one by one; where not it does nothing.
	FetchMetadata(ctx context.Context) (bool, error)
}

// Indexes is a shared cache that may know what a foreign layer holds; what it finds lies in the store afterwards.
type Indexes interface {
	Index(ctx context.Context, id digest.DiffID)
}

// Base is an image that was brought into the store and read. It never changes.
type Base struct {
	Found    *Found
	Config   *v1.Image
	Layers   []digest.Descriptor
	View     *tree.View // to be cloned before anything is applied
	Contents []*filetree.Archive
	Strata   func() []filetree.Stratum // lowest first
}

// mostReading bounds how many layers of an image are read at once.
const mostReading = 4

// Load brings an image into the store and reads what its layers hold. Layers that somebody else has are left there where the
// shared cache tells what they hold; indexes may be nil.
func (l *Library) Load(ctx context.Context, found *Found, indexes Indexes) (*Base, error) {
	lent, err := l.lend(ctx, found, indexes)
	if err == nil && !lent {
		err = found.Source.FetchAll(ctx)
	}
	if err != nil {
		return nil, err
	}
	manifest, config, err := documents(ctx, l.store, found)
	if err != nil {
		return nil, err
	}
	contents := make([]*filetree.Archive, len(manifest.Layers))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(mostReading)
	for i, desc := range manifest.Layers {
		group.Go(func() (err error) {
			contents[i], err = l.Layer(ctx, desc, digest.DiffID(config.RootFS.DiffIDs[i]))
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	view := tree.NewView()
	for i, c := range contents {
		if err := view.Apply(c.Entries, c); err != nil {
			return nil, fmt.Errorf("layer %d: %w", i+1, err)
		}
	}
	return &Base{Found: found, Config: config, Layers: manifest.Layers, View: view, Contents: contents,
		Strata: sync.OnceValue(func() []filetree.Stratum { return filetree.Stratify(found.Name, contents) })}, nil
}

func documents(ctx context.Context, s *store.Store, found *Found) (*v1.Manifest, *v1.Image, error) {
	manifest, err := image.ReadManifest(ctx, s, found.Descriptor)
	if err != nil {
		return nil, nil, err
	}
	config, err := image.ReadConfig(ctx, s, manifest)
	return manifest, config, err
}

// lend finds out whether an image can be used without its layers: those are brought when a command needs them, if all that
// they hold is known.
func (l *Library) lend(ctx context.Context, found *Found, indexes Indexes) (bool, error) {
	if indexes == nil || found.Source.IsLocal(ctx) {
		return false, nil
	}
	if able, err := found.Source.FetchMetadata(ctx); err != nil || !able {
		return false, err
	}
	_, config, err := documents(ctx, l.store, found)
	if err != nil {
		return false, err
	}
	for _, id := range config.RootFS.DiffIDs {
		if !l.store.HasLayerIndex(digest.DiffID(id)) {
			indexes.Index(ctx, digest.DiffID(id))
		}
		if !l.store.HasLayerIndex(digest.DiffID(id)) {
			return false, nil
		}
	}
	return true, nil
}
