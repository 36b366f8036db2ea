package sources

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/content/census"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

func counter() *event.Counter { return event.Reporter{Sink: event.Discard}.Progress() }

// folderWith makes a store, and a folder with a file that holds its own name.
func folderWith(t *testing.T, name string) (*store.Store, string) {
	st, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644))
	return st, dir
}

// TestFilesThatChange: a file that changes while it is read is noticed; a small one is given once as it was when it was hashed.
func TestFilesThatChange(t *testing.T) {
	st, dir := folderWith(t, "one")
	large := strings.Repeat("high water", smallFile/10+1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "large"), []byte(large), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nothing"), nil, 0o644))
	source, err := tree.OpenSource(dir, tree.SourceOptions{})
	require.NoError(t, err)
	defer source.Close()
	survey, err := source.Pick("*", tree.PickOptions{})
	require.NoError(t, err)
	got, err := OpenMemory(st, dir, MemoryOptions{}).digests(context.Background(), source, survey.Picked, false, counter())
	require.NoError(t, err)
	for name, text := range map[string]string{"one": "one", "large": large, "nothing": ""} {
		require.Equal(t, digest.ContentBytes([]byte(text)), got.known[name].Content)
	}
	contents := &Contents{opener: source.Opener(), files: got.known, held: got.held}
	for _, name := range []string{"large", "one"} {
		r, err := contents.Open(name)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("3, and longer"), 0o644))
		if name == "large" {
			require.ErrorIs(t, r.Close(), layer.ErrChanged)
		} else {
			text, err := io.ReadAll(r)
			require.NoError(t, errors.Join(err, r.Close()))
			require.Equal(t, "one", string(text))
		}
		_, err = contents.Open(name)
		require.ErrorIs(t, err, layer.ErrChanged)
	}
}

// TestFilesWithoutSizes: what a file system gives no size of is read to its end, and found to have changed.
func TestFilesWithoutSizes(t *testing.T) {
	text, buffer, read := strings.Repeat("high water", 50_000), make([]byte, 128<<10), 0
	r := strings.NewReader(text)
	for {
		n, err := fill(r, buffer, int64(-read))
		require.Equal(t, text[read:read+n], string(buffer[:n]))
		read += n
		if err != nil {
			require.ErrorIs(t, err, io.EOF)
			break
		}
	}
	require.Len(t, text, read)
}

// TestHeld: no more is held than there is room for, and many files share a piece of memory without sharing bytes.
func TestHeld(t *testing.T) {
	room := &atomic.Int64{}
	room.Store(mostHeld)
	h, other := &held{room: room, files: map[string][]byte{}}, &held{room: room, files: map[string][]byte{}}
	one := slab{held: h}
	file := func(i int) []byte { return bytes.Repeat([]byte{byte(i)}, smallFile-i%3) }
	n := 0
	for ; n < mostHeld/smallFile+100; n++ {
		one.hold(fmt.Sprint(n), file(n))
	}
	one.hold("large", make([]byte, smallFile+1))
	another := slab{held: other}
	another.hold("other", file(0))
	require.Empty(t, other.files, "all selections of a build share the room")
	total := 0
	for i := range n {
		body, is := h.take(fmt.Sprint(i))
		if !is {
			continue
		}
		text, err := io.ReadAll(body)
		require.NoError(t, err)
		require.True(t, bytes.Equal(file(i), text), i)
		total += len(text)
	}
	require.EqualValues(t, mostHeld, room.Load(), "what is taken leaves its room")
	require.LessOrEqual(t, total, mostHeld)
	require.Greater(t, total, mostHeld/2)
	for _, path := range []string{"0", "large"} {
		_, is := h.take(path)
		require.False(t, is)
	}
}

// TestUnsettledFiles: what was written just now may be written again without a sign of that, and is not remembered.
func TestUnsettledFiles(t *testing.T) {
	for later, remembered := range map[time.Duration]bool{0: false, time.Hour: true} {
		st, dir := folderWith(t, "a")
		source, err := tree.OpenSource(dir, tree.SourceOptions{})
		require.NoError(t, err)
		memory := OpenMemory(st, dir, MemoryOptions{Now: func() time.Time { return time.Now().Add(later) }})
		project := NewProject(t.Context(), source, memory, &census.Classes{})
		picked, err := project.Pick(plan.Source{From: "a"})
		require.NoError(t, err)
		_, err = picked.Read(t.Context(), false, event.Reporter{Sink: event.Discard})
		require.NoError(t, err)
		require.Equal(t, remembered, picked.Settled())
		project.Save()
		_, known := OpenMemory(st, dir, MemoryOptions{}).recall("a")
		require.Equal(t, remembered, known)
		source.Close()
	}
}

