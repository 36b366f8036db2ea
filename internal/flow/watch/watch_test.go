package watch

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/changes"
	"imbricat/internal/ground/paths"
)

// TestRun: a round for each change; one that is ended by a newer change has its own told to the next one again.
func TestRun(t *testing.T) {
	dir := t.TempDir()
	w, err := changes.Open(dir, changes.Options{Quiet: time.Millisecond})
	require.NoError(t, err)
	defer w.Close()
	w.Aim(changes.Scope{Files: paths.Set{Has: func(string) bool { return true }}})
	write := func(name string) { require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644)) }
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var rounds []Round
	err = Run(ctx, w, func(inner context.Context, r Round) {
		rounds = append(rounds, r)
		switch r.Number {
		case 1:
			write("a")
			until(t, inner)
		case 2:
			write("b")
			until(t, inner)
		case 3:
			time.AfterFunc(20*time.Millisecond, func() { write("c") })
		case 4:
			require.NoError(t, inner.Err())
			cancel()
		}
	})
	require.True(t, errors.Is(err, context.Canceled))
	require.Len(t, rounds, 4)
	require.True(t, rounds[0].Changed.None())
	require.Equal(t, []string{"a"}, rounds[1].Changed.Paths)
	require.Equal(t, []string{"a", "b"}, rounds[2].Changed.Paths)
	require.Equal(t, []string{"c"}, rounds[3].Changed.Paths)
}

// until waits for the end of a round.
func until(t *testing.T, round context.Context) {
	select {
	case <-round.Done():
	case <-time.After(20 * time.Second):
		t.Error("a round was not ended")
	}
}
