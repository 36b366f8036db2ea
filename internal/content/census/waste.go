package census

import (
	"slices"
	"strings"

	"imbricat/internal/content/tree"
)

// Hidden is a file of a layer that a layer above it replaces or deletes.
type Hidden struct {
	Path string
	Size int64
}

// Waste returns what layers hold that layers above them hide, the largest first.
func Waste(layers [][]tree.Entry) (list []Hidden) {
	// An entry is seen where laying all layers together takes it from its own layer.
	seen := map[[2]any]bool{}
	for _, one := range tree.Squash(layers) {
		seen[[2]any{one.Layer, one.At}] = true
	}
	for l, entries := range layers {
		for i := range entries {
			if e := &entries[i]; e.Kind == tree.File && e.Size > 0 && !seen[[2]any{l, e.Path}] {
				list = append(list, Hidden{"/" + e.Path, e.Size})
			}
		}
	}
	slices.SortFunc(list, func(a, b Hidden) int {
		if a.Size != b.Size {
			return int(min(max(b.Size-a.Size, -1), 1))
		}
		return strings.Compare(a.Path, b.Path)
	})
	return list
}
