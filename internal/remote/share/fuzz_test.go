package share

import (
	"encoding/json"
	"path/filepath"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// FuzzPack: whatever a pack says, the store holds under a name only what has that name, and no record of a run without what
// belongs to it.
func FuzzPack(f *testing.F) {
	s, err := store.Open(filepath.Join(f.TempDir(), "store"))
	require.NoError(f, err)
	entries := []tree.Entry{{Path: "level", Kind: tree.File, Mode: 0o644, Size: 4, Content: digest.ContentBytes([]byte("3.42"))}}
	key := layer.KeyOf(entries)
	learnt := (&trace.Trace{Entries: []trace.Entry{{Path: "src/level", Asked: trace.Kind, Answer: "f"}}}).Encode()
	run := packedRun{store.Run{Key: digest.Key(digest.ContentBytes([]byte("command"))), Trace: trace.ID(learnt), Tree: key, Bytes: 4}}
	held := digest.Descriptor{MediaType: v1.MediaTypeImageLayerZstd, Digest: digest.FromBytes([]byte("layer")), Size: 5}
	record := store.Record{Key: layer.RecordKey(key, layer.Zstd), Tree: key, Layer: held, DiffID: digest.DiffID(digest.FromBytes([]byte("tar")))}
	index := &layer.Indexed{Entries: entries, DiffID: digest.DiffID(digest.FromBytes([]byte("other"))), Unpacked: 2048}
	for _, p := range []pack{
		{Runs: []packedRun{run}, Traces: map[digest.Key]string{run.Trace: string(learnt)}, Trees: map[digest.Key]string{key: string(tree.EncodeEntries(entries))},
			Layers: []store.Record{record}, Indexes: map[digest.DiffID]string{index.DiffID: string(index.Encode())}},
		{Runs: []packedRun{run}, Traces: map[digest.Key]string{key: string(learnt)}, Trees: map[digest.Key]string{run.Trace: string(tree.EncodeEntries(entries))}},
		{Layers: []store.Record{record, {Key: record.Key, Layer: digest.Descriptor{Digest: "sha256:../../x", Size: -1}}}, Indexes: map[digest.DiffID]string{"sha256:00": string(index.Encode())}},
	} {
		p.Format = packFormat
		text, err := json.Marshal(p)
		require.NoError(f, err)
		f.Add(text)
	}
	folder, err := InFolder(filepath.Join(f.TempDir(), "cache"))
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := decodePack(compressed(text))
		if err != nil {
			return
		}
		again, err := p.encode()
		require.NoError(t, err)
		same, err := decodePack(again)
		require.NoError(t, err)
		require.Equal(t, p.names(), same.names())
		c := New(folder, s, Both, DefaultPatience, func(error) {})
		c.manifest = &v1.Manifest{Layers: []v1.Descriptor{held}}
		_ = c.keep(p, digest.FromBytes(text)) // what is no hash is refused by the store
		for id := range p.Traces {
			if kept, found := s.Trace(id); found {
				require.Equal(t, id, trace.ID(kept))
			}
		}
		for id := range p.Trees {
			if kept, found := s.TreeEntries(id); found {
				require.True(t, treeMatches(id, string(kept)))
			}
		}
		for id := range p.Indexes {
			if kept, found := s.LayerIndex(id); found && digest.Digest(id).Validate() == nil { // earlier inputs have left theirs
				require.True(t, indexMatches(id, string(kept)))
			}
		}
		for i := range p.Layers {
			if r, found := s.Record(p.Layers[i].Key); found {
				require.Equal(t, held.Digest, r.Layer.Digest, "the manifest lists no other")
				require.True(t, layer.IsRecordKey(r.Key, r.Tree))
				require.NoError(t, digest.Digest(r.DiffID).Validate())
			}
		}
		for i := range p.Runs {
			for _, r := range s.Runs(p.Runs[i].Key) {
				require.True(t, r.Shared)
				_, traced := s.Trace(r.Trace)
				_, left := s.TreeEntries(r.Tree)
				require.True(t, traced && left)
			}
		}
	})
}

// FuzzManifest: a manifest that is read names blobs by digests, and stays one that is read when a pack is added, with that
// pack and no layer that no pack needs.
func FuzzManifest(f *testing.F) {
	layers := []v1.Descriptor{{MediaType: v1.MediaTypeImageLayerZstd, Digest: digest.FromBytes([]byte("layer")), Size: 5}}
	pack := v1.Descriptor{MediaType: packType, Digest: digest.FromBytes([]byte("pack")), Size: 4, Annotations: map[string]string{layersKey: nameOf(string(layers[0].Digest))}}
	text, err := json.Marshal(withPack(nil, pack, layers))
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		m, err := decodeManifest(text)
		if err != nil {
			return
		}
		for _, l := range m.Layers {
			require.NoError(t, l.Digest.Validate())
			require.GreaterOrEqual(t, l.Size, int64(0))
		}
		more, err := json.Marshal(withPack(m, pack, layers))
		require.NoError(t, err)
		again, err := decodeManifest(more)
		require.NoError(t, err)
		packs, others := 0, map[digest.Digest]int{}
		for _, l := range again.Layers {
			if l.MediaType == packType {
				packs++
			} else {
				others[l.Digest]++
			}
		}
		require.Equal(t, pack.Digest, again.Layers[len(again.Layers)-1].Digest)
		require.LessOrEqual(t, packs, mostPacks)
		require.Equal(t, 1, others[layers[0].Digest])
		for d, n := range others {
			require.Equal(t, 1, n, d)
		}
	})
}
