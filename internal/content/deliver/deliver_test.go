package deliver_test

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/deliver"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
	"imbricat/internal/ground/digest"
)

func file(path, text string, mode uint32) tree.Entry {
	return tree.Entry{Path: path, Kind: tree.File, Mode: mode, Size: int64(len(text)), Content: digest.ContentBytes([]byte(text))}
}

// texts gives files by their paths.
func texts(entries []tree.Entry, all map[string]string) *filetree.Tree {
	places := map[string]filetree.Place{}
	for path, text := range all {
		places[path] = filetree.Place{From: filetree.Memory(text)}
	}
	return filetree.New(entries, places)
}

// TestInto: what is equal is left alone, what differs is replaced, and modes are those of the tree without special bits.
func TestInto(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a", "bin")
	of := func(level string) *filetree.Tree {
		return texts([]tree.Entry{
			{Path: "tables", Kind: tree.Folder, Mode: 0o2550},
			file("tables/level", level, 0o4755), file("tide", "moon", 0o640),
			{Path: "again", Kind: tree.Hardlink, Target: "tide"},
			{Path: "link", Kind: tree.Symlink, Mode: 0o777, Target: "tables/level"},
		}, map[string]string{"tables/level": level, "tide": "moon"})
	}
	made, err := deliver.Into(t.Context(), dir, of("3.42"))
	require.NoError(t, err)
	require.Equal(t, deliver.Report{Files: 4, Bytes: 8, Written: 4}, *made)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "own"), []byte("a person's"), 0o600))
	long := time.Now().Add(-time.Hour).Truncate(time.Second)
	for _, name := range []string{"tables/level", "tide"} {
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), long, long))
	}
	mode := func(name string) fs.FileMode {
		info, err := os.Lstat(filepath.Join(dir, name))
		require.NoError(t, err)
		return info.Mode()
	}
	require.Equal(t, fs.ModeDir|0o750, mode("tables"))
	require.Equal(t, fs.FileMode(0o755), mode("tables/level"))
	require.Equal(t, fs.FileMode(0o640), mode("tide"))
	require.NoError(t, os.Chmod(filepath.Join(dir, "tide"), 0o600))

	made, err = deliver.Into(t.Context(), dir, of("3.57"))
	require.NoError(t, err)
	require.Equal(t, deliver.Report{Files: 4, Bytes: 8, Written: 1, Unchanged: 3}, *made)
	require.Equal(t, fs.FileMode(0o640), mode("tide"), "also of a file that is equal")
	text, err := os.ReadFile(filepath.Join(dir, "link"))
	require.NoError(t, err)
	require.Equal(t, "3.57", string(text))
	info, err := os.Stat(filepath.Join(dir, "tide"))
	require.NoError(t, err)
	require.True(t, info.ModTime().Equal(long), "make would take it for newer")
	other, err := os.Stat(filepath.Join(dir, "again"))
	require.NoError(t, err)
	require.True(t, os.SameFile(info, other))
	names, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.Len(t, names, 5, "what else is there stays, and no temporary file does: %v", names)
}

