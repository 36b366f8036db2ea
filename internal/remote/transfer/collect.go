package transfer

import (
	"context"
	"fmt"
	"slices"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/digest"
)

// collect lists what a document needs that the destination lacks.
func (c *copier) collect(ctx context.Context, desc digest.Descriptor, depth int) error {
	if depth > 4 {
		return fmt.Errorf("%s: %w: indexes are nested too deep", desc.Digest, image.ErrMalformed)
	}
	if c.seen[desc.Digest] {
		return nil
	}
	c.seen[desc.Digest] = true
	there := false
	if depth == 0 && c.standsSomewhere() {
		there = true
	} else if c.to.Whole() {
		known := false
		if there, known = c.ahead.has(desc); !known {
			var err error
			if there, err = c.to.Has(ctx, desc); err != nil {
				return err
			}
		}
	}
	var err error
	if there {
		err = c.countBelow(ctx, desc)
	} else {
		err = c.collectBelow(ctx, desc, depth)
	}
	if err != nil || !c.o.Referrers {
		return err
	}
	return c.collectReferrers(ctx, desc, depth)
}

// standsSomewhere reports whether one of the names stands on the image already, so that it is there.
func (c *copier) standsSomewhere() bool {
	for _, stands := range c.stood {
		if stands == c.result.Descriptor.Digest {
			return true
		}
	}
	return false
}

func (c *copier) collectBelow(ctx context.Context, desc digest.Descriptor, depth int) error {
	needs, err := c.needs(ctx, desc)
	if err != nil {
		return err
	}
	for i, need := range needs {
		if i%mostBehind == 0 && len(needs) > 1 {
			next := slices.Clone(needs[i:min(len(needs), i+mostBehind)])
			c.readDocuments(ctx, slices.DeleteFunc(next, func(d digest.Descriptor) bool { return c.seen[d.Digest] }))
		}
		if document(need) {
			if err := c.collect(ctx, need, depth+1); err != nil {
				return err
			}
			continue
		}
		if !c.seen[need.Digest] {
			c.seen[need.Digest] = true
			c.blobs = append(c.blobs, need)
		}
	}
	c.documents = append(c.documents, desc)
	return nil
}

// collectReferrers lists what refers to a document. It goes after its subject.
func (c *copier) collectReferrers(ctx context.Context, desc digest.Descriptor, depth int) error {
	from, knows := c.from.(referring)
	if !knows {
		return nil
	}
	list, err := from.Referrers(ctx, desc.Digest)
	if err != nil {
		return err
	}
	for _, one := range list {
		if err := c.collect(ctx, one, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func (c *copier) needs(ctx context.Context, desc digest.Descriptor) ([]digest.Descriptor, error) {
	switch {
	case image.IsIndex(desc.MediaType):
		index, err := image.ReadIndex(ctx, c, desc)
		if err != nil {
			return nil, err
		}
		return index.Manifests, nil
	case image.IsManifest(desc.MediaType):
		manifest, err := image.ReadManifest(ctx, c, desc)
		if err != nil {
			return nil, err
		}
		list := []digest.Descriptor{}
		for _, layer := range manifest.Layers {
			if !image.Undistributed(layer.MediaType) { // registries do not have those
				list = append(list, layer)
			}
		}
		return append(list, manifest.Config), nil
	}
	return nil, fmt.Errorf("%s: %w: the media type %q is unknown", desc.Digest, image.ErrMalformed, desc.MediaType)
}

// countBelow counts what lies below a document that the destination has whole.
func (c *copier) countBelow(ctx context.Context, desc digest.Descriptor) error {
	needs, err := c.needs(ctx, desc)
	if err != nil {
		return err
	}
	for _, need := range needs {
		if document(need) && c.o.Referrers {
			if err := c.collect(ctx, need, 1); err != nil {
				return err
			}
			continue
		}
		if c.seen[need.Digest] {
			continue
		}
		c.seen[need.Digest] = true
		if document(need) {
			if err := c.countBelow(ctx, need); err != nil {
				return err
			}
			continue
		}
		c.result.Skipped++
		c.result.SkippedBytes += need.Size
	}
	return nil
}
