package image

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
)

// shelf is a Fetcher in memory.
type shelf map[digest.Digest][]byte

func (s shelf) put(mediaType string, document any) digest.Descriptor {
	text, err := json.Marshal(document)
	if err != nil {
		panic(err)
	}
	d := digest.FromBytes(text)
	s[d] = text
	return digest.Descriptor{MediaType: mediaType, Digest: d, Size: int64(len(text))}
}

func (s shelf) Fetch(_ context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	text, known := s[desc.Digest]
	if !known {
		return nil, fs.ErrNotExist
	}
	return io.NopCloser(bytes.NewReader(text)), nil
}

func TestInherit(t *testing.T) {
	base := v1.ImageConfig{User: "root", Env: []string{"PATH=/bin", "A=1"}, Entrypoint: []string{"/base"}, Cmd: []string{"-x"},
		WorkingDir: "/", Labels: map[string]string{"a": "1"}, ExposedPorts: map[string]struct{}{"1/tcp": {}}, StopSignal: "SIGINT"}
	got := Inherit(base, Settings{Entrypoint: []string{"/own"}, Env: map[string]string{"A": "2", "Z": "3", "B": "4"},
		Labels: map[string]string{"b": "2"}, Ports: []string{"2/udp"}, Volumes: []string{"/v"}, User: "7"})
	require.Equal(t, v1.ImageConfig{User: "7", Env: []string{"PATH=/bin", "A=2", "B=4", "Z=3"}, Entrypoint: []string{"/own"},
		WorkingDir: "/", Labels: map[string]string{"a": "1", "b": "2"}, StopSignal: "SIGINT",
		ExposedPorts: map[string]struct{}{"1/tcp": {}, "2/udp": {}}, Volumes: map[string]struct{}{"/v": {}}}, got)
	require.Equal(t, []string{"PATH=/bin", "A=1"}, base.Env, "the base itself stays as it is")
	require.Equal(t, []string{"-x"}, Inherit(base, Settings{}).Cmd)
	// What is dropped goes, and nothing of the base with it.
	full := v1.ImageConfig{Env: []string{"A=1", "B=", "C=3"}, Labels: map[string]string{"a": "1", "b": ""},
		ExposedPorts: map[string]struct{}{"80/tcp": {}}, Volumes: map[string]struct{}{"/v": {}}}
	got = Inherit(full, Settings{Env: map[string]string{"A": "", "D": ""}, Labels: map[string]string{"a": "", "c": ""}, NoPorts: true, NoVolumes: true, Volumes: []string{"/own"}})
	require.Equal(t, v1.ImageConfig{Env: []string{"B=", "C=3"}, Labels: map[string]string{"b": ""}, Volumes: map[string]struct{}{"/own": {}}}, got)
	require.Len(t, full.Labels, 2)
	require.Nil(t, Inherit(full, Settings{Labels: map[string]string{"a": "", "b": ""}}).Labels)
	// A platform's own settings drop what the image's say, and both what is below.
	both := Settings{Env: map[string]string{"A": "2"}, Ports: []string{"90/tcp"}, Volumes: []string{"/w"}}.With(Settings{Env: map[string]string{"A": ""}, Ports: []string{"91/tcp"}, NoPorts: true, NoVolumes: true})
	got = Inherit(full, both)
	require.Equal(t, []string{"B=", "C=3"}, got.Env)
	require.Equal(t, map[string]struct{}{"91/tcp": {}}, got.ExposedPorts)
	require.Empty(t, got.Volumes)
	require.Equal(t, []string{"-y"}, Inherit(base, Settings{Command: []string{"-y"}}).Cmd)
	require.Equal(t, []string{"/base"}, Inherit(base, Settings{Command: []string{"-y"}}).Entrypoint)
	require.Empty(t, Inherit(base, Settings{Entrypoint: []string{}}).Entrypoint)
}

