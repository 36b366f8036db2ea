package compose

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// endless sends and never ends.
type endless struct{ sent int64 }

func (e *endless) Read(p []byte) (int, error) { e.sent += int64(len(p)); return len(p), nil }
func (e *endless) Close() error               { return nil }

// address answers every request with a body.
type address struct {
	body io.ReadCloser
	size int64
}

func (a address) Download(context.Context, string) (io.ReadCloser, int64, error) {
	return a.body, a.size, nil
}

// TestFetchIsBounded: an address that sends without end, or says that it will send too much, is left.
func TestFetchIsBounded(t *testing.T) {
	defer func(was int64) { maxFetched = was }(maxFetched)
	maxFetched = 1 << 20
	st, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	tell := event.Reporter{Sink: event.Discard}
	for _, size := range []int64{-1, 100, 2 << 20} {
		body := &endless{}
		_, err := (&Fetcher{st, address{body, size}}).Fetch(t.Context(), "https://tideline.example/levels", strings.Repeat("0", 64), tell)
		require.ErrorContains(t, err, "it sends more than 1.0 MiB")
		require.Less(t, body.sent, int64(2<<20))
	}
	// What comes is what the recipe says, or nothing.
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte("3.42")))
	for _, text := range []string{"6.66", "3.42"} {
		f := &Fetcher{st, address{io.NopCloser(strings.NewReader(text)), 4}}
		_, err := f.Fetch(t.Context(), "https://tideline.example/levels", sum, tell)
		_, kept := f.Kept(sum)
		require.Equal(t, text == "3.42", kept)
		if text == "3.42" {
			require.NoError(t, err)
			continue
		}
		require.ErrorContains(t, err, "its sha256 is")
		require.ErrorIs(t, err, digest.ErrMismatch)
	}
}
