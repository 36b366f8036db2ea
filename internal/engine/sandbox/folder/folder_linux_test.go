package folder

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"

	"github.com/stretchr/testify/require"
)

// TestPlainCapability: a program's capabilities lose the user namespace in which they were set.
func TestPlainCapability(t *testing.T) {
	second := "\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"
	third := "\x01\x00\x00\x03" + second[4:] + "\xa0\x86\x01\x00"
	require.Equal(t, second, string(plainCapability([]byte(third))))
	require.Equal(t, second, string(plainCapability([]byte(second))))
}

// TestTouched: whatever somebody does to a folder after it was noted is found, with the size and the time left as they were too; what nobody
// touched is not, and what cannot be told is found rather than not.
func TestTouched(t *testing.T) {
	dir, marks := filepath.Join(t.TempDir(), "tree"), filepath.Join(t.TempDir(), "marks")
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	for _, name := range []string{"still", "low/level", "low/other", "gone", "mode"} {
		write(name, "3.42")
	}
	time.Sleep(20 * time.Millisecond) // what was written in the same tick of the clock is in doubt
	require.NoError(t, Reading{Dir: dir}.Note(marks))
	all := []string{"still", "low", "low/level", "low/other", "gone", "mode"}
	touched := func(paths ...string) (names []string) {
		found, err := Reading{Dir: dir, Before: marks}.Touched(paths)
		require.NoError(t, err)
		for _, f := range found {
			names = append(names, f.Path)
		}
		return names
	}
	require.Empty(t, touched(all...))
	at, err := os.Stat(filepath.Join(dir, "low/level"))
	require.NoError(t, err)
	write("low/level", "4.23")
	require.NoError(t, os.Chtimes(filepath.Join(dir, "low/level"), time.Time{}, at.ModTime()))
	require.NoError(t, os.Remove(filepath.Join(dir, "gone")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "mode"), 0o600))
	got := touched(all...)
	require.Contains(t, got, "low/level")
	require.Contains(t, got, "mode")
	require.NotContains(t, got, "still")
	require.NotContains(t, got, "low/other")
	require.NoError(t, os.WriteFile(marks, []byte("no marks"), 0o644))
	_, err = Reading{Dir: dir, Before: marks}.Touched(all)
	require.Error(t, err)
}

// TestLay: files of all sizes, more than a batch takes, get their contents, modes and times; of one that comes again the last stays, and
// what is missing, other or cut off is an error.
func TestLay(t *testing.T) {
	type piece struct {
		index int
		text  string
	}
	uid, gid := os.Getuid(), os.Getgid()
	entries := []tree.Entry{{Kind: tree.Folder, Mode: 0o755, UID: uid, GID: gid}, {Path: "low", Kind: tree.Folder, Mode: 0o750, UID: uid, GID: gid}}
	var stream []piece
	for i := range 700 {
		text := strings.Repeat(fmt.Sprint("tide ", i, "\n"), []int{0, 1, 300, 2000, 40_000}[i%5])
		entries = append(entries, tree.Entry{Path: fmt.Sprintf("low/level-%03d", i), Kind: tree.File, Mode: 0o444 + uint32(i%2)*0o311, Size: int64(len(text)),
			UID: uid, GID: gid, Time: int64(i) * 1000, Content: digest.ContentBytes([]byte(text))})
		stream = append(stream, piece{i + 2, text})
	}
	lay := func(dir string, stream []piece, cut int) error {
		in, lines := &bytes.Buffer{}, tree.EncodeEntries(entries)
		number := func(n uint64) { require.NoError(t, binary.Write(in, binary.LittleEndian, n)) }
		number(uint64(len(lines)))
		in.Write(lines)
		for _, p := range stream {
			number(uint64(p.index))
			number(uint64(len(p.text)))
			in.WriteString(p.text)
		}
		number(EndOfFiles)
		in.Truncate(in.Len() - cut)
		return Laying{Dir: dir, Time: 7}.Lay(in)
	}
	first := stream[3]
	again := []piece{{first.index, strings.Repeat("older", 100_000)}}
	for _, p := range stream {
		again = append(again, piece{p.index, strings.Repeat("older", 2000)}, p)
	}
	for range 2 { // which goroutine writes what is left to chance
		dir := filepath.Join(t.TempDir(), "tree")
		require.NoError(t, lay(dir, again, 0))
		for _, p := range stream {
			e := entries[p.index]
			text, err := os.ReadFile(filepath.Join(dir, e.Path))
			require.NoError(t, err)
			require.True(t, string(text) == p.text, e.Path)
			info, err := os.Stat(filepath.Join(dir, e.Path))
			require.NoError(t, err)
			require.EqualValues(t, e.Mode, info.Mode().Perm(), e.Path)
			require.Equal(t, cmp.Or(e.Time, 7), info.ModTime().Unix(), e.Path)
		}
	}
	for name, one := range map[string]struct {
		stream []piece
		cut    int
		is     string
	}{
		"other":    {append(slices.Clone(stream), piece{first.index, "a newer one"}), 0, "level-003: " + digest.ErrMismatch.Error()},
		"missing":  {stream[1:], 0, "level-000: " + digest.ErrMismatch.Error()},
		"cut off":  {stream, 9, "laying down"},
		"no file":  {[]piece{{1, "3.42"}}, 0, "entry 1 is not a file"},
		"no entry": {[]piece{{702, "3.42"}}, 0, "entry 702 is not a file"},
	} {
		require.ErrorContains(t, lay(filepath.Join(t.TempDir(), "tree"), one.stream, one.cut), one.is, name)
	}
	// A file that cannot be made ends it, whoever was to write it.
	dir := filepath.Join(t.TempDir(), "tree")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "low/level-301"), 0o755))
	require.ErrorContains(t, lay(dir, stream, 0), "level-301")
}
