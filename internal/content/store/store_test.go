package store

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/layout"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// open makes a store whose check must find nothing after the test.
func open(t *testing.T) *Store {
	s, err := Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	t.Cleanup(func() {
		if t.Failed() || strings.Contains(t.Name(), "Damage") {
			return
		}
		report, err := s.Check(context.Background(), false)
		require.NoError(t, err)
		require.Empty(t, report.Findings)
	})
	return s
}

func manifest(t *testing.T, s *Store, name string) digest.Descriptor {
	config, err := s.PutBytes(v1.MediaTypeImageConfig, []byte(`{"name":"`+name+`"}`))
	require.NoError(t, err)
	text, err := json.Marshal(v1.Manifest{MediaType: v1.MediaTypeImageManifest, Config: config, Layers: []digest.Descriptor{}})
	require.NoError(t, err)
	desc, err := s.PutBytes(v1.MediaTypeImageManifest, text)
	require.NoError(t, err)
	return desc
}

func TestPutVerifies(t *testing.T) {
	s, ctx := open(t), context.Background()
	right := digest.Descriptor{Digest: digest.FromBytes([]byte("tide")), Size: 4}
	for _, wrong := range []string{"tid", "tide!", "ebbe"} {
		require.ErrorIs(t, s.Put(ctx, right, strings.NewReader(wrong)), digest.ErrMismatch)
	}
	require.False(t, s.Has(right))
	require.NoError(t, s.Put(ctx, right, strings.NewReader("tide")))
	require.True(t, s.Has(right))
	left, err := filepath.Glob(filepath.Join(s.Dir(), "imbricat/tmp/*"))
	require.NoError(t, err)
	require.Empty(t, left, "refused content leaves nothing behind")
	for _, hostile := range []digest.Digest{"sha256:../../../../etc/passwd", "../x:ab", "md5:00", ""} {
		require.Error(t, s.Put(ctx, digest.Descriptor{Digest: hostile, Size: 1}, strings.NewReader("x")))
		require.False(t, s.Has(digest.Descriptor{Digest: hostile}))
	}
}

func TestNames(t *testing.T) {
	s, ctx := open(t), context.Background()
	one, two := manifest(t, s, "one"), manifest(t, s, "two")
	require.NoError(t, s.Name(ctx, "gauge", one))
	require.NoError(t, s.Name(ctx, "gauge", two))
	require.NoError(t, s.Name(ctx, "", one))
	require.NoError(t, s.Name(ctx, "", one))
	list, err := s.List()
	require.NoError(t, err)
	require.Len(t, list, 2, "a name stands for one image, and an image without a name is listed once")
	got, err := s.Lookup("gauge")
	require.NoError(t, err)
	require.Equal(t, two.Digest, got.Digest)
	_, err = s.Lookup("gauges")
	require.ErrorIs(t, err, layout.ErrNotFound)

	got, err = s.LookupPrefix(one.Digest.Encoded()[:8])
	require.NoError(t, err)
	require.Equal(t, one.Digest, got.Digest)
	require.Equal(t, v1.MediaTypeImageManifest, got.MediaType)
	_, err = s.LookupPrefix("")
	require.ErrorContains(t, err, "give more digits")
	_, err = s.LookupPrefix("ffffffffffffffff")
	require.ErrorIs(t, err, layout.ErrNotFound)
}

// TestNamesFromManySides: no update of the list is lost.
func TestNamesFromManySides(t *testing.T) {
	s := open(t)
	desc := manifest(t, s, "one")
	var group sync.WaitGroup
	for i := range 12 {
		group.Go(func() {
			other, err := Open(s.Dir())
			assert.NoError(t, err)
			assert.NoError(t, other.Name(context.Background(), "gauge-"+string(rune('a'+i)), desc))
		})
	}
	group.Wait()
	list, err := s.List()
	require.NoError(t, err)
	require.Len(t, list, 12)
}

