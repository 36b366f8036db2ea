package tree_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
)

func flat(t *testing.T, layers ...[]tree.Entry) string {
	text, err := treetest.Flat(layers...)
	require.NoError(t, err)
	return text
}

// TestSquashedLayersDoWhatTheyDidOneByOne: over any base.
func TestSquashedLayersDoWhatTheyDidOneByOne(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for n := range 20_000 {
		base := treetest.Layer(r, n)
		var layers [][]tree.Entry
		for range 1 + r.IntN(4) {
			layers = append(layers, treetest.Layer(r, n*10+len(layers)+1))
		}
		squashed := tree.Squash(layers)
		one := make([]tree.Entry, len(squashed))
		for i, s := range squashed {
			one[i] = s.Entry
			if s.Kind == tree.File {
				at := slices.IndexFunc(layers[s.Layer], func(e tree.Entry) bool { return e.Path == s.At && e.Kind == tree.File })
				require.GreaterOrEqual(t, at, 0, "a file says where its bytes are")
				require.Equal(t, s.Content, layers[s.Layer][at].Content)
			}
		}
		require.True(t, slices.IsSortedFunc(one, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) }))
		want := flat(t, append([][]tree.Entry{base}, layers...)...)
		require.Equal(t, want, flat(t, base, one), "base %v\nlayers %v\nsquashed %v", base, layers, one)
		alone, above := tree.Squash([][]tree.Entry{one}), tree.Squash([][]tree.Entry{nil, one})
		for i := range alone {
			require.Equal(t, one[i], alone[i].Entry, "what is squashed stays as it is")
			above[i].Layer = 0
		}
		require.Equal(t, alone, above, "in whatever way")
	}
}

// TestLayersThatCommuteGiveTheSameTree: in any order that keeps apart only what does not commute, over any base.
func TestLayersThatCommuteGiveTheSameTree(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	swapped := 0
	for n := range 20_000 {
		base := treetest.Layer(r, n)
		var layers [][]tree.Entry
		var reach []*tree.Reach
		for range 2 + r.IntN(3) {
			l := treetest.Layer(r, n*10+len(layers)+1)
			layers, reach = append(layers, l), append(reach, tree.ReachOf(l))
		}
		want := flat(t, append([][]tree.Entry{base}, layers...)...)
		// A random walk over allowed orders.
		for range 6 {
			i := r.IntN(len(layers) - 1)
			if !reach[i].Commutes(reach[i+1]) {
				continue
			}
			swapped++
			layers[i], layers[i+1] = layers[i+1], layers[i]
			reach[i], reach[i+1] = reach[i+1], reach[i]
			require.Equal(t, want, flat(t, append([][]tree.Entry{base}, layers...)...), "base %v\nlayers %v", base, layers)
		}
	}
	require.Greater(t, swapped, 5000)
}
