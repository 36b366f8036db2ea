package layering

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"path/filepath"
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
	"imbricat/internal/spec/plan"
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

// TestRememberedDivisions: a division that was noted gives the layers that working it out gives, is that of the same steps, parameters and hints
// alone, and one that is damaged or of another tree is never believed.
func TestRememberedDivisions(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	st, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	describe := func(l *Layer) string {
		return fmt.Sprint(l.Tree.Summary, l.Label, l.Lineage, l.Compression, len(l.Steps))
	}
	for n := range 80 {
		u := &Unit{Plan: &plan.Unit{Compression: "gzip"}}
		var steps []Piece
		for i := range 1 + r.IntN(4) {
			entries := treetest.Layer(r, n*10+i+1)
			steps = append(steps, Piece{Lineage: digest.Key(fmt.Sprint("lineage ", i)), Outcome: &step.Outcome{Tree: filetree.Of(entries, filetree.Memory("")), Task: event.Task{Label: fmt.Sprint("step ", i)}}})
		}
		worked, many, how := 0, 1+r.IntN(3), fmt.Sprint("test ", n)
		divide := func(l *mergedSteps) ([][]int, bool) {
			worked++
			parts := make([][]int, many)
			for i := range l.items {
				parts[i%many] = append(parts[i%many], i)
			}
			return slices.DeleteFunc(parts, func(p []int) bool { return len(p) == 0 }), n%2 == 0
		}
		first, err := NewDivider(t.Context(), Divider{Store: st}).divided(t.Context(), u, steps, how, divide)
		require.NoError(t, err)
		require.True(t, first.worked)
		again, err := NewDivider(t.Context(), Divider{Store: st}).divided(t.Context(), u, steps, how, divide)
		require.NoError(t, err)
		require.False(t, again.worked)
		require.Equal(t, 1, worked)
		require.Equal(t, first.crowded, again.crowded)
		require.Len(t, again.layers, len(first.layers))
		for i, l := range again.layers {
			require.Equal(t, describe(first.layers[i]), describe(l))
			require.Equal(t, first.layers[i].Steps, l.Steps)
		}
		require.Equal(t, 1, worked, "nobody has looked yet")
		for i, l := range again.layers {
			want, err := first.layers[i].Tree.Entries(t.Context())
			require.NoError(t, err)
			got, err := l.Tree.Entries(t.Context())
			require.NoError(t, err)
			require.Equal(t, want, got)
			for j := range got {
				place, err := l.Tree.Place(t.Context(), got[j].Path)
				require.NoError(t, err)
				require.Equal(t, got[j].Kind == tree.File, place.From != nil)
			}
		}
		// Anything else that decides makes it another division.
		for _, other := range []func() (divided, error){
			func() (divided, error) {
				return NewDivider(t.Context(), Divider{Store: st}).divided(t.Context(), u, steps, how+" otherwise", divide)
			},
			func() (divided, error) {
				hinted := &Unit{Plan: &plan.Unit{Compression: "gzip", Stack: recipe.Stack{Steady: []string{"/x"}}}}
				return NewDivider(t.Context(), Divider{Store: st}).divided(t.Context(), hinted, steps, how, divide)
			},
			func() (divided, error) {
				hinted := &Unit{Plan: &plan.Unit{Compression: "gzip", Stack: recipe.Stack{Lively: []string{"/x"}}}}
				return NewDivider(t.Context(), Divider{Store: st}).divided(t.Context(), hinted, steps, how, divide)
			},
			func() (divided, error) {
				return NewDivider(t.Context(), Divider{Store: st}).divided(t.Context(), u, append(slices.Clone(steps), steps[0]), how, divide)
			},
		} {
			made, err := other()
			require.NoError(t, err)
			require.True(t, made.worked)
		}
		question := divisionQuestion(u.Plan.Stack, steps, how)
		text, _ := st.Note(question)
		for _, damaged := range [][]byte{nil, text[:len(text)-3], append(slices.Clone(text), "x 1 2 true 0\n"...), bytes.Replace(text, []byte(divisionNote), []byte("imbricat division 0"), 1), bytes.ReplaceAll(text, []byte(" 0\n"), []byte(" 9\n"))} {
			if bytes.Equal(damaged, text) {
				continue
			}
			require.NoError(t, st.PutNote(question, damaged))
			made, err := NewDivider(t.Context(), Divider{Store: st}).divided(t.Context(), u, steps, how, divide)
			require.NoError(t, err)
			require.True(t, made.worked, "%q", damaged)
		}
		if len(first.layers) == 0 || len(steps[0].Key) == 0 {
			continue
		}
		lie := bytes.Replace(text, []byte(first.layers[0].Tree.Key), []byte(digest.ContentBytes([]byte("another tree"))), 1)
		require.NoError(t, st.PutNote(question, lie))
		made, err := NewDivider(t.Context(), Divider{Store: st}).divided(t.Context(), u, steps, how, divide)
		require.NoError(t, err)
		_, err = made.layers[0].Tree.Entries(t.Context())
		require.ErrorIs(t, err, digest.ErrMismatch)
	}
}
