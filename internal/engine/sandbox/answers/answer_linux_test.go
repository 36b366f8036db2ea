package answers

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/engine/sandbox/conditions"
)

// TestHold: calls are held back now and then, each for a moment and all together within bounds, and without being asked to none is.
func TestHold(t *testing.T) {
	a := New(conditions.Conditions{Jitter: true}, -1, "")
	var all time.Duration
	held := 0
	for range 100_000 {
		d := a.Hold()
		require.LessOrEqual(t, d, longest)
		if all += d; d > 0 {
			held++
		}
	}
	require.Greater(t, held, 100)
	require.Greater(t, all, mostHolding-longest)
	require.LessOrEqual(t, all, mostHolding+longest)
	require.Zero(t, New(conditions.Conditions{}, -1, "").Hold())
}

// TestPack: a list comes in parts that fit, each name once and in order, and where none fits nothing is lost.
func TestPack(t *testing.T) {
	names := []entry{{1, 4, "."}, {2, 4, ".."}, {3, 8, "ebb"}, {4, 8, "a-name-that-is-not-short"}}
	var seen []byte
	for at := 0; at < len(names); {
		text, next := pack(names, at, 48)
		require.Greater(t, next, at)
		require.LessOrEqual(t, len(text), 48)
		seen, at = append(seen, text...), next
	}
	whole, next := pack(names, 0, 4096)
	require.Equal(t, len(names), next)
	require.Equal(t, whole, seen)
	text, next := pack(names, 3, 20)
	require.Empty(t, text)
	require.Equal(t, 3, next)
}
