package local

import (
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/engine/sandbox/folder"
)

// TestSettle: what the overlay notes becomes entries that hold for themselves.
func TestSettle(t *testing.T) {
	view := treetest.View(t, []tree.Entry{treetest.Folder("d", 0o755), treetest.File("d/a", 0), treetest.Folder("d/sub", 0o755), treetest.File("d/sub/b", 0), treetest.File("f", 7), {Path: "l", Kind: tree.Symlink, Target: "f", UID: 7, Mode: 0o777},
		{Path: "g", Kind: tree.Folder, Mode: 0o2755, GID: 50}})
	found := func(list ...folder.Found) []folder.Found { return list }
	top := folder.Found{Entry: treetest.Folder("", 0o755)}
	entries, mend, _, err := normalizeUpper(view, found(top, folder.Found{Entry: tree.Entry{Path: "gone", Kind: tree.Whiteout}}, folder.Found{Entry: tree.Entry{Path: "f", Kind: tree.Whiteout}}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"deletion f"}, treetest.Paths(entries), "the root as it was, and a deletion of nothing, are left out")
	require.Equal(t, []string{"gone"}, mend.Drop)

	entries, mend, replaced, err := normalizeUpper(view, found(top, folder.Found{Entry: treetest.Folder("d", 0o755), Opaque: true}, folder.Found{Entry: treetest.Folder("d/sub", 0o755)}, folder.Found{Entry: treetest.File("d/new", 0)}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"folder d", "deletion d/a", "folder d/sub", "deletion d/sub/b", "file d/new"}, treetest.Paths(entries), "a folder made anew deletes what it hides, at any depth")
	require.Equal(t, []string{"d"}, mend.Show)
	require.Equal(t, []string{"d", "d/sub"}, replaced, "their listings are inputs")
	require.Equal(t, []string{"d/a", "d/sub/b"}, mend.Hide)

	entries, _, _, err = normalizeUpper(view, found(folder.Found{Entry: treetest.Folder("", 0o700)}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"folder "}, treetest.Paths(entries), "a changed root is told")

	// With one id owners come from the view, and what cannot be known is an error.
	for what, c := range map[string]struct {
		found folder.Found
		uid   int
		err   string
	}{
		"copied up":             {folder.Found{Entry: treetest.File("f", 0), CopiedUp: true}, 7, ""},
		"made anew":             {folder.Found{Entry: treetest.File("f", 0)}, 0, ""},
		"the same link":         {folder.Found{Entry: tree.Entry{Path: "l", Kind: tree.Symlink, Target: "f", Mode: 0o777}}, 7, ""},
		"moved":                 {folder.Found{Entry: treetest.File("h", 0), CopiedUp: true}, 0, "moved from elsewhere"},
		"in a set-gid folder":   {folder.Found{Entry: treetest.File("g/n", 0)}, 0, "gives its group 50"},
		"elsewhere, as before":  {folder.Found{Entry: treetest.File("n", 0)}, 0, ""},
		"the folder passed":     {folder.Found{Entry: tree.Entry{Path: "g", Kind: tree.Folder, Mode: 0o2755}, CopiedUp: true}, 0, ""},
		"a file for a folder":   {folder.Found{Entry: treetest.File("d", 0), CopiedUp: true}, 0, "moved from elsewhere"},
		"the root is always ok": {folder.Found{Entry: treetest.Folder("", 0o755), CopiedUp: true}, 0, ""},
	} {
		list := found(c.found)
		entries, _, _, err := normalizeUpper(view, list, true)
		if c.err != "" {
			var unable *sandbox.UnableError
			require.ErrorAs(t, err, &unable, what)
			require.Contains(t, unable.What, c.err, what)
			continue
		}
		require.NoError(t, err, what)
		if len(entries) > 0 {
			require.Equal(t, c.uid, entries[0].UID, what)
		}
	}
}

// TestWithoutLent: nothing that a command did to what is lent to it is left, and what it did beside that is.
func TestWithoutLent(t *testing.T) {
	f, d, x := treetest.File, treetest.Folder, func(p string) tree.Entry { return tree.Entry{Path: p, Kind: tree.Whiteout} }
	for what, c := range map[string]struct {
		lent       executor.Lent
		entries    []tree.Entry
		left, gone []string
		changed    string
	}{
		"nothing":                                   {executor.Lent{At: "/a/b", New: "/a"}, []tree.Entry{f("ab", 0)}, []string{"file ab"}, nil, ""},
		"what is new in it":                         {executor.Lent{At: "/a/b", New: "/a", Writable: true}, []tree.Entry{d("a", 0o755), d("a/b", 0o755), f("a/b/c", 0), f("z", 0)}, []string{"file z"}, []string{"a/b", "a/b/c", "a"}, ""},
		"what is new beside it":                     {executor.Lent{At: "/a/b/c", New: "/a", Writable: true}, []tree.Entry{d("a", 0o755), d("a/b", 0o755), f("a/b/c", 0), f("a/own", 0)}, []string{"folder a", "file a/own"}, []string{"a/b/c", "a/b"}, ""},
		"a folder that was there":                   {executor.Lent{At: "/a/b", New: "/a/b", Writable: true}, []tree.Entry{d("a", 0o700), x("a/b/c")}, []string{"folder a"}, []string{"a/b/c"}, ""},
		"itself was there":                          {executor.Lent{At: "/a/b", Writable: true}, []tree.Entry{d("a", 0o755), x("a/b")}, []string{"folder a"}, []string{"a/b"}, ""},
		"deleted with what is above, which is new":  {executor.Lent{At: "/a/b", New: "/a", Writable: true}, []tree.Entry{x("a")}, nil, []string{"a"}, ""},
		"deleted with what is above, which was not": {executor.Lent{At: "/a/b", New: "/a/b", Writable: true}, []tree.Entry{x("a")}, []string{"deletion a"}, nil, ""},
		"read-only":                                 {executor.Lent{At: "/a/b", New: "/a"}, []tree.Entry{d("a", 0o755), d("a/b", 0o755), f("a/b/c", 0)}, nil, nil, "it changed /a/b/c, and /a/b is lent"},
		"read-only, the folder itself":              {executor.Lent{At: "/a/b", New: "/a"}, []tree.Entry{d("a/b", 0o700)}, nil, nil, "it changed /a/b, and"},
		"read-only, with what lies above":           {executor.Lent{At: "/a/b", New: "/a"}, []tree.Entry{x("a")}, nil, nil, "it changed /a, and"},
		"read-only, beside it":                      {executor.Lent{At: "/a/b", New: "/a"}, []tree.Entry{d("a", 0o755), f("a/c", 0)}, []string{"folder a", "file a/c"}, nil, ""},
	} {
		left, gone, err := withoutLent([]executor.Lent{c.lent}, c.entries)
		if c.changed != "" {
			require.ErrorContains(t, err, c.changed, what)
			continue
		}
		require.NoError(t, err, what)
		require.Equal(t, c.left, treetest.Paths(left), what)
		require.Equal(t, c.gone, gone, what)
	}
}
