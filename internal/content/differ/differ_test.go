package differ

import (
	"fmt"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
	"imbricat/internal/content/weight"
	"imbricat/internal/ground/digest"
)

// imageOf makes an image of layers, which are named after what made them.
func imageOf(config v1.Image, layers ...[]tree.Entry) *Image {
	i := &Image{Config: &config}
	for n, entries := range layers {
		index := &layer.Indexed{Entries: entries, Unpacked: int64(1000 * (n + 1))}
		i.Layers = append(i.Layers, weight.Layer{Size: int64(100 * (n + 1)), Index: index, Step: fmt.Sprint("step ", n+1)})
		i.Digests = append(i.Digests, digest.FromBytes(index.Encode()))
	}
	return i
}

func file(p, text string) tree.Entry {
	return tree.Entry{Path: p, Kind: tree.File, Mode: 0o644, Size: int64(len(text)), Content: digest.ContentBytes([]byte(text))}
}

func with(e tree.Entry, change func(e *tree.Entry)) tree.Entry {
	change(&e)
	return e
}

// TestBetween: each way in which a path can differ is told as that, with the step that made it so.
func TestBetween(t *testing.T) {
	base := []tree.Entry{file("a/same", "same"), file("a/was", "was"), file("a/x", "x"), treetest.Folder("empty", 0o755)}
	second := file("b/owned", "o")
	link := tree.Entry{Path: "b/link", Kind: tree.Symlink, Mode: 0o777, Target: "one"}
	node := tree.Entry{Path: "b/node", Kind: tree.CharDevice, Mode: 0o600, Major: 1, Minor: 3}
	twin := tree.Entry{Path: "b/twin", Kind: tree.Hardlink, Target: "b/owned"}
	first := imageOf(v1.Image{Config: v1.ImageConfig{User: "tide", Env: []string{"A=1", "B="}, Labels: map[string]string{"moon": "new"}}},
		base, []tree.Entry{file("b/kind", "k"), link, file("b/mode", "m"), node, second, twin, with(file("b/xattr", "x"), func(e *tree.Entry) { e.Xattrs = map[string]string{"user.a": "1"} })})
	other := imageOf(v1.Image{Config: v1.ImageConfig{Env: []string{"B=", "C="}, Labels: map[string]string{"moon": "full"}, ExposedPorts: map[string]struct{}{"80/tcp": {}}}},
		base, []tree.Entry{{Path: "a/was", Kind: tree.Whiteout}, file("a/x", "longer"), file("b/added", "new"), {Path: "b/kind", Kind: tree.Symlink, Mode: 0o777, Target: "k"},
			with(link, func(e *tree.Entry) { e.Target = "two" }), with(file("b/mode", "m"), func(e *tree.Entry) { e.Mode = 0o4755 }), with(node, func(e *tree.Entry) { e.Minor = 5 }),
			with(second, func(e *tree.Entry) { e.UID = 7 }), twin, file("b/xattr", "x")})
	d, err := Between(first, other)
	require.NoError(t, err)
	var got []string
	for _, f := range d.Files {
		got = append(got, fmt.Sprintf("%s %s %v %d %d %s, %s", f.What, f.Path, f.How, f.Was, f.Now, f.Detail, f.Step))
	}
	require.Equal(t, []string{
		"removed /a/was [] 3 0 , step 1",
		"changed /a/x [content] 1 6 , step 2",
		"added /b/added [] 0 3 , step 2",
		"changed /b/kind [kind mode] 1 0 kind file → link, mode 0644 → 0777, step 2",
		"changed /b/link [link] 0 0 link one → two, step 2",
		"changed /b/mode [mode] 1 1 mode 0644 → 4755, step 2",
		"changed /b/node [device] 0 0 device 1,3 → 1,5, step 2",
		"changed /b/owned [owner] 1 1 owner 0:0 → 7:0, step 2",
		"changed /b/twin [owner] 1 1 owner 0:0 → 7:0, step 2",
		"changed /b/xattr [attributes] 1 1 , step 2",
	}, got)
	require.Equal(t, map[string]int{Added: 1, Removed: 1, Changed: 8}, d.Counts)
	got = nil
	text := func(s *string) string {
		if s == nil {
			return "nothing"
		}
		return fmt.Sprintf("%q", *s)
	}
	for _, v := range d.Settings {
		got = append(got, fmt.Sprintf("%s %s %s %s", v.What, v.Name, text(v.Was), text(v.Now)))
	}
	require.Equal(t, []string{`removed env A "1" nothing`, `added env C nothing ""`, `changed label moon "new" "full"`, `added port 80/tcp nothing "yes"`, `removed user "tide" nothing`}, got)
	require.False(t, d.Same)
	require.Equal(t, []string{"both", "second", "first"}, []string{d.Layers[0].In, d.Layers[1].In, d.Layers[2].In})
	require.Equal(t, [2]int64{200, 2000}, [2]int64{d.Fetched, d.Unpacked})
	require.Equal(t, [2]weight.Bytes{{Packed: 300, Unpacked: 4 + 3 + 1 + 1 + 1 + 1 + 1, Files: 7}, {Packed: 300, Unpacked: 4 + 6 + 3 + 1 + 1 + 1, Files: 6}}, d.Totals, "of two names of a file one counts")
	require.Equal(t, Folder{"/a", 8, 10}, d.Folders[1])
	same, err := Between(first, first)
	require.NoError(t, err)
	require.True(t, same.Same)
	require.Empty(t, same.Files)
}
