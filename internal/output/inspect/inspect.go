// Package inspect describes images as data: platforms, layers with what made them, sizes and settings.
//
// It reads through an interface and changes nothing.
package inspect

import (
	"context"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/digest"
)

// Image is an image or an index over several.
type Image struct {
	Reference   string            `json:"reference"`
	Digest      digest.Digest     `json:"digest"`
	MediaType   string            `json:"mediaType"`
	Index       bool              `json:"index"`
	Annotations map[string]string `json:"annotations,omitempty"`
	Packed      int64             `json:"packed"` // bytes of the layers of all platforms as they are stored, each layer once
	Platforms   []Platform        `json:"platforms"`
	Referrers   []Referrer        `json:"referrers,omitempty"` // what is attached to it at its registry
}

// Referrer is a document that is attached to an image: a signature, a bill of materials, a proof.
type Referrer struct {
	Type    string        `json:"type"` // of artifact, or the media type where it says none
	Digest  digest.Digest `json:"digest"`
	Size    int64         `json:"size"`              // of the document itself
	Of      string        `json:"of,omitempty"`      // the platform that it is attached to; empty: the index, or the one image
	Created string        `json:"created,omitempty"` // as it says
}

// Platform is an image for one platform. Sizes are in bytes; an unpacked size that is not known is -1.
type Platform struct {
	Platform    string            `json:"platform"`
	Digest      digest.Digest     `json:"digest"`
	Created     *time.Time        `json:"created,omitempty"`
	Author      string            `json:"author,omitempty"`
	Packed      int64             `json:"packed"`
	Unpacked    int64             `json:"unpacked"`
	Layers      []Layer           `json:"layers"`
	Settings    v1.ImageConfig    `json:"settings"`
	Annotations map[string]string `json:"annotations,omitempty"`
}

// Layer is one layer, with the line of history that tells what made it.
type Layer struct {
	Digest    digest.Digest `json:"digest"`
	DiffID    digest.DiffID `json:"diffID"`
	MediaType string        `json:"mediaType"`
	Packed    int64         `json:"packed"`
	Unpacked  int64         `json:"unpacked"`
	CreatedBy string        `json:"createdBy,omitempty"`
	// Annotations are those of the manifest's entry.
	Annotations map[string]string `json:"annotations,omitempty"`
}

// Sizer gives a layer's unpacked size in bytes where it is known.
type Sizer func(desc digest.Descriptor, id digest.DiffID) (int64, bool)

// Describe reads an image's documents. Layers are not fetched; size may be nil.
func Describe(ctx context.Context, f image.Fetcher, reference string, root digest.Descriptor, size Sizer) (*Image, error) {
	out := &Image{Reference: reference, Digest: root.Digest, MediaType: root.MediaType, Index: image.IsIndex(root.MediaType)}
	if out.Index {
		index, err := image.ReadIndex(ctx, f, root)
		if err != nil {
			return nil, err
		}
		out.Annotations = index.Annotations
	}
	offers, err := image.Offers(ctx, f, root)
	if err != nil {
		return nil, err
	}
	for _, offer := range offers {
		if offer.Platform.Unknown() {
			continue
		}
		p, err := describePlatform(ctx, f, offer, size)
		if err != nil {
			return nil, err
		}
		out.Platforms = append(out.Platforms, *p)
	}
	counted := map[digest.Digest]bool{}
	for _, p := range out.Platforms {
		for _, l := range p.Layers {
			if !counted[l.Digest] {
				counted[l.Digest] = true
				out.Packed += l.Packed
			}
		}
	}
	return out, nil
}

func describePlatform(ctx context.Context, f image.Fetcher, offer image.Offer, size Sizer) (*Platform, error) {
	manifest, err := image.ReadManifest(ctx, f, offer.Descriptor)
	if err != nil {
		return nil, err
	}
	config, err := image.ReadConfig(ctx, f, manifest)
	if err != nil {
		return nil, err
	}
	p := &Platform{Platform: offer.Platform.String(), Digest: offer.Descriptor.Digest, Created: config.Created, Author: config.Author,
		Settings: config.Config, Annotations: manifest.Annotations, Layers: []Layer{}}
	lines := MadeBy(config, len(manifest.Layers))
	for i, desc := range manifest.Layers {
		l := Layer{Digest: desc.Digest, DiffID: digest.DiffID(config.RootFS.DiffIDs[i]), MediaType: desc.MediaType,
			Packed: desc.Size, Unpacked: -1, CreatedBy: lines[i], Annotations: desc.Annotations}
		p.Packed += l.Packed
		if size != nil {
			if n, known := size(desc, l.DiffID); known {
				l.Unpacked = n
			}
		}
		if l.Unpacked < 0 || p.Unpacked < 0 {
			p.Unpacked = -1
		} else {
			p.Unpacked += l.Unpacked
		}
		p.Layers = append(p.Layers, l)
	}
	return p, nil
}

// MadeBy returns the history line of each layer, where the history fits the layers.
func MadeBy(config *v1.Image, layers int) []string {
	lines := make([]string, 0, layers)
	for _, h := range config.History {
		if !h.EmptyLayer {
			lines = append(lines, h.CreatedBy)
		}
	}
	if len(lines) != layers {
		return make([]string, layers)
	}
	return lines
}