func TestAssembly(t *testing.T) {
	when := time.Date(2026, 6, 21, 0, 0, 0, 0, time.UTC)
	layer := digest.Descriptor{MediaType: v1.MediaTypeImageLayerGzip, Digest: digest.FromBytes([]byte("x")), Size: 1}
	a := &Assembly{Platform: platform.Platform{OS: "linux", Architecture: "arm", Variant: "v7"}, Created: when,
		Layers: []Layer{{Descriptor: layer, DiffID: digest.DiffID(digest.FromBytes([]byte("y"))), CreatedBy: "copy"}}}
	for _, history := range [][]v1.History{
		{{CreatedBy: "one"}, {CreatedBy: "set", EmptyLayer: true}},
		nil,
		{{CreatedBy: "one"}, {CreatedBy: "two"}, {CreatedBy: "three"}},
	} {
		a.Base = &Base{Config: v1.Image{History: history, RootFS: v1.RootFS{DiffIDs: []digest.Digest{digest.FromBytes([]byte("b"))}}}, Layers: []digest.Descriptor{{Digest: layer.Digest}}}
		config := a.Config()
		lines := 0
		for _, h := range config.History {
			if !h.EmptyLayer {
				lines++
			}
		}
		require.Equal(t, 2, lines, "one line of history for each layer")
		require.Equal(t, "copy", config.History[len(config.History)-1].CreatedBy)
		require.Len(t, config.RootFS.DiffIDs, 2)
		require.Equal(t, "v7", config.Variant)
	}
	first, err := Encode(a.Config())
	require.NoError(t, err)
	second, err := Encode(a.Config())
	require.NoError(t, err)
	require.Equal(t, first, second)
}

func TestOffers(t *testing.T) {
	ctx, s := context.Background(), shelf{}
	one := func(architecture, manifestType, configType string) digest.Descriptor {
		config := s.put(configType, v1.Image{Platform: v1.Platform{OS: "linux", Architecture: architecture}, RootFS: v1.RootFS{Type: "layers"}})
		return s.put(manifestType, v1.Manifest{Config: config})
	}
	amd, arm := one("amd64", v1.MediaTypeImageManifest, v1.MediaTypeImageConfig), one("arm64", OldManifest, OldConfig)
	with := func(d digest.Descriptor, os, architecture string) digest.Descriptor {
		d.Platform = &v1.Platform{OS: os, Architecture: architecture}
		return d
	}
	old := s.put(OldIndex, v1.Index{Manifests: []digest.Descriptor{with(amd, "linux", "amd64"), with(arm, "linux", "arm64"), with(amd, "unknown", "unknown")}})
	nested := s.put(v1.MediaTypeImageIndex, v1.Index{Manifests: []digest.Descriptor{old, {MediaType: "application/json", Digest: amd.Digest}}})
	bare := s.put(v1.MediaTypeImageIndex, v1.Index{Manifests: []digest.Descriptor{amd}})

	for name, root := range map[string]digest.Descriptor{"old index": old, "nested": nested} {
		list, err := Offers(ctx, s, root)
		require.NoError(t, err, name)
		offer, err := Select(list, platform.Platform{OS: "linux", Architecture: "arm64"})
		require.NoError(t, err, name)
		require.Equal(t, arm.Digest, offer.Descriptor.Digest, name)
		_, err = Select(list, platform.Platform{OS: "linux", Architecture: "riscv64"})
		require.EqualError(t, err, "it has no image for linux/riscv64; it offers linux/amd64, linux/arm64")
	}
	for name, root := range map[string]digest.Descriptor{"lone manifest": arm, "index without platforms": bare} {
		list, err := Offers(ctx, s, root)
		require.NoError(t, err, name)
		require.Len(t, list, 1, name)
	}

	deep := amd
	for range maxNesting + 2 {
		deep = s.put(v1.MediaTypeImageIndex, v1.Index{Manifests: []digest.Descriptor{deep}})
	}
	huge := amd
	huge.Size = MaxDocument + 1
	for name, c := range map[string]struct {
		root digest.Descriptor
		want string
	}{
		"nested too deep":      {deep, "nested more than 3 deep"},
		"unknown media type":   {digest.Descriptor{MediaType: "text/plain", Digest: amd.Digest}, `the media type "text/plain" is unknown`},
		"nothing":              {s.put(v1.MediaTypeImageIndex, nil), "it has no list of manifests"},
		"no JSON":              {s.put(v1.MediaTypeImageIndex, "text"), "malformed image"},
		"a bad digest":         {s.put(v1.MediaTypeImageIndex, map[string]any{"manifests": []any{map[string]any{"digest": "sha256:../../x"}}}), "malformed image"},
		"a negative size":      {s.put(v1.MediaTypeImageManifest, map[string]any{"config": map[string]any{"digest": amd.Digest, "size": -1}}), "negative size"},
		"an artifact":          {s.put(v1.MediaTypeImageManifest, v1.Manifest{Config: s.put("application/vnd.tideline.table", map[string]any{})}), "it is an artifact"},
		"layers do not fit":    {s.put(v1.MediaTypeImageManifest, v1.Manifest{Config: s.put(v1.MediaTypeImageConfig, v1.Image{}), Layers: []digest.Descriptor{amd}}), "the config lists 0 layers, the manifest 1"},
		"both at once":         {s.put(v1.MediaTypeImageIndex, map[string]any{"manifests": []any{amd}, "layers": []any{}, "config": amd}), "an index and a manifest at once"},
		"both, as a manifest":  {s.put(v1.MediaTypeImageManifest, map[string]any{"manifests": []any{}, "config": amd}), "an index and a manifest at once"},
		"another kind":         {s.put(v1.MediaTypeImageManifest, map[string]any{"manifests": []any{amd}}), "of another kind than it was said to be"},
		"another type":         {s.put(v1.MediaTypeImageIndex, map[string]any{"mediaType": v1.MediaTypeImageManifest, "manifests": []any{amd}}), "it says that it is of the type"},
		"surplus layers":       {s.put(v1.MediaTypeImageManifest, v1.Manifest{Config: s.put(v1.MediaTypeImageConfig, v1.Image{RootFS: v1.RootFS{DiffIDs: []digest.Digest{amd.Digest, amd.Digest}}}), Layers: []digest.Descriptor{amd}}), "the config lists 2 layers, the manifest 1"},
		"larger than allowed":  {huge, "more than the 4194304"},
		"not what is promised": {digest.Descriptor{MediaType: amd.MediaType, Digest: amd.Digest, Size: amd.Size - 1}, "content does not match"},
	} {
		_, err := Offers(ctx, s, c.root)
		require.ErrorContains(t, err, c.want, name)
		t.Log("held: " + name)
	}
}

