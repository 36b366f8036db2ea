// Package copying brings images from elsewhere into the store, where only what is whole gets a name.
package copying

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/transfer"
)

// IntoStore copies an image into the store, and names it when its layers are what its configs say.
func IntoStore(ctx context.Context, st *store.Store, source, destination transfer.Place, o transfer.Options) (*transfer.Result, error) {
	// Layers are read while others are on their way. What is wrong with them is told when it is known what they are to be.
	var reading sync.WaitGroup
	turn := make(chan struct{}, runtime.GOMAXPROCS(0))
	o.Arrived = func(desc digest.Descriptor) {
		if !image.IsLayer(desc.MediaType) {
			return
		}
		reading.Go(func() {
			turn <- struct{}{}
			defer func() { <-turn }()
			_, _ = st.DiffIDOf(ctx, desc)
		})
	}
	t, err := transfer.Begin(ctx, source, destination, o)
	if err != nil {
		return nil, err
	}
	err = t.Content(ctx)
	reading.Wait()
	if err != nil {
		return nil, err
	}
	sofar := t.Sofar()
	if err := verifyLayers(ctx, st, sofar.Descriptor); err != nil {
		return nil, err
	}
	return t.Name(ctx)
}

// verifyLayers makes sure that every layer of an image unpacks to what the config of its platform says.
func verifyLayers(ctx context.Context, st *store.Store, root digest.Descriptor) error {
	offers, err := image.Offers(ctx, st, root)
	if errors.Is(err, image.ErrArtifact) {
		return nil // it has no layers to unpack
	}
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, offer := range offers {
		manifest, err := image.ReadManifest(ctx, st, offer.Descriptor)
		if err != nil {
			return err
		}
		if !image.IsConfig(manifest.Config.MediaType) {
			continue
		}
		config, err := image.ReadConfig(ctx, st, manifest)
		if err != nil {
			return fmt.Errorf("%s: %w", offer.Descriptor.Digest, err)
		}
		for i, desc := range manifest.Layers {
			if !image.IsLayer(desc.MediaType) || !st.Has(desc) {
				continue // something that travels in the form of an image, or a layer that no registry may have
			}
			group.Go(func() error { return st.VerifyLayer(ctx, desc, digest.DiffID(config.RootFS.DiffIDs[i])) })
		}
	}
	return group.Wait()
}
