package filetree

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
)

// TestAbove: over whatever lies below, trees with what must lie on them show what the other tree shows, and no less often than
// where something below would have to show through.
func TestAbove(t *testing.T) {
	exist := 0
	for seed := range 20000 {
		r := rand.New(rand.NewPCG(uint64(seed), 21))
		plain := func() []tree.Entry {
			return slices.DeleteFunc(treetest.Layer(r, seed+r.IntN(2)), func(e tree.Entry) bool { return e.Kind == tree.Whiteout || e.Kind == tree.Opaque })
		}
		lower, whole := treetest.Layer(r, 3), plain()
		trees := [][]tree.Entry{plain()}
		there := byPath(lower)
		below := func(p string) bool { return there[p] != nil }
		for range r.IntN(3) { // what lies on it makes other trees of it
			if above, exists := Above(trees, plain(), below); exists && len(above) > 0 {
				trees = append(trees, above)
			}
		}
		above, exists := Above(trees, whole, below)
		if !exists {
			continue
		}
		exist++
		want, err := treetest.Flat(lower, whole)
		require.NoError(t, err)
		got, err := treetest.Flat(append(append([][]tree.Entry{lower}, trees...), above)...)
		require.NoError(t, err)
		require.Equal(t, want, got, "seed %d: %v on %v\n%v", seed, treetest.Paths(above), treetest.Paths(lower), trees)
		again, exists := Above(append(trees, above), whole, below)
		require.True(t, exists, "seed %d", seed)
		require.Empty(t, again, "seed %d", seed)
		require.True(t, len(above) == 0 || isComplete(slices.DeleteFunc(slices.Clone(above), func(e tree.Entry) bool { return e.Kind == tree.Whiteout || e.Kind == tree.Hardlink })), "seed %d", seed)
	}
	require.Greater(t, exist, 5000)
}
