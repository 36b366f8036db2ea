package notify

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/notice"
	"imbricat/internal/ground/redact"
	"imbricat/internal/output/receipt"
)

// TestTell: who wants to know of an outcome is told of it alone, without steps; what could not be told is noted and no error, and shows no secret.
func TestTell(t *testing.T) {
	key := func(text string, err error) func(context.Context) ([]byte, error) {
		return func(context.Context) ([]byte, error) { return []byte(text), err }
	}
	told := make(chan receipt.Receipt, 10)
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.NoError(t, notice.Verify([]byte("low water"), r.Header, body, time.Now(), time.Minute))
		var got receipt.Receipt
		require.NoError(t, json.Unmarshal(body, &got))
		told <- got
	}))
	defer server.Close()
	secrets := &redact.Redactor{}
	secrets.Add([]byte("sesame-42"))
	targets := []Target{{To: server.URL, On: []string{receipt.Failed}, Key: key("low water\n", nil)}, {To: "", On: []string{receipt.Done}},
		{To: server.URL, On: []string{receipt.Done}, Key: key("", errors.New("the helper says sesame-42"))}, {To: server.URL, On: []string{receipt.Done}, Key: key("\n", nil)}}
	r := &receipt.Receipt{Outcome: receipt.Failed, Steps: []receipt.Step{{Step: "x"}}}
	require.NoError(t, Tell(t.Context(), "test", targets, r, secrets))
	require.Len(t, r.Notified, 1)
	require.Equal(t, [2]any{1, 200}, [2]any{r.Notified[0].Tries, r.Notified[0].Status})
	got := <-told
	require.Empty(t, got.Steps)
	require.Len(t, r.Steps, 1, "the receipt itself keeps them")

	r = &receipt.Receipt{Outcome: receipt.Done}
	require.NoError(t, Tell(t.Context(), "test", targets, r, secrets))
	require.Len(t, r.Notified, 2)
	require.Equal(t, "the helper says ••••••", r.Notified[0].Error)
	require.Contains(t, r.Notified[1].Error, "is empty")
	r = &receipt.Receipt{Outcome: receipt.Nothing}
	require.NoError(t, Tell(t.Context(), "test", targets, r, secrets))
	require.Empty(t, r.Notified)
	require.Empty(t, told, "nobody else was told")
}
