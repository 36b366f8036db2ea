package transfer

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
)

// foreign stores an image as other tools make them: a manifest, or with an entry an index that names its platform. What its
// config says is given.
func (b *bench) foreign(name, config string, entry *v1.Platform, annotations map[string]string) Place {
	put := func(mediaType string, document any) digest.Descriptor {
		text, err := json.Marshal(document)
		require.NoError(b, err)
		desc, err := b.store.PutBytes(mediaType, text)
		require.NoError(b, err)
		return desc
	}
	layer, err := b.store.PutBytes(v1.MediaTypeImageLayerGzip, []byte(name))
	require.NoError(b, err)
	desc := put(v1.MediaTypeImageManifest, v1.Manifest{MediaType: v1.MediaTypeImageManifest, Layers: []digest.Descriptor{layer},
		Config: put(v1.MediaTypeImageConfig, json.RawMessage(config[:len(config)-1]+`,"rootfs":{"type":"layers","diff_ids":["`+string(layer.Digest)+`"]}}`))})
	if entry != nil {
		desc.Platform = entry
		desc = put(v1.MediaTypeImageIndex, v1.Index{MediaType: v1.MediaTypeImageIndex, Manifests: []digest.Descriptor{desc}, Annotations: annotations})
	}
	require.NoError(b, b.store.Name(b.Context(), name, desc))
	return b.place(name)
}

func (b *bench) join(parts []Part, j JoinOptions) (string, error) {
	result, err := Join(b.Context(), parts, b.place(b.host+"/tides/joined"), j, Options{Names: []string{"1"}, Sink: event.Discard})
	if err != nil {
		return "", err
	}
	offers, err := image.Offers(b.Context(), b.place(b.host+"/tides/joined:1"), result.Descriptor)
	require.NoError(b, err)
	var list []string
	for _, o := range offers {
		list = append(list, o.Platform.String())
	}
	return strings.Join(list, " "), nil
}

// TestJoinForeign: platforms come from indexes, from configs or from whoever joins, and must not contradict each other.
func TestJoinForeign(t *testing.T) {
	b := newBench(t)
	arm := platform.Platform{OS: "linux", Architecture: "arm", Variant: "v7"}
	for _, c := range []struct {
		name, config string
		entry        *v1.Platform
		as           platform.Platform
		want, wrong  string
	}{
		{"config", `{"os":"linux","architecture":"arm","variant":"v7"}`, nil, platform.Platform{}, "linux/arm/v7", ""},
		{"entry", `{"os":"linux","architecture":"arm"}`, &v1.Platform{OS: "linux", Architecture: "arm", Variant: "v7"}, platform.Platform{}, "linux/arm/v7", ""},
		{"both", `{"os":"linux","architecture":"arm","variant":"v7"}`, &v1.Platform{OS: "linux", Architecture: "arm"}, platform.Platform{}, "linux/arm/v7", ""},
		{"given", `{"os":"linux","architecture":"arm"}`, nil, arm, "linux/arm/v7", ""},
		{"nothing", `{"author":"tides"}`, nil, arm, "linux/arm/v7", ""},
		{"no one", `{"author":"tides"}`, nil, platform.Platform{}, "", "does not say what platform it is for"},
		{"against", `{"os":"linux","architecture":"amd64"}`, &v1.Platform{OS: "linux", Architecture: "arm"}, platform.Platform{}, "", "its config says linux/amd64"},
		{"variant", `{"os":"linux","architecture":"arm","variant":"v6"}`, nil, arm, "", "its config says linux/arm/v6"},
	} {
		got, err := b.join([]Part{{Place: b.foreign("f", c.config, c.entry, nil), As: c.as}}, JoinOptions{})
		require.Equal(t, c.want, got, c.name)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong, c.name)
		}
	}
}

// TestJoinAlike: what must be alike is compared; what all say alike stays said; an index that is there may keep its others.
func TestJoinAlike(t *testing.T) {
	b := newBench(t)
	part := func(name, architecture, revision string) Part {
		p := v1.Platform{OS: "linux", Architecture: architecture}
		return Part{Name: name, Place: b.foreign(name, `{"os":"linux","architecture":"`+architecture+`"}`, &p, map[string]string{v1.AnnotationRevision: revision, "tideline.of": name, "tideline.level": "3.42"})}
	}
	one, two, other, twin := part("a", "amd64", "c0ffee"), part("b", "arm64", "c0ffee"), part("c", "s390x", "decade"), part("d", "amd64", "c0ffee")
	alike := JoinOptions{Alike: []string{v1.AnnotationRevision}}
	got, err := b.join([]Part{two, one}, alike)
	require.NoError(t, err)
	require.Equal(t, "linux/amd64 linux/arm64", got)
	at := b.place(b.host + "/tides/joined:1")
	root, err := at.Root(t.Context())
	require.NoError(t, err)
	index, err := image.ReadIndex(t.Context(), at, root)
	require.NoError(t, err)
	require.Equal(t, map[string]string{v1.AnnotationRevision: "c0ffee", "tideline.level": "3.42"}, index.Annotations)

	_, err = b.join([]Part{one, other}, alike)
	require.ErrorIs(t, err, ErrDiffer)
	require.ErrorContains(t, err, "is c0ffee for a, and decade for c")
	_, err = b.join([]Part{one, twin}, alike)
	require.ErrorIs(t, err, ErrTwice)
	got, err = b.join([]Part{other}, JoinOptions{Extend: at})
	require.NoError(t, err)
	require.Equal(t, "linux/amd64 linux/arm64 linux/s390x", got)
	got, err = b.join([]Part{other}, JoinOptions{Extend: b.place(b.host + "/tides/nowhere:1")})
	require.NoError(t, err)
	require.Equal(t, "linux/s390x", got)
}

// TestVerify: what is missing or wrong anywhere below an image is found, contents only on demand.
func TestVerify(t *testing.T) {
	b := newBench(t)
	root := b.image("gauge")
	_, err := b.copy("gauge", "./layout#gauge", Options{Names: []string{"gauge"}})
	require.NoError(t, err)
	verify := func(contents bool) *Verified {
		v, err := Verify(t.Context(), b.place("./layout#gauge"), root, contents, event.Discard)
		require.NoError(t, err)
		return v
	}
	v := verify(true)
	require.Empty(t, v.Findings)
	require.Equal(t, [2]int{3, 5}, [2]int{v.Documents, v.Blobs})
	blob := func(content string) string {
		return filepath.Join(b.dir, "layout", "blobs", "sha256", digest.FromBytes([]byte(content)).Encoded())
	}
	require.NoError(t, os.Chmod(blob("gaugearm64"), 0o644))
	require.NoError(t, os.WriteFile(blob("gaugearm64"), []byte("gaugearm65"), 0o644))
	require.Empty(t, verify(false).Findings, "it is there")
	require.Len(t, verify(true).Findings, 1)
	require.NoError(t, os.Remove(blob("gaugearm64")))
	require.Len(t, verify(false).Findings, 1)
	text, err := image.ReadIndex(t.Context(), b.place("./layout#gauge"), root)
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(b.dir, "layout", "blobs", "sha256", text.Manifests[0].Digest.Encoded())))
	require.NotEmpty(t, verify(false).Findings)
}
