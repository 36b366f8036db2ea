package store

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/ground/digest"
)

// TestClaims: what others say of a layer is believed until it is opened. What is not so then goes, with its records.
func TestClaims(t *testing.T) {
	const place = "registry.tideline.example/cache"
	ctx := context.Background()
	for name, c := range map[string]struct {
		claim func(good, other *Record) (Claim, *Record)
		holds bool
	}{
		"so it is": {func(good, _ *Record) (Claim, *Record) { return Claim{place, good.DiffID, good.Tree}, good }, true},
		"another layer": {func(good, other *Record) (Claim, *Record) {
			lie := *good
			lie.Layer, lie.DiffID = other.Layer, other.DiffID
			return Claim{place, lie.DiffID, lie.Tree}, &lie
		}, false},
		"another diffID": {func(good, other *Record) (Claim, *Record) {
			lie := *good
			lie.DiffID = other.DiffID
			return Claim{place, lie.DiffID, lie.Tree}, &lie
		}, false},
	} {
		s := open(t)
		good, _ := packed(t, s, "gauge", "3.42")
		other, _ := packed(t, s, "bulletin", "calm")
		claim, record := c.claim(good, other)
		require.NoError(t, s.Claimed(string(record.Layer.Digest), claim))
		require.NoError(t, s.ImportRecord(record))
		require.NoError(t, s.NoteElsewhere(record.Layer, place))
		_, found := s.Record(record.Key)
		require.True(t, found, name)
		blob, err := s.Fetch(ctx, record.Layer)
		if c.holds {
			require.NoError(t, err, name)
			require.NoError(t, blob.Close())
			require.Empty(t, s.claimsAbout(string(record.Layer.Digest)), "it is read once")
			continue
		}
		var away *AwayError
		require.ErrorAs(t, err, &away, name)
		require.Equal(t, []string{place}, away.Places)
		require.ErrorIs(t, err, digest.ErrMismatch)
		_, found = s.Record(record.Key)
		require.False(t, found, name)
		blob, err = s.Fetch(ctx, record.Layer)
		require.NoError(t, err, "the layer itself is what its digest says")
		require.NoError(t, blob.Close())
	}

	// However much is said of one layer, nothing of it that is not so outlives its opening.
	flood := open(t)
	truth, _ := packed(t, flood, "gauge", "3.42")
	var keys []digest.Key
	for i := range 2 * mostClaims {
		lie := *truth
		lie.Tree = keyFor(fmt.Sprint("tree ", i))
		lie.Key = layer.RecordKey(lie.Tree, layer.Gzip)
		if i%2 == 0 {
			lie.DiffID = digest.DiffID(digest.FromBytes([]byte(lie.Tree)))
		}
		require.NoError(t, flood.Claimed(string(lie.Layer.Digest), Claim{place, lie.DiffID, lie.Tree}))
		require.NoError(t, flood.ImportRecord(&lie))
		keys = append(keys, lie.Key)
	}
	require.NoError(t, flood.PutRecord(truth))
	_, err := flood.Fetch(ctx, truth.Layer)
	require.ErrorIs(t, err, digest.ErrMismatch)
	for _, key := range keys {
		_, found := flood.Record(key)
		require.False(t, found)
	}
	_, found := flood.Record(truth.Key)
	require.True(t, found, "what was packed here stays")

	// An index that came from elsewhere is compared when its layer is unpacked.
	s := open(t)
	good, index := packed(t, s, "gauge", "3.42")
	index.Entries[0].Mode = 0o4755
	require.NoError(t, s.Claimed(string(good.DiffID), Claim{Place: place, DiffID: good.DiffID}))
	require.NoError(t, s.PutLayerIndex(good.DiffID, index.Encode()))
	require.ErrorIs(t, s.Prove(ctx, good.Layer, good.DiffID), digest.ErrMismatch)
	require.False(t, s.HasLayerIndex(good.DiffID))
	require.NoError(t, s.Prove(ctx, good.Layer, good.DiffID))
}

// TestForget: all that came from a place goes, with whatever ran over it, and nothing else.
func TestForget(t *testing.T) {
	const place = "registry.tideline.example/cache"
	ctx, s := context.Background(), open(t)
	theirs, index := packed(t, s, "gauge", "3.42")
	ours, _ := packed(t, s, "bulletin", "calm")
	for _, r := range []*Record{theirs, ours} {
		require.NoError(t, s.PutRecord(r))
	}
	require.NoError(t, s.PutLayerIndex(theirs.DiffID, index.Encode()))
	run := func(name string, tree digest.Key, over ...digest.Key) *Run {
		r := &Run{Key: keyFor(name), Trace: keyFor("trace " + name), Tree: tree, Over: over, Kept: []string{name}}
		require.NoError(t, s.PutRun(r))
		k, _, err := s.Kept("root", name)
		require.NoError(t, err)
		require.NoError(t, os.Mkdir(k.Dir, 0o755))
		return r
	}
	brought := run("brought", keyFor("t1"))
	brought.Shared = true
	require.NoError(t, s.PutRun(brought))
	above, higher := run("above", keyFor("t2"), keyFor("t1")), run("higher", keyFor("t3"), keyFor("t0"), keyFor("t2"))
	beside := run("beside", keyFor("t4"), keyFor("t0"))
	require.NoError(t, s.NoteOrigin(keyFor("pack"), Origin{Place: place, Records: []digest.Key{theirs.Key}, Layers: []digest.Digest{theirs.Layer.Digest}, Trees: []digest.Key{keyFor("t1"), theirs.Tree},
		Runs: []RunName{{brought.Key, brought.Trace}}, Indexes: []digest.DiffID{theirs.DiffID}}))
	require.NoError(t, s.NoteElsewhere(theirs.Layer, place))
	require.NoError(t, s.Name(ctx, "gauge:1", theirs.Layer))
	require.NoError(t, s.Name(ctx, "bulletin:1", ours.Layer))

	none, err := s.Forget("registry.tideline.example/other")
	require.NoError(t, err)
	require.Equal(t, &Forgotten{Place: "registry.tideline.example/other", Kept: []string{}, Images: []string{}}, none)
	got, err := s.Forget(place)
	require.NoError(t, err)
	require.Equal(t, &Forgotten{Place: place, Records: 1, Runs: 3, Indexes: 1, Kept: []string{"above", "higher"}, Images: []string{"gauge:1"}}, got)
	for _, r := range []*Run{brought, above, higher} {
		require.Empty(t, s.Runs(r.Key))
	}
	require.Len(t, s.Runs(beside.Key), 1)
	_, found := s.Record(theirs.Key)
	require.False(t, found)
	_, found = s.Record(ours.Key)
	require.True(t, found)
	require.False(t, s.HasLayerIndex(theirs.DiffID))
	require.Empty(t, s.Elsewhere(theirs.Layer.Digest))
	left, err := filepath.Glob(filepath.Join(s.Dir(), "imbricat", origins, "*", "*"))
	require.NoError(t, err)
	require.Empty(t, left)

	// An image of theirs that somebody opens is what it is: nobody claims anything of it any more.
	blob, err := s.Fetch(ctx, theirs.Layer)
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, blob)
	require.NoError(t, err)
	require.NoError(t, blob.Close())
}
