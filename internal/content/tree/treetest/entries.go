package treetest

import (
	"io"
	"strings"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Folder is a folder of root's.
func Folder(p string, mode uint32) tree.Entry {
	return tree.Entry{Path: p, Kind: tree.Folder, Mode: mode}
}

// File is a file of one byte, whose content is named after its path.
func File(p string, uid int) tree.Entry {
	return tree.Entry{Path: p, Kind: tree.File, Mode: 0o644, UID: uid, Size: 1, Content: digest.ContentBytes([]byte(p))}
}

// View lays layers on each other.
func View(t require.TestingT, layers ...[]tree.Entry) *tree.View {
	view := tree.NewView()
	for _, entries := range layers {
		require.NoError(t, view.Apply(entries, contents{}))
	}
	return view
}

type contents struct{}

// Open returns a file of one byte.
func (contents) Open(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("x")), nil }

// Paths lists entries by kind and path.
func Paths(entries []tree.Entry) (out []string) {
	for _, e := range entries {
		out = append(out, e.Kind.String()+" "+e.Path)
	}
	return out
}
