package filetree

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
)

// shows lists what a view shows; which names are one file is left out.
func shows(view *tree.View) (out []string) {
	view.Each(func(n *tree.Node) { out = append(out, string(n.AppendLine(nil))) })
	return out
}

// TestComplete: a foreign layer's entries become a tree that can lie in an overlay, and shows the same there.
func TestComplete(t *testing.T) {
	below := []tree.Entry{{Path: "tmp", Kind: tree.Folder, Mode: 0o1777}, treetest.Folder("d", 0o700), treetest.File("d/a", 0), treetest.File("base", 3), {Path: "way", Kind: tree.Symlink, Target: "d", Mode: 0o777}}
	for name, c := range map[string]struct {
		layer []tree.Entry
		want  []string
	}{
		"parents that are missing have what is below": {[]tree.Entry{treetest.File("tmp/x", 0)}, []string{"folder tmp", "file tmp/x"}},
		"a link to a lower layer's file is a file":    {[]tree.Entry{{Path: "d/again", Kind: tree.Hardlink, Target: "base"}}, []string{"folder d", "file d/again"}},
		"a link in the layer stays one": {[]tree.Entry{treetest.File("d/n", 0), {Path: "d/o", Kind: tree.Hardlink, Target: "d/n"}},
			[]string{"folder d", "file d/n", "hard link d/o"}},
		"deletions":                           {[]tree.Entry{{Path: "d/a", Kind: tree.Whiteout}}, []string{"folder d", "deletion d/a"}},
		"a deletion of what is nowhere":       {[]tree.Entry{{Path: "no/a", Kind: tree.Whiteout}}, nil},
		"replaced: the new thing hides":       {[]tree.Entry{{Path: "base", Kind: tree.Whiteout}, treetest.File("base", 0)}, []string{"file base"}},
		"a folder deleted and made anew":      {[]tree.Entry{{Path: "d", Kind: tree.Whiteout}, treetest.Folder("d", 0o755)}, []string{"folder d", "opaque folder d"}},
		"opaque":                              {[]tree.Entry{treetest.Folder("d", 0o755), {Path: "d", Kind: tree.Opaque}, treetest.File("d/n", 0)}, []string{"folder d", "opaque folder d", "file d/n"}},
		"through a link, which is replaced":   {[]tree.Entry{treetest.File("way/x", 0)}, []string{"folder way", "file way/x"}},
		"a link and something in it, as both": {[]tree.Entry{{Path: "k", Kind: tree.Symlink, Target: "/etc", Mode: 0o777}, treetest.File("k/x", 0)}, []string{"folder k", "file k/x"}},
	} {
		after := treetest.View(t, below, c.layer)
		got, _ := complete(&Archive{Entries: c.layer}, after)
		require.Equal(t, c.want, treetest.Paths(got), name)
		// Laid over the same view it shows the same.
		require.Equal(t, shows(after), shows(treetest.View(t, below, got)), name)
		if len(got) > 0 && got[0].Path == "tmp" {
			require.EqualValues(t, 0o1777, got[0].Mode)
		}
	}
}

// TestOpaqueRoot: a layer that hides all below it does so in a view and in what lies unpacked alike.
func TestOpaqueRoot(t *testing.T) {
	layers := [][]tree.Entry{{treetest.Folder("d", 0o755), treetest.File("d/a", 0)}, {{Kind: tree.Opaque}, treetest.File("b", 0)}, {treetest.File("c", 0)}}
	var archives []*Archive
	for _, entries := range layers {
		archives = append(archives, &Archive{Entries: entries})
	}
	view := tree.NewView()
	for _, s := range Stratify("slim:4", archives) {
		entries, err := s.Entries(t.Context())
		require.NoError(t, err)
		require.NoError(t, view.Apply(slices.DeleteFunc(slices.Clone(entries), func(e tree.Entry) bool { return e.Kind == tree.Opaque && e.Path == "" }), archives[0]))
	}
	require.Equal(t, shows(treetest.View(t, layers...)), shows(view))
}
