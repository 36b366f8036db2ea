package store

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/ground/digest"
)

// aged makes a blob that nobody has used for long.
func aged(t *testing.T, s *Store, content string) digest.Descriptor {
	desc, err := s.PutBytes("", []byte(content))
	require.NoError(t, err)
	path, err := s.BlobPath(desc.Digest)
	require.NoError(t, err)
	past := time.Now().Add(-100 * 24 * time.Hour)
	require.NoError(t, os.Chtimes(path, past, past))
	return desc
}

// TestTrimSparesWhatOthersUse: another process's store is a second one that is open on the same folder.
func TestTrimSparesWhatOthersUse(t *testing.T) {
	s, ctx := open(t), context.Background()
	require.NoError(t, s.Name(ctx, "gauge", manifest(t, s, "one")))
	unused, used, recorded := aged(t, s, "unused"), aged(t, s, "used"), aged(t, s, "recorded")
	key := layer.RecordKey("tree", layer.None)
	require.NoError(t, s.PutRecord(&Record{Key: key, Tree: "tree", Layer: recorded}))

	other, err := Open(s.Dir())
	require.NoError(t, err)
	require.True(t, other.Has(used), "the other process relies on it")
	_, found := other.Record(key)
	require.True(t, found)

	dry, err := s.Trim(ctx, Trimming{DryRun: true})
	require.NoError(t, err)
	require.True(t, s.layoutHas(unused))
	trimmed, err := s.Trim(ctx, Trimming{})
	require.NoError(t, err)
	require.Equal(t, dry.Files, trimmed.Files)
	require.Equal(t, 1, trimmed.Files)
	require.EqualValues(t, 4096, trimmed.Bytes, "what the disk gives")
	require.Equal(t, 3, trimmed.Kept, "two blobs and a record")
	require.False(t, s.layoutHas(unused))
	require.True(t, s.layoutHas(used))

	// When the other is gone, in whatever way, its lease is too.
	lease := other.lease.Path()
	require.NoError(t, other.lease.Unlock())
	trimmed, err = s.Trim(ctx, Trimming{})
	require.NoError(t, err)
	require.Equal(t, 3, trimmed.Files)
	require.NoFileExists(t, lease)
	require.Zero(t, trimmed.Left.Layers)
	require.Positive(t, trimmed.Left.Images, "what is named stays")

	require.NoError(t, s.Close())
	left, err := filepath.Glob(filepath.Join(s.Dir(), "imbricat/leases/*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// layoutHas looks without marking.
func (s *Store) layoutHas(desc digest.Descriptor) bool {
	path, err := s.BlobPath(desc.Digest)
	if err != nil {
		return false
	}
	_, err = os.Stat(path)
	return err == nil
}

// TestTrimBetweenLookAndMark: what is used after the list was made is not removed any more.
func TestTrimBetweenLookAndMark(t *testing.T) {
	s, ctx := open(t), context.Background()
	desc := aged(t, s, "late")
	items, err := s.items(ctx)
	require.NoError(t, err)
	require.True(t, s.Has(desc))
	removed, spared, err := s.removeAll(ctx, items, s.removeFolder)
	require.NoError(t, err)
	require.Empty(t, removed)
	require.Len(t, spared, 1)
	require.True(t, s.layoutHas(desc))
}

// TestTrimToSize: what was not used for longest goes first.
func TestTrimToSize(t *testing.T) {
	s, ctx := open(t), context.Background()
	var all []digest.Descriptor
	for i, content := range []string{"aaaaaaaaaa", "bbbbbbbbbb", "cccccccccc"} {
		desc := aged(t, s, content)
		path, _ := s.BlobPath(desc.Digest)
		when := time.Now().Add(-time.Duration(10-i) * time.Hour)
		require.NoError(t, os.Chtimes(path, when, when))
		all = append(all, desc)
	}
	trimmed, err := s.Trim(ctx, Trimming{UnusedFor: 1000 * time.Hour, To: 10 * kB})
	require.NoError(t, err)
	require.Equal(t, 1, trimmed.Files)
	require.Equal(t, []bool{false, true, true}, []bool{s.layoutHas(all[0]), s.layoutHas(all[1]), s.layoutHas(all[2])})
}

// TestTrimByUse: to a size, what is large, old and made again fast goes before what took long to make.
func TestTrimByUse(t *testing.T) {
	s, ctx := open(t), context.Background()
	day := 24 * time.Hour
	put := func(name string, size int, unused, redo time.Duration) digest.Descriptor {
		desc, err := s.PutBytes("", append([]byte(name), make([]byte, size)...))
		require.NoError(t, err)
		require.NoError(t, s.PutRecord(&Record{Key: layer.RecordKey(digest.Key(name), layer.None), Tree: digest.Key(name), Layer: desc, Millis: redo.Milliseconds()}))
		path, err := s.BlobPath(desc.Digest)
		require.NoError(t, err)
		past := time.Now().Add(-unused)
		require.NoError(t, os.Chtimes(path, past, past))
		return desc
	}
	slow := put("slow", 100_000, 9*day, 10*time.Minute)
	small := put("small", 400, day, time.Second)
	young := put("young", 100_000, time.Hour, time.Second)
	quick := put("quick", 100_000, 9*day, time.Second)
	require.NoError(t, s.Close())
	s, err := Open(s.Dir())
	require.NoError(t, err)
	for _, step := range []struct {
		to   int64
		gone digest.Descriptor
	}{{240_000, quick}, {140_000, young}, {130_000, digest.Descriptor{}}} {
		_, err := s.Trim(ctx, Trimming{UnusedFor: 100 * day, To: step.to})
		require.NoError(t, err)
		require.False(t, step.gone.Digest != "" && s.layoutHas(step.gone))
		require.True(t, s.layoutHas(slow))
	}
	require.True(t, s.layoutHas(small))
	_, err = s.Trim(ctx, Trimming{UnusedFor: day})
	require.NoError(t, err)
	require.False(t, s.layoutHas(slow), "a bound by age spares nothing")
}

// TestNamedMeanwhile: what got a name between the look and the removal stays.
func TestNamedMeanwhile(t *testing.T) {
	s, ctx := open(t), context.Background()
	desc := manifest(t, s, "late")
	path, err := s.BlobPath(desc.Digest)
	require.NoError(t, err)
	due := []item{{path: path, kind: "blob", used: time.Now().Add(time.Hour)}}
	require.NoError(t, s.Name(ctx, "late", desc))
	removed, spared, err := s.removeAll(ctx, due, s.removeFolder)
	require.NoError(t, err)
	require.Empty(t, removed)
	require.Equal(t, due, spared)
	require.True(t, s.layoutHas(desc))
}
