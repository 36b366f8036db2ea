// Package image makes and reads the documents of images: configs, manifests and indexes.
//
// It is given layers and settings and gives bytes; it fetches through an interface and stores nothing.
package image

import (
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	specs "github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
)

// Layer is a layer with the line of history that tells what made it.
type Layer struct {
	Descriptor digest.Descriptor
	DiffID     digest.DiffID
	CreatedBy  string
	Says       map[string]string // annotations of the manifest's entry
}

// Base is what an image starts from. Its config holds the history and the settings that are inherited.
type Base struct {
	Config v1.Image
	Layers []digest.Descriptor
}

// Assembly is all that an image for one platform is made of.
type Assembly struct {
	Platform    platform.Platform
	Base        *Base // nil: nothing
	Layers      []Layer
	Settings    Settings
	Annotations map[string]string
	Created     time.Time
}

// Config returns the image's config. It has one line of history for each layer.
func (a *Assembly) Config() v1.Image {
	config := v1.Image{Created: &a.Created, Author: a.Settings.Author, Platform: a.Platform.OCI()}
	config.RootFS = v1.RootFS{Type: "layers", DiffIDs: []digest.Digest{}}
	var inherited v1.ImageConfig
	if a.Base != nil {
		inherited = a.Base.Config.Config
		config.RootFS.DiffIDs = append(config.RootFS.DiffIDs, a.Base.Config.RootFS.DiffIDs...)
		config.History = append(config.History, baseHistory(a.Base)...)
		if config.OSVersion = a.Base.Config.OSVersion; config.Variant == "" {
			config.Variant = a.Base.Config.Variant
		}
	}
	config.Config = Inherit(inherited, a.Settings)
	for _, l := range a.Layers {
		config.RootFS.DiffIDs = append(config.RootFS.DiffIDs, l.DiffID.Digest())
		config.History = append(config.History, v1.History{Created: &a.Created, CreatedBy: l.CreatedBy})
	}
	return config
}

// baseHistory is the base's own where it fits its layers, else a plain line for each layer.
func baseHistory(b *Base) []v1.History {
	lines := 0
	for _, h := range b.Config.History {
		if !h.EmptyLayer {
			lines++
		}
	}
	if lines == len(b.Layers) {
		return b.Config.History
	}
	history := make([]v1.History, len(b.Layers))
	for i := range history {
		history[i].CreatedBy = "layer of the base"
	}
	return history
}

// Manifest returns the image's manifest over a config that was stored.
func (a *Assembly) Manifest(config digest.Descriptor) v1.Manifest {
	layers := []digest.Descriptor{}
	if a.Base != nil {
		for _, l := range a.Base.Layers {
			layers = append(layers, digest.Descriptor{MediaType: l.MediaType, Digest: l.Digest, Size: l.Size})
		}
	}
	for _, l := range a.Layers {
		own := l.Descriptor
		if len(l.Says) > 0 {
			own.Annotations = l.Says
		}
		layers = append(layers, own)
	}
	return v1.Manifest{
		Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest,
		Config: config, Layers: layers, Annotations: a.Annotations,
	}
}

// Index returns the index over the images of several platforms, in the order given.
func Index(offers []Offer, annotations map[string]string) v1.Index {
	index := v1.Index{
		Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageIndex,
		Manifests: []digest.Descriptor{}, Annotations: annotations,
	}
	for _, o := range offers {
		p := o.Platform.OCI()
		index.Manifests = append(index.Manifests, digest.Descriptor{
			MediaType: o.Descriptor.MediaType, Digest: o.Descriptor.Digest, Size: o.Descriptor.Size, Platform: &p,
		})
	}
	return index
}

// Narrow returns an index over some of the images of another one, given as its bytes. The entries of those images and whatever
// else the index says are kept as they are, fields that nobody here knows included. Offers from indexes within are added as
// entries of their own.
func Narrow(index []byte, chosen []Offer) ([]byte, error) {
	var fields map[string]json.RawMessage
	var entries []json.RawMessage
	if err := json.Unmarshal(index, &fields); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	if err := json.Unmarshal(fields["manifests"], &entries); err != nil {
		return nil, fmt.Errorf("%w: its manifests: %w", ErrMalformed, err)
	}
	by := map[digest.Digest]json.RawMessage{}
	for _, entry := range entries {
		var desc digest.Descriptor
		if json.Unmarshal(entry, &desc) == nil {
			by[desc.Digest] = entry
		}
	}
	kept := []json.RawMessage{}
	for i, offer := range chosen {
		entry, is := by[offer.Descriptor.Digest]
		if !is {
			var err error
			if entry, err = json.Marshal(Index(chosen[i:i+1], nil).Manifests[0]); err != nil {
				return nil, err
			}
		}
		kept = append(kept, entry)
	}
	text, err := json.Marshal(kept)
	if err != nil {
		return nil, err
	}
	fields["manifests"] = text
	fields["mediaType"] = json.RawMessage(strconv.Quote(v1.MediaTypeImageIndex))
	return Encode(fields)
}

// Encode returns a document's bytes. Maps are sorted, so the same document has the same bytes.
func Encode(document any) ([]byte, error) { return json.Marshal(document) }
