package store

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
)

// bounds is a store with an image, blobs that nobody has used for days, and unpacked trees that were used some hours ago.
type bounds struct {
	*testing.T
	s      *Store
	blobs  []digest.Descriptor
	unpack func(name string, ago time.Duration) string
}

const kB = 1 << 10

func newBounds(t *testing.T) *bounds {
	b := &bounds{T: t, s: open(t)}
	require.NoError(t, b.s.Name(t.Context(), "gauge", manifest(t, b.s, strings.Repeat("x", 400*kB))))
	for i := range 3 {
		b.blobs = append(b.blobs, aged(t, b.s, string(bytes.Repeat([]byte{byte('a' + i)}, 200*kB))))
		path, err := b.s.BlobPath(b.blobs[i].Digest)
		require.NoError(t, err)
		used := time.Now().Add(-time.Duration(9-i) * 24 * time.Hour)
		require.NoError(t, os.Chtimes(path, used, used))
	}
	b.unpack = func(name string, ago time.Duration) string {
		work, err := b.s.TemporaryFolder()
		require.NoError(t, err)
		require.NoError(t, os.Mkdir(filepath.Join(work, "root"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(work, "root/f"), make([]byte, 92*kB), 0o644))
		dir, err := b.s.PutSnapshot("root", keyFor(name), work, Room{Bytes: 92 * kB, Files: 1})
		require.NoError(t, err)
		used := time.Now().Add(-ago)
		require.NoError(t, os.Chtimes(filepath.Join(filepath.Dir(dir), snapshotFile), used, used))
		return filepath.Dir(dir)
	}
	return b
}

// again is another process that has written something.
func (b *bounds) again() {
	require.NoError(b, b.s.Close())
	s, err := Open(b.s.Dir())
	require.NoError(b, err)
	b.s = s
	s.unpacked.Store(true)
}

func (b *bounds) bound(most int64) *Bounded {
	done, err := b.s.Bound(b.Context(), Bounding{Most: most, Within: time.Minute})
	require.NoError(b, err)
	return done
}

// held is what counts against the bound.
func (b *bounds) held() int64 {
	u, err := b.s.Size(b.Context())
	require.NoError(b, err)
	return u.Total - u.Images
}

// TestBound: what can be made again goes, those first that were not used for longest, unpacked trees before the rest; what is named
// or in use stays, and it is told when the bound is not met.
func TestBound(t *testing.T) {
	b := newBounds(t)
	oldest, older, young := b.unpack("1", 3*time.Hour), b.unpack("2", 2*time.Hour), b.unpack("3", time.Hour)
	other, err := Open(b.s.Dir())
	require.NoError(t, err)
	t.Cleanup(func() { other.Close() })
	require.True(t, other.Has(b.blobs[0]))

	b.again()
	require.Nil(t, b.bound(b.held()), "it is within its bound")
	require.Equal(t, &Bounded{Bytes: 2 * 104 * kB, Trees: 2, Files: 8}, b.bound(b.held()-110*kB))
	require.NoDirExists(t, oldest)
	require.NoDirExists(t, older)
	require.DirExists(t, young)
	require.Zero(t, b.left())

	_, found := b.s.Document(b.blobs[0].Digest) // a look does not use it
	require.False(t, found)
	b.again()
	done := b.bound(500 * kB)
	require.Equal(t, 1, done.Trees)
	require.GreaterOrEqual(t, done.Bytes, int64(304*kB))
	require.Zero(t, done.Over)
	require.True(t, b.s.layoutHas(b.blobs[0]), "another process uses it")
	require.False(t, b.s.layoutHas(b.blobs[1]))
	require.True(t, b.s.layoutHas(b.blobs[2]), "that is enough: what is named counts for nothing")

	b.again()
	mine := b.unpack("4", 0)
	done = b.bound(10 * kB)
	require.Equal(t, b.held()-10*kB, done.Over)
	require.True(t, done.Held)
	require.DirExists(t, mine, "this process uses it")
	require.True(t, b.s.layoutHas(b.blobs[0]))
	list, err := b.s.List()
	require.NoError(t, err)
	require.True(t, b.s.layoutHas(list[0].Descriptor))
}

// left counts folders that are out of sight and not removed.
func (b *bounds) left() int {
	found, err := filepath.Glob(filepath.Join(b.s.Dir(), "imbricat/tmp/*"))
	require.NoError(b, err)
	return len(found)
}

// TestBoundInTime: where the time is over it goes on the next time, and a process that wrote nothing worth a look does not look.
func TestBoundInTime(t *testing.T) {
	b := newBounds(t)
	dir := b.unpack("1", time.Hour)
	b.again()
	none, err := b.s.Bound(t.Context(), Bounding{Within: time.Nanosecond})
	require.NoError(t, err)
	require.Nil(t, none)
	require.DirExists(t, dir)

	hidden, err := b.s.hide(dir)
	require.NoError(t, err)
	ended, end := context.WithCancel(t.Context())
	end()
	b.s.removeHidden(ended)
	require.FileExists(t, filepath.Join(hidden, "gone/root/f"))
	require.Nil(t, b.bound(1<<30))
	require.Zero(t, b.left(), "what there was no time for goes the next time")

	hidden, err = b.s.hide(b.unpack("1", time.Hour))
	require.NoError(t, err)
	trimmed, err := b.s.Trim(t.Context(), Trimming{UnusedFor: 1000 * time.Hour})
	require.NoError(t, err)
	require.NoDirExists(t, hidden, "trimming removes it whatever its age")
	require.Equal(t, 5, trimmed.Files)

	require.NoError(t, b.s.Close())
	b.s, err = Open(b.s.Dir())
	require.NoError(t, err)
	few, err := b.s.PutBytes("", make([]byte, fewBytes-1))
	require.NoError(t, err)
	require.Nil(t, b.bound(1))
	require.True(t, b.s.layoutHas(b.blobs[0]))
	_, err = b.s.PutBytes("", []byte("more"))
	require.NoError(t, err)
	require.NotNil(t, b.bound(1))
	require.False(t, b.s.layoutHas(b.blobs[0]))
	require.True(t, b.s.layoutHas(few))
}

// TestTally: what is remembered of folders tells the same as a look at every file, whatever comes and goes.
func TestTally(t *testing.T) {
	b := newBounds(t)
	random := rand.New(rand.NewSource(1))
	k, lock, err := b.s.Kept("root", "mirror")
	require.NoError(t, err)
	lock.Close()
	clock := time.Now().Add(-time.Hour)
	age := func() { // every change of a folder is an old one, and another one
		now := time.Now().Add(-time.Minute)
		_ = filepath.WalkDir(b.s.Dir(), func(path string, d os.DirEntry, err error) error {
			if info, infoErr := os.Stat(path); err == nil && infoErr == nil && info.ModTime().After(now) && (d.IsDir() || d.Name() == "holder.json") {
				clock = clock.Add(time.Second)
				return os.Chtimes(path, clock, clock)
			}
			return err
		})
	}
	var dirs []string
	for i := range 60 {
		switch random.Intn(6) {
		case 0:
			_, err := b.s.PutBytes("", bytes.Repeat([]byte{byte(i)}, random.Intn(100*kB)))
			require.NoError(t, err)
		case 1:
			dirs = append(dirs, b.unpack(fmt.Sprint(i), time.Hour))
		case 2:
			require.NoError(t, b.s.HoldKept(k, Holder{}))
			require.NoError(t, os.MkdirAll(filepath.Join(k.Dir, "in"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(k.Dir, "in", fmt.Sprint(i)), make([]byte, random.Intn(50*kB)), 0o644))
		case 3:
			if len(dirs) > 0 {
				require.NoError(t, b.s.removeFolder(dirs[0]))
				dirs = dirs[1:]
			}
		case 4:
			require.NoError(t, b.s.PutTreeEntries(keyFor(fmt.Sprint(i)), make([]byte, random.Intn(9*kB))))
		case 5:
			require.NoError(t, b.s.PutMemo(tallyMemo, []byte("{")[:random.Intn(2)]))
		}
		age()
		want, err := b.s.Size(t.Context())
		require.NoError(t, err)
		got, err := b.s.tally(t.Context())
		require.NoError(t, err)
		require.InDelta(t, want.Total, got, 32*kB, "the note itself, and what removing made")
	}
	// A change that might not be the last one of its moment is looked at again.
	_, err = b.s.PutBytes("", []byte("x"))
	require.NoError(t, err)
	_, err = b.s.tally(t.Context())
	require.NoError(t, err)
	blobs := filepath.Join(b.s.Dir(), "blobs/sha256")
	info, err := os.Stat(blobs)
	require.NoError(t, err)
	more := filepath.Join(blobs, "more")
	require.NoError(t, os.WriteFile(more, make([]byte, 300*kB), 0o600))
	require.NoError(t, os.Chtimes(blobs, info.ModTime(), info.ModTime()))
	got, err := b.s.tally(t.Context())
	require.NoError(t, err)
	want, err := b.s.Size(t.Context())
	require.NoError(t, err)
	require.InDelta(t, want.Total, got, 32*kB)
	require.NoError(t, os.Remove(more))
}

// TestGiveUpBlobs: where there are too many files to look at all of them, blobs go by their last use; without time none does.
func TestGiveUpBlobs(t *testing.T) {
	b := newBounds(t)
	var all []digest.Descriptor
	for i := range 40 {
		all = append(all, aged(t, b.s, fmt.Sprint("table ", i)))
		path, err := b.s.BlobPath(all[i].Digest)
		require.NoError(t, err)
		used := time.Now().Add(-time.Duration(1000-i) * 24 * time.Hour)
		require.NoError(t, os.Chtimes(path, used, used))
	}
	require.True(t, b.s.Has(all[3]))
	named := map[digest.Digest]bool{all[0].Digest: true}
	oldest, err := b.s.oldestUse()
	require.NoError(t, err)
	ended, end := context.WithTimeout(t.Context(), -1)
	defer end()
	gone, _ := b.s.giveUpBlobs(ended, 1<<30, oldest, named)
	require.Empty(t, gone)
	gone, err = b.s.giveUpBlobs(t.Context(), 10*4*kB, oldest, named)
	require.NoError(t, err)
	require.Len(t, gone, 10)
	for i, desc := range all {
		require.Equal(t, i == 0 || i == 3 || i > 11, b.s.layoutHas(desc), i)
	}
}
