package share

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/ground/digest"
)

// TestTrim: what is unused for long goes, and what is used stays, in both kinds of places; the manifests that were replaced go too, and
// nothing else that somebody says was one.
func TestTrim(t *testing.T) {
	for name, backend := range backends(t) {
		t.Run(name, func(t *testing.T) {
			ctx := t.Context()
			_, err := Trim(ctx, backend(), Bounds{To: 1}, time.Now())
			require.ErrorIs(t, err, ErrNone)
			maker := newStore(t)
			var finished []Finished
			for n := range 3 {
				f := finish(t, maker, fmt.Sprintf("page-%d", n), strings.Repeat("tide ", 100+n))
				finished = append(finished, f)
				require.NoError(t, open(t, backend(), maker, nil).Publish(ctx, f))
			}
			days := func(n int) time.Time { return time.Now().Add(time.Duration(n) * 24 * time.Hour) }

			// A build that takes something marks its pack as used, at most once a day; nothing new is shared by that.
			reader := newStore(t)
			c := open(t, backend(), reader, nil)
			c.Run(ctx, finished[0].Runs[0].Key)
			require.Len(t, reader.Runs(finished[0].Runs[0].Key), 1)
			manifest := func() *v1.Manifest {
				m, _, err := current(ctx, backend())
				require.NoError(t, err)
				return m
			}
			m := manifest()
			require.True(t, touch(m, c.took, days(20)))
			require.False(t, touch(m, c.took, days(20)), "it is known")
			text, err := json.Marshal(m)
			require.NoError(t, err)
			require.NoError(t, backend().PutManifest(ctx, text))

			dry, err := Trim(ctx, backend(), Bounds{UnusedFor: 14 * 24 * time.Hour, DryRun: true}, days(30))
			require.NoError(t, err)
			require.Equal(t, [4]int{2, 2, 1, 0}, [4]int{dry.Packs, dry.Layers, dry.Left, dry.Deleted})
			require.Len(t, manifest().Layers, 6, "nothing went")
			done, err := Trim(ctx, backend(), Bounds{UnusedFor: 14 * 24 * time.Hour}, days(30))
			require.NoError(t, err)
			require.Equal(t, [3]int{2, 2, 1}, [3]int{done.Packs, done.Layers, done.Left})
			require.Len(t, manifest().Layers, 2)
			require.Equal(t, dry.Bytes, done.Bytes)
			require.Equal(t, done.LeftBytes, bytesOf(manifest().Layers))
			require.Empty(t, done.Undeleted)
			if name == "registry" {
				require.GreaterOrEqual(t, done.Deleted, 3)
			}
			fresh := newStore(t)
			again := open(t, backend(), fresh, nil)
			again.Run(ctx, finished[0].Runs[0].Key)
			require.Len(t, fresh.Runs(finished[0].Runs[0].Key), 1, "what is left can be used")
			again.Run(ctx, finished[1].Runs[0].Key)
			require.Empty(t, fresh.Runs(finished[1].Runs[0].Key))

			done, err = Trim(ctx, backend(), Bounds{To: 1}, days(30))
			require.NoError(t, err)
			require.Equal(t, [2]int{1, 0}, [2]int{done.Packs, done.Left})
			require.NoError(t, open(t, backend(), maker, nil).Publish(ctx, finished[2]))
			require.Len(t, manifest().Layers, 2, "it goes on")
		})
	}
}

// TestWithin: whatever packs there are, what is left is within the bounds, was used later than all that went, and lists just the layers of its
// packs.
func TestWithin(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		now := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
		m := &v1.Manifest{}
		layers := map[digest.Digest]bool{}
		add := func(kind, text string, size int64) v1.Descriptor {
			d := v1.Descriptor{MediaType: kind, Digest: digest.FromBytes([]byte(text)), Size: size}
			return d
		}
		for n := range rapid.IntRange(0, 6).Draw(t, "packs") {
			var names []string
			for _, l := range rapid.SliceOfDistinct(rapid.IntRange(0, 5), rapid.ID[int]).Draw(t, "layers") {
				d := add("layer", fmt.Sprint("layer", l), int64(10+l))
				if names = append(names, nameOf(string(d.Digest))); !layers[d.Digest] {
					layers[d.Digest] = true
					m.Layers = append(m.Layers, d)
				}
			}
			p := add(packType, fmt.Sprint("pack", n), 5)
			p.Annotations = map[string]string{layersKey: strings.Join(names, " "), madeKey: now.Add(-time.Duration(rapid.IntRange(0, 40).Draw(t, "age")) * 24 * time.Hour).Format(time.RFC3339)}
			m.Layers = append(m.Layers, p)
		}
		o := Bounds{UnusedFor: time.Duration(rapid.IntRange(0, 40).Draw(t, "unused")) * 24 * time.Hour, To: int64(rapid.IntRange(0, 80).Draw(t, "to"))}
		rest, told := within(m, o, now)
		require.Equal(t, bytesOf(m.Layers), told.Bytes+told.LeftBytes)
		require.Equal(t, told.LeftBytes, bytesOf(rest.Layers))
		require.Equal(t, len(m.Layers), len(rest.Layers)+told.Packs+told.Layers)
		if o.To > 0 {
			require.LessOrEqual(t, told.LeftBytes, o.To)
		}
		oldest, packs := "9", []v1.Descriptor{}
		for _, l := range rest.Layers {
			if l.MediaType == packType {
				packs, oldest = append(packs, l), min(oldest, lastUse(l))
			}
		}
		require.Equal(t, listed(m, packs), rest.Layers)
		for _, l := range m.Layers {
			if l.MediaType == packType && lastUse(l) > oldest {
				require.Contains(t, packs, l, "a younger one went before an older")
			}
		}
	})
}

// TestDeleteOnlyCaches: a manifest that is no cache is not deleted, whoever says that it was replaced.
func TestDeleteOnlyCaches(t *testing.T) {
	b := backends(t)["registry"]().(*remote)
	ctx := t.Context()
	maker := newStore(t)
	require.NoError(t, open(t, b, maker, nil).Publish(ctx, finish(t, maker, "page", "tide")))
	image := []byte(`{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[]}`)
	require.NoError(t, b.repository.PutManifest(ctx, "1.4.0", v1.MediaTypeImageIndex, image))
	m, _, err := current(ctx, b)
	require.NoError(t, err)
	m.Annotations = map[string]string{replacedKey: string(digest.FromBytes(image)) + " nonsense sha256:" + strings.Repeat("0", 64)}
	text, err := json.Marshal(m)
	require.NoError(t, err)
	require.NoError(t, b.PutManifest(ctx, text))
	_, err = Trim(ctx, b, Bounds{UnusedFor: time.Hour}, time.Now())
	require.NoError(t, err)
	tags, err := b.repository.Tags(ctx)
	require.NoError(t, err)
	require.Contains(t, tags, "1.4.0")
	now, _, err := current(ctx, b)
	require.NoError(t, err)
	require.Empty(t, now.Annotations[replacedKey])
}