// TestIntoRefuses: nothing is written through links of the folder, over what is of another kind, or that is not what it should be.
func TestIntoRefuses(t *testing.T) {
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "level"), []byte("4.01"), 0o600))
	one := texts([]tree.Entry{{Path: "tables", Kind: tree.Folder, Mode: 0o755}, file("tables/level", "3.42", 0o644)}, map[string]string{"tables/level": "3.42"})
	for name, c := range map[string]struct {
		prepare func(dir string) error
		tree    *filetree.Tree
		want    string
	}{
		"a link to a folder outside": {func(dir string) error { return os.Symlink(outside, filepath.Join(dir, "tables")) }, one, "tables: it is a link or a special file, and a folder is to lie there"},
		"a link to a folder inside": {func(dir string) error {
			return os.Symlink(".", filepath.Join(dir, "tables"))
		}, one, "tables: it is a link"},
		"a file":   {func(dir string) error { return os.WriteFile(filepath.Join(dir, "tables"), nil, 0o600) }, one, "tables: it is a file, and a folder is to lie there: move it away"},
		"a folder": {func(dir string) error { return os.MkdirAll(filepath.Join(dir, "tables/level"), 0o755) }, one, "level: it is a folder, and a file is to lie there"},
		"a path that leads out": {func(string) error { return nil }, texts([]tree.Entry{file("../level", "3.42", 0o644)}, map[string]string{"../level": "3.42"}),
			"level: it leads out of the folder"},
		"other bytes": {func(string) error { return nil }, texts([]tree.Entry{file("level", "3.42", 0o644)}, map[string]string{"level": "3.43"}), digest.ErrMismatch.Error()},
		"a device":    {func(string) error { return nil }, texts([]tree.Entry{{Path: "null", Kind: tree.CharDevice}}, nil), "null: it would be a"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, c.prepare(dir))
			_, err := deliver.Into(t.Context(), dir, c.tree)
			require.ErrorContains(t, err, c.want)
			text, err := os.ReadFile(filepath.Join(outside, "level"))
			require.NoError(t, err)
			require.Equal(t, "4.01", string(text))
			left, err := filepath.Glob(filepath.Join(dir, "*.imbricat-*"))
			require.NoError(t, err)
			require.Empty(t, left)
		})
	}
	// A link at the place of a file is replaced, and what it leads to stays.
	dir := t.TempDir()
	require.NoError(t, os.Symlink(filepath.Join(outside, "level"), filepath.Join(dir, "level")))
	_, err := deliver.Into(t.Context(), dir, texts([]tree.Entry{file("level", "3.42", 0o644)}, map[string]string{"level": "3.42"}))
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(outside, "level"))
	require.NoError(t, err)
	require.Equal(t, "4.01", string(text))
}

// TestIntoAtOnce: several deliveries into one folder do not hinder each other.
func TestIntoAtOnce(t *testing.T) {
	dir := t.TempDir()
	var entries []tree.Entry
	all := map[string]string{}
	for n := range 40 {
		folder := fmt.Sprintf("d%02d", n)
		entries = append(entries, tree.Entry{Path: folder, Kind: tree.Folder, Mode: 0o755}, file(folder+"/level", folder, 0o644))
		all[folder+"/level"] = folder
	}
	made := texts(entries, all)
	group, ctx := errgroup.WithContext(t.Context())
	for range 8 {
		group.Go(func() error {
			_, err := deliver.Into(ctx, dir, made)
			return err
		})
	}
	require.NoError(t, group.Wait())
	for path, text := range all {
		got, err := os.ReadFile(filepath.Join(dir, path))
		require.NoError(t, err)
		require.Equal(t, text, string(got))
	}
}

// TestIntoAgain: random trees laid over each other give what the last one has, and the same one again writes nothing.
func TestIntoAgain(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 24))
	for n := range 200 {
		dir := t.TempDir()
		entries := treetest.Layer(r, n)
		all := map[string]string{}
		var kept []tree.Entry
		for _, e := range entries {
			if e.Kind == tree.File {
				all[e.Path] = e.Path
				e = file(e.Path, e.Path, e.Mode|0o400)
			}
			if e.Kind == tree.File || e.Kind == tree.Folder || e.Kind == tree.Symlink {
				kept = append(kept, e)
			}
		}
		made := texts(kept, all)
		_, err := deliver.Into(t.Context(), dir, made)
		require.NoError(t, err, "%v", kept)
		again, err := deliver.Into(t.Context(), dir, made)
		require.NoError(t, err)
		require.Zero(t, again.Written)
		require.Equal(t, again.Files, again.Unchanged)
		for path, text := range all {
			got, err := os.ReadFile(filepath.Join(dir, path))
			require.NoError(t, err)
			require.Equal(t, text, string(got))
		}
	}
}
