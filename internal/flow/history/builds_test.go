package history

import (
	"encoding/json"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/plan"
)

// TestPastBuildsLeaveTheBaseOut: what lies below an image is no part of its past, and is not even read.
func TestPastBuildsLeaveTheBaseOut(t *testing.T) {
	st, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	base, own := digest.DiffID(digest.FromBytes([]byte("base"))), digest.DiffID(digest.FromBytes([]byte("own")))
	entries := []tree.Entry{{Path: "table", Kind: tree.File, Mode: 0o644, Content: digest.ContentBytes(nil)}}
	require.NoError(t, st.PutLayerIndex(own, (&layer.Indexed{DiffID: own, Entries: entries}).Encode()))
	u := &plan.Unit{ID: plan.UnitID{Name: "gauge"}}
	text, err := json.Marshal([][]digest.DiffID{{base, own}})
	require.NoError(t, err)
	require.NoError(t, st.PutMemo(memoOf("tideline", u.ID), text))
	h := &Finder{Store: st, Project: "tideline"}
	past := h.pastBuilds(u, []digest.DiffID{base})
	require.Len(t, past, 1)
	require.Len(t, past[0].Items, 1)
	require.Equal(t, "table", past[0].Items[0].Path)
	require.Empty(t, h.pastBuilds(u, nil), "nobody knows what the base holds")
}
