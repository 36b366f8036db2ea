package published

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"

	"github.com/klauspost/compress/zstd"
	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/layering"
	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/transfer"
)

// Beside an image whose division is kept or followed the indexes of its own layers are published, as an artifact that
// refers to it: later divisions learn from these what changed, without the layers.
const (
	indexesType = "application/vnd.imbricat.layer-indexes.v1"
	indexType   = "application/vnd.imbricat.layer-index.v1+zstd"
	diffKey     = "dev.imbricat.diff-id"
	// mostIndex bounds a layer's index, in bytes.
	mostIndex = 256 << 20
	// mostUnindexed is up to how many bytes a layer is fetched whose index is not published.
	mostUnindexed = 64 << 20
)

// Trees returns what layers from some place upwards hold, without those that skip names. Indexes come from the store, from
// beside the image, or, of layers that are not large, from the layers themselves.
func (e *Edition) Trees(ctx context.Context, st *store.Store, from int, skip []digest.DiffID) ([][]tree.Entry, error) {
	var all [][]tree.Entry
	var published map[digest.DiffID]digest.Descriptor
	for i := from; i < len(e.Manifest.Layers); i++ {
		id := digest.DiffID(e.Config.RootFS.DiffIDs[i])
		if slices.Contains(skip, id) {
			continue
		}
		if known := knownIndex(st, id); known != nil {
			all = append(all, known.Entries)
			continue
		}
		if published == nil {
			published = e.indexes(ctx)
		}
		indexed, verified, err := e.index(ctx, published[id], e.Manifest.Layers[i], id)
		if err != nil {
			return nil, err
		}
		// What others say of a layer decides how files are divided, and nothing else: it is kept apart from what layers are
		// known to hold.
		if verified {
			err = st.PutLayerIndex(id, indexed.Encode())
		} else {
			err = st.PutNote(saidKey(id), indexed.Encode())
		}
		if err != nil {
			return nil, err
		}
		all = append(all, indexed.Entries)
	}
	return all, nil
}

// saidKey is where the store notes what others say that a layer holds.
func saidKey(id digest.DiffID) digest.Key {
	return digest.Key(digest.ContentBytes([]byte("published index of " + string(id))))
}

// knownIndex returns the index of a layer from the store, whether the layer was read here or others said what it holds; nil
// where neither is so.
func knownIndex(st *store.Store, id digest.DiffID) *layer.Indexed {
	text, found := st.LayerIndex(id)
	if !found {
		text, found = st.Note(saidKey(id))
	}
	known, err := layer.DecodeIndex(text)
	if !found || err != nil || known.DiffID != id {
		return nil
	}
	return known
}

// indexes lists the published indexes of an image's layers. A registry that does not tell has none.
func (e *Edition) indexes(ctx context.Context) map[digest.DiffID]digest.Descriptor {
	all := map[digest.DiffID]digest.Descriptor{}
	from, can := e.place.(interface {
		Referrers(ctx context.Context, subject digest.Digest) ([]digest.Descriptor, error)
	})
	if !can {
		return all
	}
	list, err := from.Referrers(ctx, e.Descriptor.Digest)
	if err != nil {
		return all
	}
	for _, desc := range list {
		if desc.ArtifactType != indexesType {
			continue
		}
		m, err := image.ReadManifest(ctx, e.place, desc)
		if err != nil {
			continue
		}
		for _, l := range m.Layers {
			all[digest.DiffID(l.Annotations[diffKey])] = l
		}
	}
	return all
}

// index reads the index of one layer; verified tells that it comes from the layer itself.
func (e *Edition) index(ctx context.Context, published, desc digest.Descriptor, id digest.DiffID) (indexed *layer.Indexed, verified bool, err error) {
	if published.Digest != "" && published.Size <= mostIndex {
		if indexed, err := e.readIndex(ctx, published); err == nil && indexed.DiffID == id {
			return indexed, false, nil
		}
	}
	if desc.Size > mostUnindexed {
		return nil, false, fmt.Errorf("the index of the layer %s is not published beside it, and the layer has %d bytes", desc.Digest, desc.Size)
	}
	blob, err := e.place.Fetch(ctx, desc)
	if err != nil {
		return nil, false, err
	}
	defer blob.Close()
	indexed, err = layer.Index(digest.WithContext(ctx, blob))
	if err != nil {
		return nil, false, fmt.Errorf("the layer %s: %w", desc.Digest, err)
	}
	if _, err := io.Copy(io.Discard, blob); err != nil {
		return nil, false, err
	}
	if indexed.DiffID != id {
		return nil, false, fmt.Errorf("the layer %s unpacks to %s, and its image says %s: %w", desc.Digest, indexed.DiffID, id, digest.ErrMismatch)
	}
	return indexed, true, nil
}

func (e *Edition) readIndex(ctx context.Context, desc digest.Descriptor) (*layer.Indexed, error) {
	blob, err := e.place.Fetch(ctx, desc)
	if err != nil {
		return nil, err
	}
	defer blob.Close()
	packed, err := io.ReadAll(blob)
	if err != nil {
		return nil, err
	}
	z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostIndex))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	text, err := z.DecodeAll(packed, nil)
	if err != nil {
		return nil, err
	}
	return layer.DecodeIndex(text)
}

// PutIndexes puts the indexes of an image's own layers beside it, for every platform whose division is kept or followed.
func PutIndexes(ctx context.Context, st *store.Store, to transfer.Place, root digest.Descriptor) error {
	offers, err := image.Offers(ctx, st, root)
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	put := func(desc digest.Descriptor, body []byte) error {
		return to.Put(ctx, desc, func(from int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body[from:])), nil })
	}
	for _, offer := range offers {
		m, err := image.ReadManifest(ctx, st, offer.Descriptor)
		if err != nil {
			return err
		}
		if m.Annotations[layering.BelowKey] == "" {
			continue
		}
		config, err := image.ReadConfig(ctx, st, m)
		if err != nil {
			return err
		}
		if err := put(v1.DescriptorEmptyJSON, v1.DescriptorEmptyJSON.Data); err != nil {
			return err
		}
		subject := digest.Descriptor{MediaType: offer.Descriptor.MediaType, Digest: offer.Descriptor.Digest, Size: offer.Descriptor.Size}
		artifact := v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest, ArtifactType: indexesType,
			Config: v1.DescriptorEmptyJSON, Layers: []digest.Descriptor{}, Subject: &subject}
		artifact.Config.Data = nil
		for _, id := range config.RootFS.DiffIDs[below(m):] {
			known := knownIndex(st, digest.DiffID(id))
			if known == nil {
				continue // later ones read the layer itself
			}
			body := z.EncodeAll(known.Encode(), nil)
			desc := digest.Descriptor{MediaType: indexType, Digest: digest.FromBytes(body), Size: int64(len(body)), Annotations: map[string]string{diffKey: string(id)}}
			if err := put(desc, body); err != nil {
				return err
			}
			artifact.Layers = append(artifact.Layers, desc)
		}
		text, err := image.Encode(artifact)
		if err != nil || len(artifact.Layers) == 0 {
			return err
		}
		if err := put(digest.Descriptor{MediaType: v1.MediaTypeImageManifest, Digest: digest.FromBytes(text), Size: int64(len(text))}, text); err != nil {
			return err
		}
	}
	return nil
}
