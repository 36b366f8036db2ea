package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
)

// foreign is a base that another packer made: absolute and doubled names, missing parents, a deletion, an opaque folder,
// a hard link over layers, a device, a link through which things are reached, a file where a folder was, and layers with
// each compression, under the older media types that the image-spec's compatibility matrix lists.
var foreign = [][]*tar.Header{
	{
		{Name: "/usr/lib/release", Typeflag: tar.TypeReg, Size: 3, Mode: 0o644, Uid: 3},
		{Name: "./usr/lib/release", Typeflag: tar.TypeReg, Size: 4, Mode: 0o600, Uid: 4},
		{Name: "lib", Typeflag: tar.TypeSymlink, Linkname: "usr/lib"},
		{Name: "var/log/old", Typeflag: tar.TypeReg, Size: 5, Mode: 0o644},
		{Name: "var/cache/old", Typeflag: tar.TypeReg, Size: 6, Mode: 0o644},
		{Name: "tmp/", Typeflag: tar.TypeDir, Mode: 0o1777},
	},
	{
		{Name: "var/log/.wh.old", Typeflag: tar.TypeReg},
		{Name: "var/cache/.wh..wh..opq", Typeflag: tar.TypeReg},
		{Name: "var/cache/new", Typeflag: tar.TypeReg, Size: 7, Mode: 0o644},
		{Name: "var/same", Typeflag: tar.TypeLink, Linkname: "usr/lib/release"},
		{Name: "opt/tides", Typeflag: tar.TypeDir, Mode: 0o755},
		{Name: "opt/tides/x", Typeflag: tar.TypeReg, Size: 1},
	},
	{
		{Name: "dev/null", Typeflag: tar.TypeChar, Mode: 0o666, Devmajor: 1, Devminor: 3},
		{Name: "opt/tides", Typeflag: tar.TypeReg, Size: 2, Mode: 0o640, PAXRecords: map[string]string{"SCHILY.xattr.user.tide": "high"}},
		{Name: "var/log/", Typeflag: tar.TypeDir, Mode: 0o700, Uid: 9},
	},
}

// shelved puts the foreign image into the store and gives it as a base.
type shelved struct {
	manifest digest.Descriptor
	layers   []digest.Descriptor
	diffIDs  []digest.Digest
}

