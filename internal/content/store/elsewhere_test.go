package store

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
)

// TestLostPlaces: of several who open a blob which its only place lost meanwhile, each learns that it was there, so that
// whichever of them is heard first tells that it can be made anew; once that was heeded, the blob is simply not here.
func TestLostPlaces(t *testing.T) {
	s := open(t)
	gone := digest.Descriptor{MediaType: "application/octet-stream", Digest: digest.FromBytes([]byte("gauge")), Size: 5}
	other := digest.Descriptor{MediaType: "application/octet-stream", Digest: digest.FromBytes([]byte("pages")), Size: 5}
	for _, one := range []digest.Descriptor{gone, other} {
		require.NoError(t, s.NoteElsewhere(one, "registry.example/tides"))
	}
	require.NoError(t, s.NoteElsewhere(other, "mirror.example/tides"))
	s.FetchElsewhere = func(context.Context, digest.Descriptor, string) error { return ErrNotThere }
	var away *AwayError
	for range 2 {
		_, err := s.Fetch(t.Context(), gone)
		require.ErrorAs(t, err, &away)
		require.Equal(t, []string{"registry.example/tides"}, away.Places)
		require.ErrorIs(t, err, ErrNotThere)
		require.False(t, s.Knows(gone))
	}
	require.Equal(t, []string{"mirror.example/tides"}, s.Elsewhere(other.Digest), "what is elsewhere too stays")
	require.NoError(t, s.NoteSeen(gone, "registry.example/tides"))
	require.NoError(t, s.NoteSeen(other, "registry.example/bases"))
	require.False(t, s.Knows(gone), "what a push saw somewhere is no reason to do without it")
	require.Equal(t, []string{"mirror.example/tides", "registry.example/bases"}, s.Neighbours(other.Digest))
	s.ForgetPlaces(away.Places)
	_, err := s.Fetch(t.Context(), gone)
	require.ErrorAs(t, err, &away)
	require.Empty(t, away.Places)
}