// TestNarrow: an index over some platforms keeps the fields that nobody here knows, its own and its entries'.
func TestNarrow(t *testing.T) {
	offer := func(architecture string) Offer {
		return Offer{platform.Platform{OS: "linux", Architecture: architecture}, digest.Descriptor{MediaType: v1.MediaTypeImageManifest, Digest: digest.FromBytes([]byte(architecture)), Size: 1}}
	}
	amd, arm := offer("amd64"), offer("arm64")
	index := `{"schemaVersion":2,"manifests":[{"mediaType":"x","digest":"` + string(amd.Descriptor.Digest) + `","size":1,"tideline":[3.42]},{"digest":"sha256:other"}],"height":{"above":"datum"},"artifactType":"a/b"}`
	body, err := Narrow([]byte(index), []Offer{amd, arm})
	require.NoError(t, err)
	require.JSONEq(t, `{"schemaVersion":2,"mediaType":"`+v1.MediaTypeImageIndex+`","manifests":[{"mediaType":"x","digest":"`+string(amd.Descriptor.Digest)+`","size":1,"tideline":[3.42]},
		{"mediaType":"`+v1.MediaTypeImageManifest+`","digest":"`+string(arm.Descriptor.Digest)+`","size":1,"platform":{"os":"linux","architecture":"arm64"}}],"height":{"above":"datum"},"artifactType":"a/b"}`, string(body))
}

// FuzzManifest: whatever a registry sends as a manifest or an index is refused or read, and what is read has digests that are
// some and sizes that are some.
func FuzzManifest(f *testing.F) {
	f.Add([]byte(`{"schemaVersion":2,"config":{"digest":"sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855","size":2},"layers":[{"size":-1}]}`))
	f.Add([]byte(`{"manifests":[{"digest":"sha256:../x","platform":{}}],"manifests":null}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		s := shelf{}
		d := digest.FromBytes(body)
		s[d] = body
		check := func(list ...digest.Descriptor) {
			for _, one := range list {
				require.NoError(t, one.Digest.Validate())
				require.GreaterOrEqual(t, one.Size, int64(0))
			}
		}
		if m, err := ReadManifest(t.Context(), s, digest.Descriptor{MediaType: v1.MediaTypeImageManifest, Digest: d, Size: int64(len(body))}); err == nil {
			check(append(m.Layers, m.Config)...)
		}
		index := digest.Descriptor{MediaType: v1.MediaTypeImageIndex, Digest: d, Size: int64(len(body))}
		if i, err := ReadIndex(t.Context(), s, index); err == nil {
			check(i.Manifests...)
		}
		offers, err := Offers(t.Context(), s, index)
		if err != nil {
			return
		}
		narrow, err := Narrow(body, offers)
		if err != nil {
			require.ErrorIs(t, err, ErrMalformed)
			return
		}
		var own v1.Index
		require.NoError(t, json.Unmarshal(narrow, &own))
		for _, offer := range offers {
			require.Contains(t, string(narrow), string(offer.Descriptor.Digest))
		}
	})
}
