package report

import (
	"bytes"
	"encoding/xml"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// replays are two images, of twelve versions and of one.
func replays() []Replay {
	one := Replay{Image: "gauge", Platform: "linux/amd64", Names: []string{"lock", "one layer for each step", "one layer"}}
	for v := range 12 {
		bytes := []ReplayBytes{{Pushed: 1e6}, {Pushed: int64(v) * 1e6}, {Pushed: 9e6}}
		one.Versions = append(one.Versions, ReplayVersion{Bytes: bytes})
	}
	other := one
	other.Image, other.Versions = "bulletin", one.Versions[:1]
	return []Replay{one, other}
}

func TestDrawReplays(t *testing.T) {
	svg, err := DrawReplays(replays())
	require.NoError(t, err)
	d := xml.NewDecoder(bytes.NewReader(svg))
	for {
		_, err := d.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
	}
	for _, text := range []string{"gauge linux/amd64: pushed over 12 versions", "bulletin linux/amd64: pushed over 1 version", "one layer for each step", "MB, before compression"} {
		assert.Contains(t, string(svg), text)
	}
	assert.Contains(t, string(svg), `<g transform="translate(0,480)"><svg width="960" height="480" `) // below the other
}
