package census

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
)

// TestWasteAddsUp: whatever the layers, what is seen and what is hidden is all there is.
func TestWasteAddsUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		seed := rapid.Uint64().Draw(t, "seed")
		r := rand.New(rand.NewPCG(seed, 1))
		var layers [][]tree.Entry
		for n := range 1 + r.IntN(4) {
			layers = append(layers, treetest.Layer(r, n))
		}
		var all, hidden, seen int64
		for _, l := range layers {
			for i := range l {
				if l[i].Kind == tree.File {
					all += l[i].Size
				}
			}
		}
		for _, h := range Waste(layers) {
			hidden += h.Size
		}
		for _, one := range tree.Squash(layers) {
			if one.Kind == tree.File {
				seen += one.Size
			}
		}
		require.Equal(t, all, hidden+seen)
	})
}
