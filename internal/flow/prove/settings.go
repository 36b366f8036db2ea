package prove

import (
	"context"
	"slices"

	"imbricat/internal/content/differ"
	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/ground/digest"
)

// settings lists the settings in which two makings of an image differ, over its platforms.
func (r *round) settings(ctx context.Context, was, now engine.ImageResult) (all []differ.Value, err error) {
	for _, one := range was.Platforms {
		at := slices.IndexFunc(now.Platforms, func(p engine.PlatformResult) bool { return p.Platform == one.Platform })
		if at < 0 || now.Platforms[at].Descriptor.Digest == one.Descriptor.Digest {
			continue
		}
		first, err := documents(ctx, r.Work.Store, one.Descriptor)
		if err != nil {
			return nil, err
		}
		second, err := documents(ctx, r.where.Store, now.Platforms[at].Descriptor)
		if err != nil {
			return nil, err
		}
		for _, v := range differ.Settings(first, second) {
			if !slices.ContainsFunc(all, func(o differ.Value) bool { return o.Name == v.Name }) {
				all = append(all, v)
			}
		}
	}
	return all, nil
}

// documents reads what an image says of itself.
func documents(ctx context.Context, from *store.Store, desc digest.Descriptor) (*differ.Image, error) {
	manifest, err := image.ReadManifest(ctx, from, desc)
	if err != nil {
		return nil, err
	}
	config, err := image.ReadConfig(ctx, from, manifest)
	if err != nil {
		return nil, err
	}
	return &differ.Image{Config: config, Annotations: manifest.Annotations}, nil
}
