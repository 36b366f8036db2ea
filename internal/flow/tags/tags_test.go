package tags

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/ground/digest"
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
		{Name: "pr-3", Digest: digest.FromBytes([]byte("ageless")), Created: image.KnownTime(layer.Epoch)},
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
