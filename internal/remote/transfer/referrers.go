package transfer

import (
	"context"
	"strings"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/registry"
)

// ReferrersOf lists what refers to each of some digests. One to which nothing refers is not among them.
func ReferrersOf(ctx context.Context, r *registry.Repository, subjects []digest.Digest) (map[digest.Digest][]digest.Descriptor, error) {
	found := make([][]digest.Descriptor, len(subjects))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(parallelLooks)
	for i, d := range subjects {
		group.Go(func() (err error) {
			found[i], err = r.Referrers(ctx, d, "")
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	all := map[digest.Digest][]digest.Descriptor{}
	for i, list := range found {
		if len(list) > 0 {
			all[subjects[i]] = list
		}
	}
	return all, nil
}

// KindOf is what a document that refers to an image is, as people may know it.
func KindOf(d digest.Descriptor) string {
	kind := d.ArtifactType
	if kind == "" {
		kind = d.MediaType
	}
	return strings.ToValidUTF8(kind, "?")
}
