package copying_test

import (
	"bytes"
	"io"
	"testing"

	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/flow/copying"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/transfer"
)

// TestIntoStore: an image gets its name in the store only when its layers are what its config says.
func TestIntoStore(t *testing.T) {
	r := flowtest.NewRegistry(t)
	repository := r.Client.Repository(r.Host, "tides/gauge")
	blob := func(mediaType string, text []byte) digest.Descriptor {
		desc := digest.Descriptor{MediaType: mediaType, Digest: digest.FromBytes(text), Size: int64(len(text))}
		require.NoError(t, repository.PutBlob(t.Context(), desc, func(at int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text[at:])), nil }))
		return desc
	}
	encode := func(document any) []byte {
		text, err := image.Encode(document)
		require.NoError(t, err)
		return text
	}
	empty := make([]byte, 1024) // an archive that holds nothing
	for tag, id := range map[string]digest.Digest{"true": digest.FromBytes(empty), "untrue": digest.FromBytes([]byte("something else"))} {
		config := v1.Image{Platform: v1.Platform{OS: "linux", Architecture: "amd64"}, RootFS: v1.RootFS{Type: "layers", DiffIDs: []digest.Digest{id}}}
		manifest := encode(v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest, Config: blob(v1.MediaTypeImageConfig, encode(config)), Layers: []digest.Descriptor{blob(v1.MediaTypeImageLayer, empty)}})
		require.NoError(t, repository.PutManifest(t.Context(), tag, v1.MediaTypeImageManifest, manifest))
		p := flowtest.NewProject(t, r)
		places := &transfer.Places{Store: p.Store, Client: r.Client}
		from, err := places.Source(reference.Reference{Kind: reference.Registry, Host: r.Host, Repository: "tides/gauge", Tag: tag})
		require.NoError(t, err)
		root, err := from.Root(t.Context())
		require.NoError(t, err)
		to, err := places.Destination(reference.Reference{Kind: reference.Store, Name: "gauge"})
		require.NoError(t, err)
		_, err = copying.IntoStore(t.Context(), p.Store, from, to, transfer.Options{Root: root, Names: []string{"gauge"}, Sink: event.Discard})
		_, named := p.Store.Lookup("gauge")
		if tag == "untrue" {
			require.ErrorIs(t, err, digest.ErrMismatch)
			require.Error(t, named)
			continue
		}
		require.NoError(t, err)
		require.NoError(t, named)
	}
}
