package cli

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/retention"
)

// TestJudge: a tag that only lists what refers to an image shares its fate, a push counts before the making, and what nobody
// knows the age of stays.
func TestJudge(t *testing.T) {
	now := time.Date(2027, 1, 31, 0, 0, 0, 0, time.UTC)
	old, kept := digest.FromBytes([]byte("old")), digest.FromBytes([]byte("kept"))
	list := func(d digest.Digest) string { return "sha256-" + d.Encoded() }
	inventory := &transfer.Inventory{Below: func(digest.Digest) []digest.Digest { return nil }, Tags: []transfer.Tag{
		{Name: "pr-1", Digest: old, Created: now.AddDate(0, -3, 0)},
		{Name: "pr-2", Digest: kept, Created: now.AddDate(0, -3, 0), Pushed: now.AddDate(0, 0, -1)},
		{Name: "pr-3", Digest: digest.FromBytes([]byte("ageless")), Created: known(layer.Epoch)},
		{Name: list(old), Digest: digest.FromBytes([]byte("list of old")), Created: now.AddDate(0, -3, 0)},
		{Name: list(kept), Digest: digest.FromBytes([]byte("list of kept")), Created: now.AddDate(0, -3, 0)},
	}}
	stays := map[string]bool{}
	for _, v := range judge(inventory, retention.Rule{Younger: 7 * 24 * time.Hour}, now) {
		require.NotEmpty(t, v.Reason)
		stays[v.Name] = v.Keep
	}
	require.Equal(t, map[string]bool{"pr-1": false, "pr-2": true, "pr-3": true, list(old): false, list(kept): true}, stays)
}

// TestOlderThan: an image is older than what a tag stands on where both say when they were made.
func TestOlderThan(t *testing.T) {
	at := func(text string) map[string]string {
		return map[string]string{"org.opencontainers.image.created": text}
	}
	for _, c := range []struct {
		own, there string
		older      bool
	}{
		{"2026-03-01T12:00:00Z", "2026-03-02T12:00:00Z", true},
		{"2026-03-02T12:00:00Z", "2026-03-01T12:00:00Z", false},
		{"2026-03-01T12:00:00Z", "2026-03-01T12:00:00Z", false},
		{"2000-01-01T00:00:00Z", "2026-03-02T12:00:00Z", false}, // nobody knows when it was made
		{"2026-03-01T12:00:00Z", "", false},
		{"", "2026-03-02T12:00:00Z", false},
	} {
		body, err := json.Marshal(map[string]any{"annotations": at(c.there)})
		require.NoError(t, err)
		require.Equal(t, c.older, olderThan(nil, at(c.own), registry.Document{Body: body}) != "", "%+v", c)
	}
	require.Empty(t, olderThan(nil, at("2026-03-01T12:00:00Z"), registry.Document{Body: []byte("no JSON")}))
}
