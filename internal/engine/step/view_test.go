package step_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
	"imbricat/internal/engine/step"
)

// TestAbove: views of the same trees in the same order share their index, and no others do.
func TestAbove(t *testing.T) {
	of := func(paths ...string) *step.Outcome {
		var entries []tree.Entry
		for _, p := range paths {
			entries = append(entries, treetest.File(p, 0))
		}
		return &step.Outcome{Tree: filetree.New(entries, nil)}
	}
	views := step.NewViews()
	build := func(outcomes ...*step.Outcome) *tree.View {
		v := step.Nothing()
		for _, o := range outcomes {
			v = views.Above(v, o)
			require.Same(t, o, v.Outcomes()[len(v.Outcomes())-1], "a view has its own steps")
		}
		index, err := v.Index(t.Context())
		require.NoError(t, err)
		return index
	}
	one := build(of("a"), of("b"))
	require.Same(t, one, build(of("a"), of("b")))
	for _, other := range [][]*step.Outcome{{of("b"), of("a")}, {of("c"), of("b")}, {of("a")}, {of("a", "b")}, {of("a"), of("b"), of("c")}, {of("a"), of("c")}} {
		require.NotSame(t, one, build(other...))
	}
	_, exists := build(of("a"), of("b"), of("c")).Lookup("c")
	require.True(t, exists)
	_, exists = one.Lookup("c")
	require.False(t, exists, "what lies above changes nothing below")
}
