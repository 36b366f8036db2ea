package local

import (
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/digest"
	"imbricat/internal/filetree"
	"imbricat/internal/sandbox"
	"imbricat/internal/tree"
)

func folder(p string, mode uint32) tree.Entry {
	return tree.Entry{Path: p, Kind: tree.Folder, Mode: mode}
}

func fileOf(p string, uid int) tree.Entry {
	return tree.Entry{Path: p, Kind: tree.File, Mode: 0o644, UID: uid, Size: 1, Content: digest.ContentBytes([]byte(p))}
}

func viewOf(t *testing.T, layers ...[]tree.Entry) *tree.View {
	view := tree.NewView()
	for _, entries := range layers {
		require.NoError(t, view.Apply(entries, filetree.Memory("x")))
	}
	return view
}

func paths(entries []tree.Entry) (out []string) {
	for _, e := range entries {
		out = append(out, e.Kind.String()+" "+e.Path)
	}
	return out
}

// TestSettle: what the overlay notes becomes entries that hold for themselves.
func TestSettle(t *testing.T) {
	view := viewOf(t, []tree.Entry{folder("d", 0o755), fileOf("d/a", 0), folder("d/sub", 0o755), fileOf("d/sub/b", 0), fileOf("f", 7), {Path: "l", Kind: tree.Symlink, Target: "f", UID: 7, Mode: 0o777},
		{Path: "g", Kind: tree.Folder, Mode: 0o2755, GID: 50}})
	found := func(list ...sandbox.Found) []sandbox.Found { return list }
	top := sandbox.Found{Entry: folder("", 0o755)}
	entries, mend, _, err := settle(view, found(top, sandbox.Found{Entry: tree.Entry{Path: "gone", Kind: tree.Whiteout}}, sandbox.Found{Entry: tree.Entry{Path: "f", Kind: tree.Whiteout}}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"deletion f"}, paths(entries), "the root as it was, and a deletion of nothing, are left out")
	require.Equal(t, []string{"gone"}, mend.Drop)

	entries, mend, replaced, err := settle(view, found(top, sandbox.Found{Entry: folder("d", 0o755), Opaque: true}, sandbox.Found{Entry: folder("d/sub", 0o755)}, sandbox.Found{Entry: fileOf("d/new", 0)}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"folder d", "deletion d/a", "folder d/sub", "deletion d/sub/b", "file d/new"}, paths(entries), "a folder made anew deletes what it hides, at any depth")
	require.Equal(t, []string{"d"}, mend.Show)
	require.Equal(t, []string{"d", "d/sub"}, replaced, "their listings are inputs")
	require.Equal(t, []string{"d/a", "d/sub/b"}, mend.Hide)

	entries, _, _, err = settle(view, found(sandbox.Found{Entry: folder("", 0o700)}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"folder "}, paths(entries), "a changed root is told")

	// With one id owners come from the view, and what cannot be known is an error.
	for what, c := range map[string]struct {
		found sandbox.Found
		uid   int
		err   string
	}{
		"copied up":             {sandbox.Found{Entry: fileOf("f", 0), CopiedUp: true}, 7, ""},
		"made anew":             {sandbox.Found{Entry: fileOf("f", 0)}, 0, ""},
		"the same link":         {sandbox.Found{Entry: tree.Entry{Path: "l", Kind: tree.Symlink, Target: "f", Mode: 0o777}}, 7, ""},
		"moved":                 {sandbox.Found{Entry: fileOf("h", 0), CopiedUp: true}, 0, "moved from elsewhere"},
		"in a set-gid folder":   {sandbox.Found{Entry: fileOf("g/n", 0)}, 0, "gives its group 50"},
		"elsewhere, as before":  {sandbox.Found{Entry: fileOf("n", 0)}, 0, ""},
		"the folder passed":     {sandbox.Found{Entry: tree.Entry{Path: "g", Kind: tree.Folder, Mode: 0o2755}, CopiedUp: true}, 0, ""},
		"a file for a folder":   {sandbox.Found{Entry: fileOf("d", 0), CopiedUp: true}, 0, "moved from elsewhere"},
		"the root is always ok": {sandbox.Found{Entry: folder("", 0o755), CopiedUp: true}, 0, ""},
	} {
		list := found(c.found)
		entries, _, _, err := settle(view, list, true)
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
