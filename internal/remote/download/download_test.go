package download

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestGet(t *testing.T) {
	var asked atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch n := asked.Add(1); {
		case r.URL.Path == "/flaky" && n < 3:
			w.WriteHeader(http.StatusBadGateway)
		case r.URL.Path == "/refused":
			w.WriteHeader(http.StatusForbidden)
		case r.URL.Path == "/cut":
			w.Header().Set("Content-Length", "100")
			_, _ = io.WriteString(w, "half")
		case r.URL.Path == "/moved":
			http.Redirect(w, r, "/flaky", http.StatusFound)
		default:
			require.Equal(t, "imbricat/test", r.UserAgent())
			_, _ = io.WriteString(w, "leap")
		}
	}))
	defer server.Close()
	c, ctx := New("imbricat/test"), context.Background()
	for _, path := range []string{"/flaky", "/moved"} {
		body, size, err := c.Get(ctx, server.URL+path)
		require.NoError(t, err, path)
		content, err := io.ReadAll(body)
		require.NoError(t, err)
		require.NoError(t, body.Close())
		require.Equal(t, "leap", string(content))
		require.EqualValues(t, 4, size)
	}
	before := asked.Load()
	_, _, err := c.Get(ctx, server.URL+"/refused")
	var refused *Error
	require.True(t, errors.As(err, &refused))
	require.True(t, refused.Denied())
	require.Equal(t, before+1, asked.Load(), "a refusal is not asked again")
	body, _, err := c.Get(ctx, server.URL+"/cut")
	require.NoError(t, err)
	_, err = io.ReadAll(body)
	require.Error(t, err, "a body that breaks off is not an end")
	server.Close()
	_, _, err = c.Get(ctx, server.URL)
	require.ErrorIs(t, err, ErrUnreachable)
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	_, _, err = c.Get(cancelled, server.URL)
	require.ErrorIs(t, err, context.Canceled)
}