// packed puts a layer of one file into a store and gives its record, which is not kept, and its index.
func packed(t *testing.T, s *Store, name, content string) (*Record, *layer.Indexed) {
	entries := []tree.Entry{{Path: name, Kind: tree.File, Mode: 0o644, Size: int64(len(content)), Content: digest.ContentBytes([]byte(content))}}
	blob, err := s.Begin()
	require.NoError(t, err)
	p, err := layer.Pack(context.Background(), blob, entries, func(*tree.Entry) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil }, layer.Options{Compression: layer.Gzip})
	require.NoError(t, err)
	require.NoError(t, blob.Commit(p.Descriptor.Digest))
	key := layer.KeyOf(entries)
	return &Record{Key: layer.RecordKey(key, layer.Gzip), Tree: key, Layer: p.Descriptor, DiffID: p.DiffID, Unpacked: p.Unpacked, Files: 1}, &layer.Indexed{Entries: entries, DiffID: p.DiffID, Unpacked: p.Unpacked}
}

func TestRecords(t *testing.T) {
	s := open(t)
	record, _ := packed(t, s, "gauge", "3.42")
	key, blob := record.Key, record.Layer
	_, found := s.Record(key)
	require.False(t, found)
	require.NoError(t, s.PutRecord(record))
	got, found := s.Record(key)
	require.True(t, found)
	require.Equal(t, record, got)
	other := *record
	other.Tree = digest.Key(digest.ContentBytes([]byte("another tree")))
	require.NoError(t, s.PutRecord(&other))
	_, found = s.Record(key)
	require.False(t, found, "its key is that of another tree")
	// Of neither a record nor a memo any bit may change.
	require.NoError(t, s.PutRecord(record))
	require.NoError(t, s.PutMemo("files", []byte("3.42")))
	for _, c := range []struct {
		file  string
		found func() bool
	}{
		{s.path("imbricat", "records", hexOf(string(key))[:2], hexOf(string(key))[2:]+".json"), func() bool { _, found := s.Record(key); return found }},
		{s.path("imbricat", "memo", "files"), func() bool { _, found := s.Memo("files"); return found }},
	} {
		text, err := os.ReadFile(c.file)
		require.NoError(t, err)
		require.True(t, c.found())
		for i := range text {
			changed := bytes.Clone(text)
			changed[i] ^= 1
			require.NoError(t, os.WriteFile(c.file, changed, 0o644))
			require.False(t, c.found(), "%s, byte %d", c.file, i)
			require.NoError(t, os.WriteFile(c.file, text[:i], 0o644))
			require.False(t, c.found(), "%s, cut at %d", c.file, i)
		}
		require.NoError(t, os.WriteFile(c.file, text, 0o644))
	}
	// A record whose layer is gone is no record.
	path, err := s.BlobPath(blob.Digest)
	require.NoError(t, err)
	require.NoError(t, os.Remove(path))
	_, found = s.Record(key)
	require.False(t, found)

	require.NoError(t, s.PutLayerIndex(digest.DiffID(blob.Digest), []byte("entries")))
	index, found := s.LayerIndex(digest.DiffID(blob.Digest))
	require.True(t, found)
	require.Equal(t, "entries", string(index))
	_, found = s.LayerIndex("sha256:../x")
	require.False(t, found)
}

