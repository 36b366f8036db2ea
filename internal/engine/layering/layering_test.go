package layering

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/recipe"
)

// TestDividedStepsGiveTheSameTree: steps laid together, divided in any way and stacked in any order, over any base.
func TestDividedStepsGiveTheSameTree(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 3))
	for n := range 5000 {
		base := treetest.Layer(r, n)
		var steps []Piece
		all := [][]tree.Entry{base}
		for range 1 + r.IntN(4) {
			entries := treetest.Layer(r, n*10+len(steps)+1)
			steps = append(steps, Piece{Outcome: &step.Outcome{Tree: filetree.New(entries, nil), Task: event.Task{Label: fmt.Sprint(len(steps))}}})
			all = append(all, entries)
		}
		l := mergeLayers(all[1:], hintsOf(recipe.Stack{}))
		l.steps = steps
		parts := make([][]int, 1+r.IntN(4))
		for i := range l.items {
			at := r.IntN(len(parts))
			parts[at] = append(parts[at], i)
		}
		parts = slices.DeleteFunc(parts, func(p []int) bool { return len(p) == 0 })
		layers := l.layersOf("", parts)
		r.Shuffle(len(layers), func(i, j int) { layers[i], layers[j] = layers[j], layers[i] })
		divided := [][]tree.Entry{base}
		for _, layer := range layers {
			entries, err := layer.Tree.Entries(t.Context())
			require.NoError(t, err)
			divided = append(divided, entries)
		}
		want, err := treetest.Flat(all...)
		require.NoError(t, err)
		got, err := treetest.Flat(divided...)
		require.NoError(t, err)
		require.Equal(t, want, got, "steps %v\nlayers %v", all, divided)
	}
}

// TestPublishedLayerIsItself: a layer that stays as it was published is none that is packed now, though both hold the same.
func TestPublishedLayerIsItself(t *testing.T) {
	of := filetree.New([]tree.Entry{{Path: "a", Kind: tree.Folder, Mode: 0o755}}, nil)
	packed, published := &Layer{Tree: of}, &Layer{Tree: of, Published: &store.Record{Layer: digest.Descriptor{Digest: "sha256:1"}}}
	require.Equal(t, packed.Key(), published.Key())
	require.NotEqual(t, packed.ID(), published.ID())
}