func (s *site) shelve(t *testing.T) *shelved {
	out := &shelved{}
	config := v1.Image{Platform: v1.Platform{OS: "linux", Architecture: "amd64"}}
	for i, headers := range foreign {
		var plain, packed bytes.Buffer
		w := tar.NewWriter(&plain)
		for n, h := range headers {
			require.NoError(t, w.WriteHeader(h))
			_, err := w.Write(bytes.Repeat([]byte{byte('a' + n)}, int(h.Size)))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		config.RootFS.DiffIDs = append(config.RootFS.DiffIDs, digest.FromBytes(plain.Bytes()))
		mediaType := image.OldLayer
		switch i {
		case 0:
			z := gzip.NewWriter(&packed)
			_, _ = z.Write(plain.Bytes())
			require.NoError(t, z.Close())
			mediaType = image.OldLayerGzip
		case 1:
			packed = plain
		default:
			z, err := zstd.NewWriter(&packed)
			require.NoError(t, err)
			_, _ = z.Write(plain.Bytes())
			require.NoError(t, z.Close())
			mediaType = v1.MediaTypeImageLayerZstd
		}
		desc, err := s.store.PutBytes(mediaType, packed.Bytes())
		require.NoError(t, err)
		out.layers = append(out.layers, desc)
	}
	out.diffIDs = config.RootFS.DiffIDs
	put := func(mediaType string, document any) digest.Descriptor {
		text, err := image.Encode(document)
		require.NoError(t, err)
		desc, err := s.store.PutBytes(mediaType, text)
		require.NoError(t, err)
		return desc
	}
	out.manifest = put(image.OldManifest, v1.Manifest{
		Config: put(image.OldConfig, config), Layers: out.layers})
	return out
}

// Resolve implements baseimage.Finder.
func (s *shelved) Resolve(_ context.Context, ref reference.Reference, p platform.Platform) (*baseimage.Found, error) {
	if p.Architecture != "amd64" {
		return nil, &image.NoPlatformError{Wanted: p}
	}
	if ref.Tag != "4" {
		return nil, fmt.Errorf("tag %s: %w", ref.Tag, fs.ErrNotExist)
	}
	return &baseimage.Found{Name: ref.String(), Root: s.manifest, Descriptor: s.manifest, Source: inStore{}}, nil
}

// inStore is where images come from that the store has.
type inStore struct{}

func (inStore) IsLocal(context.Context) bool                { return true }
func (inStore) FetchAll(context.Context) error              { return nil }
func (inStore) FetchMetadata(context.Context) (bool, error) { return false, nil }

const onForeign = `imbricat: 1
images:
  gauge:
    base: registry.tideline.example/base/slim:4
    platforms: [linux/amd64]
    steps:
      - take: {from: "registry.tideline.example/base/slim:4", paths: [/lib/release, /var, /opt, /dev], to: /x/}
      - write: {to: /lib/own, text: own}
      - write: {to: /tmp/own, text: own}
`

func TestForeignBase(t *testing.T) {
	s := newSite(t)
	base := s.shelve(t)
	s.bases = base
	r, err := s.build(onForeign)
	require.NoError(t, err)
	require.Equal(t, []string{
		// The later of two entries counts; what was deleted or hidden is not there; a hard link gives its file.
		"x 755 0, x/cache 755 0, x/cache/new 644 0, x/log 700 9, x/null 666 0, x/release 600 4, x/same 600 4, x/tides 640 0",
		"usr 755 0, usr/lib 755 0, usr/lib/own 644 0",
		"tmp 1777 0, tmp/own 644 0",
	}, s.entries(r))
	// A layer's index is read once: the layers themselves are not needed to build on them again.
	for _, l := range base.layers {
		path, err := s.store.BlobPath(l.Digest)
		require.NoError(t, err)
		require.NoError(t, os.Rename(path, path+".away"))
	}
	_, err = s.build(strings.Replace(onForeign, ", /var, /opt, /dev]", "]", 1))
	require.ErrorContains(t, err, "is not in the store", "only what is taken needs the bytes")
	again, err := s.build(strings.Replace(onForeign, "text: own}\n", "text: changed}\n", 1)[:strings.Index(onForeign, "      - take")] + "      - write: {to: /lib/own, text: changed}\n")
	require.NoError(t, err)
	require.Equal(t, []string{"usr 755 0, usr/lib 755 0, usr/lib/own 644 0"}, s.entries(again))
	for _, l := range base.layers {
		path, err := s.store.BlobPath(l.Digest)
		require.NoError(t, err)
		require.NoError(t, os.Rename(path+".away", path))
	}
	manifest, err := image.ReadManifest(context.Background(), s.store, r.Images[0].Platforms[0].Descriptor)
	require.NoError(t, err)
	require.Equal(t, v1.MediaTypeImageManifest, manifest.MediaType)
	for i, l := range manifest.Layers[:3] {
		require.Equal(t, base.layers[i].Digest, l.Digest, "the base's layers stay as they are")
		require.Equal(t, []string{v1.MediaTypeImageLayerGzip, v1.MediaTypeImageLayer, v1.MediaTypeImageLayerZstd}[i], l.MediaType, "in the standard's words")
	}

	// An index that came from elsewhere is compared with the layer before anything is taken from that.
	other := newSite(t)
	shelf := other.shelve(t)
	other.bases = shelf
	_, err = other.build("imbricat: 1\nimages: {gauge: {base: 'registry.tideline.example/base/slim:4', platforms: [linux/amd64]}}\n")
	require.NoError(t, err)
	id := digest.DiffID(shelf.diffIDs[0])
	text, found := other.store.LayerIndex(id)
	require.True(t, found)
	lie := strings.Replace(string(text), "file 600 4:0 4", "file 4755 4:0 4", 1)
	require.NotEqual(t, string(text), lie)
	require.NoError(t, other.store.PutLayerIndex(id, []byte(lie)))
	require.NoError(t, other.store.Claimed(string(id), store.Claim{Place: "registry.tideline.example/cache", DiffID: id}))
	lied, err := other.build(onForeign)
	require.NoError(t, err, "it is read again, and told")
	require.Equal(t, r.Images[0].Descriptor, lied.Images[0].Descriptor)
	require.NotEmpty(t, other.warnings(event.SharedCache))

	// What was taken has the bytes of the entry that counts.
	found = false
	for _, e := range s.indexed(r.Steps[0].Layer).Entries {
		switch e.Path {
		case "x/null":
			require.Equal(t, []any{tree.CharDevice, int64(1), int64(3)}, []any{e.Kind, e.Major, e.Minor})
		case "x/tides":
			require.Equal(t, map[string]string{"user.tide": "high"}, e.Xattrs)
		case "x/same":
			require.Equal(t, []any{tree.Hardlink, "x/release"}, []any{e.Kind, e.Target}, "what was one file stays one")
		case "x/release":
			found = true
			require.Equal(t, digest.ContentBytes([]byte("bbbb")), e.Content)
		}
	}
	require.True(t, found)
}

func TestForeignBaseProblems(t *testing.T) {
	s := newSite(t)
	s.bases = s.shelve(t)
	_, err := s.build("imbricat: 1\nimages:\n  a: {base: \"h.example/b:4\", platforms: [linux/arm64]}\n  b: {base: \"h.example/b:5\", platforms: [linux/amd64], steps: [{copy: {from: nosuch, to: /x}}]}\n")
	require.ErrorContains(t, err, "r.yaml:3:13: the base h.example/b:4: it has no image for linux/arm64")
	require.ErrorContains(t, err, "r.yaml:4:13: the base h.example/b:5: tag 5: file does not exist")
	require.ErrorContains(t, err, `r.yaml:4:78: "nosuch" does not exist`)

	// A base whose layer is not what its digest says, and one whose config tells of other content.
	for name, damage := range map[string]func(s *site, base *shelved){
		"the bytes have another digest": func(s *site, base *shelved) {
			path, err := s.store.BlobPath(base.layers[1].Digest)
			require.NoError(t, err)
			content, err := os.ReadFile(path)
			require.NoError(t, err)
			content[1536] ^= 1 // in a file's contents
			require.NoError(t, os.WriteFile(path, content, 0o644))
		},
		"and its image says": func(s *site, base *shelved) {
			manifest, err := image.ReadManifest(context.Background(), s.store, base.manifest)
			require.NoError(t, err)
			config, err := image.ReadConfig(context.Background(), s.store, manifest)
			require.NoError(t, err)
			config.RootFS.DiffIDs[2] = digest.FromBytes(nil)
			text, err := image.Encode(config)
			require.NoError(t, err)
			manifest.Config, err = s.store.PutBytes(v1.MediaTypeImageConfig, text)
			require.NoError(t, err)
			text, err = image.Encode(manifest)
			require.NoError(t, err)
			base.manifest, err = s.store.PutBytes(v1.MediaTypeImageManifest, text)
			require.NoError(t, err)
		},
	} {
		s := newSite(t)
		base := s.shelve(t)
		damage(s, base)
		s.bases = base
		_, err := s.build(onForeign)
		require.ErrorIs(t, err, digest.ErrMismatch)
		require.ErrorContains(t, err, name)
		list, err := s.store.List()
		require.NoError(t, err)
		require.Empty(t, list)
	}
}