func TestCheckFindsDamage(t *testing.T) {
	s, ctx := open(t), context.Background()
	require.NoError(t, s.Name(ctx, "gauge", manifest(t, s, "one")))
	record, _ := packed(t, s, "gauge", "3.42")
	blob := record.Layer
	require.NoError(t, s.PutRecord(record))
	other, _ := packed(t, s, "bulletin", "calm")
	require.NoError(t, s.PutLayerIndex(record.DiffID, []byte("what it holds")))
	for name, c := range map[string]struct {
		damage func(path string)
		want   string
	}{
		"a changed blob": {func(string) {
			require.NoError(t, os.WriteFile(s.path("blobs/sha256", blob.Digest.Encoded()), bytes.Repeat([]byte("z"), int(blob.Size)), 0o644))
		}, "its bytes have another digest"},
		"a stray file":  {func(string) { require.NoError(t, os.WriteFile(s.path("blobs/sha256/notes"), nil, 0o644)) }, "is not a blob"},
		"a broken list": {func(string) { require.NoError(t, os.WriteFile(s.path("index.json"), []byte("{"), 0o644)) }, "cannot be read: unexpected end of JSON input"},
		"another layer": {func(string) {
			lie := *record
			lie.Layer, lie.DiffID = other.Layer, other.DiffID
			require.NoError(t, s.PutRecord(&lie))
		}, "holds something else than the record says"},
		"a broken index": {func(string) {
			trees, err := filepath.Glob(s.path("imbricat/trees/*/*"))
			require.NoError(t, err)
			text, err := os.ReadFile(trees[0])
			require.NoError(t, err)
			text[len(text)/2] ^= 1
			require.NoError(t, os.WriteFile(trees[0], text, 0o644))
		}, "cannot be read"},
		"an empty index": {func(string) {
			trees, err := filepath.Glob(s.path("imbricat/trees/*/*"))
			require.NoError(t, err)
			require.NoError(t, os.Truncate(trees[0], 0))
		}, "cannot be read"},
		"a broken record": {func(p string) { require.NoError(t, os.WriteFile(p, []byte("x"), 0o644)) }, "is not a record"},
		"a moved record":  {func(p string) { require.NoError(t, os.Rename(p, filepath.Dir(p)+"/00.json")) }, "lies under another key"},
	} {
		copied, err := Open(filepath.Join(t.TempDir(), "copy"))
		require.NoError(t, err)
		require.NoError(t, os.CopyFS(copied.Dir()+"-whole", os.DirFS(s.Dir())))
		before := s
		s, err = Open(copied.Dir() + "-whole")
		require.NoError(t, err)
		records, err := filepath.Glob(s.path("imbricat/records/*/*.json"))
		require.NoError(t, err)
		c.damage(records[0])
		report, err := s.Check(ctx, false)
		require.NoError(t, err, name)
		require.Len(t, report.Findings, 1, name)
		require.Contains(t, report.Findings[0].What, c.want, name)
		_, err = s.Check(ctx, true)
		require.NoError(t, err, name)
		report, err = s.Check(ctx, false)
		require.NoError(t, err, name)
		require.Empty(t, report.Findings, name)
		s = before
	}
}

// TestSpoiltBlob: bytes that are written to a blob are noticed by whoever needs it next, and reading it is no use of it.
func TestSpoiltBlob(t *testing.T) {
	s := open(t)
	record, _ := packed(t, s, "gauge", "3.42")
	blob := record.Layer
	path, err := s.BlobPath(blob.Digest)
	require.NoError(t, err)
	require.NoError(t, s.PutRecord(record))
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	marked := func() bool {
		info, err := os.Stat(path)
		require.NoError(t, err)
		return info.ModTime().Equal(markOf(blob.Digest)) && time.Since(accessed(info)) < time.Hour
	}
	require.True(t, marked(), "it was marked when it was written")

	// Written again, with a right digest, it is read through once, and marked.
	require.NoError(t, os.WriteFile(path, whole, 0o644))
	require.False(t, marked())
	require.True(t, s.Has(blob))
	require.True(t, marked())
	past := time.Now().Add(-100 * time.Hour)
	require.NoError(t, os.Chtimes(path, past, time.Time{}))
	report, err := s.Check(context.Background(), false)
	require.NoError(t, err)
	require.Empty(t, report.Findings)
	require.False(t, marked(), "a check is not a use")
	require.True(t, s.Has(blob))
	require.True(t, marked())
	require.Empty(t, s.Spoilt())

	for i := range whole {
		wrong := bytes.Clone(whole)
		wrong[i] ^= 1
		require.NoError(t, os.WriteFile(path, wrong, 0o644))
		_, found := s.Record(record.Key)
		require.False(t, found, "byte %d", i)
		require.NoFileExists(t, path)
		told := s.Spoilt()
		require.Len(t, told, 1)
		require.Contains(t, told[0], string(blob.Digest)+" of the store was changed")
		require.Empty(t, s.Spoilt(), "told once")
	}
}

func TestSweepSparesTheYoung(t *testing.T) {
	s := open(t)
	old, young := s.path("imbricat/tmp/.new-old"), s.path("imbricat/tmp/.new-young")
	for _, path := range []string{old, young} {
		require.NoError(t, os.WriteFile(path, nil, 0o600))
	}
	past := time.Now().Add(-48 * time.Hour)
	require.NoError(t, os.Chtimes(old, past, past))
	_, err := Open(s.Dir())
	require.NoError(t, err)
	require.NoFileExists(t, old)
	require.FileExists(t, young)
}