// TestSettledBeforeItWasRead: a file counts as settled by the time before it was read.
func TestSettledBeforeItWasRead(t *testing.T) {
	st, dir := folderWith(t, "a")
	source, err := tree.OpenSource(dir, tree.SourceOptions{})
	require.NoError(t, err)
	defer source.Close()
	clock := time.Now()
	memory := OpenMemory(st, dir, MemoryOptions{Now: func() time.Time { clock = clock.Add(time.Hour); return clock.Add(-time.Hour) }})
	survey, err := source.Pick("a", tree.PickOptions{})
	require.NoError(t, err)
	got, err := memory.digests(t.Context(), source, survey.Picked, false, counter())
	require.NoError(t, err)
	require.False(t, got.settled)
}

// TestMemorySavesReading: an old file is hashed once; when the memory is gone or damaged it is hashed again.
func TestMemorySavesReading(t *testing.T) {
	st, dir := folderWith(t, "old")
	stat, zero := tree.Stat{Size: 3, ModTime: 1, Change: 1, Inode: 7}, digest.Content(strings.Repeat("0", 64))
	source, err := tree.OpenSource(dir, tree.SourceOptions{})
	require.NoError(t, err)
	defer source.Close()
	m := OpenMemory(st, dir, MemoryOptions{})
	m.seen["old"], m.seen["gone"], m.fresh = &remembered{stat, zero, "secret"}, &remembered{stat, zero, ""}, true
	m.Save(source)
	picked := []tree.Picked{{Path: "old", Kind: tree.File, Stat: stat}}
	got, err := OpenMemory(st, dir, MemoryOptions{}).digests(context.Background(), source, picked, false, counter())
	require.NoError(t, err)
	require.Equal(t, remembered{stat, zero, "secret"}, got.known.of("old"), "it was not read again")
	got, err = OpenMemory(st, dir, MemoryOptions{}).digests(context.Background(), source, picked, true, counter())
	require.NoError(t, err)
	require.Equal(t, digest.ContentBytes([]byte("old")), got.known["old"].Content, "asked for anew, it is read whatever is known")
	picked[0].Stat.Inode++
	again := OpenMemory(st, dir, MemoryOptions{})
	got, err = again.digests(context.Background(), source, picked, false, counter())
	require.NoError(t, err)
	require.Equal(t, digest.ContentBytes([]byte("old")), got.known["old"].Content)
	again.fresh = true
	again.Save(source)
	_, known := OpenMemory(st, dir, MemoryOptions{}).recall("gone")
	require.False(t, known, "files that are gone are forgotten")
	now := time.Now()
	require.True(t, tree.Stat{ModTime: 1, Change: 1}.Settled(now))
	require.False(t, tree.Stat{ModTime: 1, Change: now.UnixNano()}.Settled(now), "a time that is the clock's own counts as changed")
	require.False(t, tree.Stat{ModTime: now.Add(time.Hour).UnixNano(), Change: 1}.Settled(now))
	require.False(t, tree.Stat{ModTime: 1}.Settled(now), "a system without change times is not trusted")
}

// TestMemoryOnDisk: any names and numbers come back, and what is damaged makes an empty memory.
func TestMemoryOnDisk(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		known := byPath{}
		for range rapid.IntRange(0, 5).Draw(r, "files") {
			path := string(rapid.SliceOf(rapid.Byte()).Draw(r, "path"))
			known[path] = &remembered{tree.Stat{Size: rapid.Int64().Draw(r, "size"), ModTime: rapid.Int64().Draw(r, "time"),
				Change: rapid.Int64().Draw(r, "change"), Inode: rapid.Uint64().Draw(r, "inode")},
				digest.ContentBytes([]byte(path)), census.Class(rapid.SampledFrom([]string{"", "secret", "elf:arm64"}).Draw(r, "mark"))}
		}
		text := string(encodeMemory(known))
		require.Equal(r, known, decodeMemory(text))
		for _, damaged := range []string{"", "x" + text, text + "x\n", strings.Replace(text, " ", "  ", 4), text[:len(text)/2]} {
			for path, got := range decodeMemory(damaged) {
				require.Equal(r, known[path], got)
			}
		}
	})
}
