package published_test

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/content/tree"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/published"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/transfer"
)

// TestNewestTags: of many tags those of the highest versions are looked at, the highest last, however many others there are.
func TestNewestTags(t *testing.T) {
	r := flowtest.NewRegistry(t)
	ref, err := reference.ParseRepository(r.Host + "/tides/gauge")
	require.NoError(t, err)
	tags, err := published.NewestTags(t.Context(), r.Client, ref, 3)
	require.NoError(t, err)
	require.Empty(t, tags, "there is no repository")
	body, err := image.Encode(v1.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageIndex, Manifests: []digest.Descriptor{}})
	require.NoError(t, err)
	for _, tag := range []string{"1.9.0", "1.10.0", "1.10.0-rc.1", "newest", "1", "1.10", "branch-a", "0.9.0", "sha256-" + strings.Repeat("0", 64)} {
		require.NoError(t, r.Client.Repository(ref.Host, ref.Repository).PutManifest(t.Context(), tag, v1.MediaTypeImageIndex, body))
	}
	tags, err = published.NewestTags(t.Context(), r.Client, ref, 100)
	require.NoError(t, err)
	require.Equal(t, []string{"newest", "branch-a", "0.9.0", "1", "1.9.0", "1.10.0-rc.1", "1.10", "1.10.0"}, tags)
	tags, err = published.NewestTags(t.Context(), r.Client, ref, 3)
	require.NoError(t, err)
	require.Equal(t, []string{"1.10.0-rc.1", "1.10", "1.10.0"}, tags)
}

// TestTrees: what an image's layers hold comes from the published indexes, or from the layers themselves, and an index that lies decides
// about nothing but the division.
func TestTrees(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	p.Write(t, "imbricat.yaml", "imbricat: 1\nimages: {gauge: {base: none, platforms: [linux/amd64], stack: {policy: follow}, steps: [{copy: {from: tides, to: /}}], publish: {main: {to: $REGISTRY/tides/gauge, tags: ['1.0.0']}}}}\n")
	p.Write(t, "tides/still", "it never changes")
	w := p.Workspace(t, nil)
	desc, err := flowtest.Build(t, w)("gauge")
	require.NoError(t, err)
	to := w.Plan.Destinations("gauge")[0].Repository
	to.Tag = "1.0.0"
	place, err := w.Places.Destination(to)
	require.NoError(t, err)
	from, err := w.Places.Source(reference.Reference{Kind: reference.Store, Digest: desc.Digest})
	require.NoError(t, err)
	_, err = transfer.Copy(t.Context(), from, place, transfer.Options{Root: desc, Names: []string{"1.0.0"}, Sink: event.Discard})
	require.NoError(t, err)
	amd64 := w.Plan.Images[0].Units[0].ID.Platform

	// trees reads them on a machine that knows nothing, and counts the layers that it read.
	trees := func(places *transfer.Places) ([][]tree.Entry, *published.Edition, error) {
		e, err := published.Find(t.Context(), places, to, amd64)
		require.NoError(t, err)
		all, err := e.Trees(t.Context(), places.Store, e.Below(), nil)
		return all, e, err
	}
	elsewhere := func() *transfer.Places {
		return &transfer.Places{Store: flowtest.NewProject(t, r).Store, Client: r.Client}
	}
	first := elsewhere()
	all, e, err := trees(first)
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Equal(t, []string{"copy tides to /"}, e.CreatedBy())
	id := digest.DiffID(e.Config.RootFS.DiffIDs[0])
	_, read := first.Store.LayerIndex(id)
	require.True(t, read, "it was read from the layer itself")
	none, err := e.Trees(t.Context(), first.Store, 0, []digest.DiffID{id})
	require.NoError(t, err)
	require.Empty(t, none)

	require.NoError(t, published.PutIndexes(t.Context(), w.Store, place, desc))
	second := elsewhere()
	told, _, err := trees(second)
	require.NoError(t, err)
	require.Equal(t, all, told)
	_, read = second.Store.LayerIndex(id)
	require.False(t, read, "what others say is not what the layer is known to hold")
	again, _, err := trees(&transfer.Places{Store: second.Store, Client: r.Client})
	require.NoError(t, err)
	require.Equal(t, all, again, "and is noted")

	// A layer that is not what its image says is refused, wherever nothing else tells what it holds.
	lie, err := published.Find(t.Context(), elsewhere(), lying(t, r, e), amd64)
	require.NoError(t, err)
	_, err = lie.Trees(t.Context(), elsewhere().Store, 0, nil)
	require.ErrorIs(t, err, digest.ErrMismatch)
	_, err = published.Find(t.Context(), elsewhere(), to, platform.Platform{OS: "linux", Architecture: "s390x"})
	var missing *image.NoPlatformError
	require.ErrorAs(t, err, &missing)
}

// lying publishes an image whose config names another content for its layer.
func lying(t *testing.T, r *flowtest.Registry, e *published.Edition) reference.Reference {
	repository := r.Client.Repository(r.Host, "tides/gauge")
	config := *e.Config
	config.RootFS.DiffIDs = append(config.RootFS.DiffIDs[:0:0], digest.FromBytes([]byte("something else")))
	put := func(mediaType string, document any) digest.Descriptor {
		text, err := image.Encode(document)
		require.NoError(t, err)
		return digest.Descriptor{MediaType: mediaType, Digest: digest.FromBytes(text), Size: int64(len(text)), Data: text}
	}
	desc := put(v1.MediaTypeImageConfig, config)
	require.NoError(t, repository.PutBlob(t.Context(), desc, func(at int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(desc.Data[at:])), nil }))
	manifest := *e.Manifest
	manifest.Config = digest.Descriptor{MediaType: desc.MediaType, Digest: desc.Digest, Size: desc.Size}
	text := put(v1.MediaTypeImageManifest, manifest)
	require.NoError(t, repository.PutManifest(t.Context(), "wrong", v1.MediaTypeImageManifest, text.Data))
	ref, err := reference.Parse(fmt.Sprintf("%s/tides/gauge:wrong", r.Host))
	require.NoError(t, err)
	return ref
}
