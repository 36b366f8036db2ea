package push

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/flow"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/registry"
)

// TestNameAt: an image keeps its name where nothing else is said, and no tag is made up.
func TestNameAt(t *testing.T) {
	const d = "sha256:0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"
	for _, c := range []struct{ from, to, name, wrong string }{
		{"gauge", "./out", "gauge", ""},
		{"gauge:1", "./out.tar", "gauge:1", ""},
		{"gauge", "./out#other", "other", ""},
		{"h:1/tides/gauge:2", "./out", "gauge:2", ""},
		{"h:1/tides/gauge@" + d, "./out", "", ""},
		{"./in#one", "./out", "one", ""},
		{"./in", "gauge:3", "gauge:3", ""},
		{d, "h:1/tides/gauge:4", "4", ""},
		{"gauge", "h:1/tides/gauge", "", "a push needs a tag"},
		{"gauge", "h:1/tides/gauge@" + d, "", "a digest cannot be chosen"},
		{"h:1/tides/gauge", "./out", "", "needs a tag or a digest"},
	} {
		from, err := reference.Parse(c.from)
		require.NoError(t, err)
		to, err := reference.Parse(c.to)
		require.NoError(t, err)
		name, err := NameAt(from, to)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong)
			var wrong *flow.Error
			require.ErrorAs(t, err, &wrong)
			require.Equal(t, flow.Usage, wrong.Kind)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.name, name, "%s to %s", c.from, c.to)
	}
}

// TestOlder: an image is older than what a tag stands on where both say when they were made.
func TestOlder(t *testing.T) {
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
		require.Equal(t, c.older, Older(nil, at(c.own), registry.Document{Body: body}) != "", "%+v", c)
	}
	require.Empty(t, Older(nil, at("2026-03-01T12:00:00Z"), registry.Document{Body: []byte("no JSON")}))
}
