package transfer

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/remote/registry"
)

// TestInFlight: of many small blobs and manifests as many are asked for at once as may be, on every way; where somebody has chosen a number,
// no more than that move.
func TestInFlight(t *testing.T) {
	b := newBench(t)
	var architectures []string
	for i := range 40 {
		architectures = append(architectures, fmt.Sprint("machine", i))
	}
	root := b.images("gauge", architectures...)
	parallel := 0
	b.opener.Client = registry.New(registry.Options{Wait: time.Millisecond, Settings: func(string) registry.Settings { return registry.Settings{Parallel: parallel} }})
	b.slow = 20 * time.Millisecond
	for chosen, want := range map[int]int{0: inFlight, 2: 2} {
		parallel = chosen
		for i, way := range [][2]string{{"gauge", b.host + "/tides/gauge%d:1"}, {b.host + "/tides/gauge%d:1", "./layout%d#gauge"}, {b.host + "/tides/gauge%d:1", "./gauge%d.tar#gauge"}} {
			from, to := way[0], fmt.Sprintf(way[1], chosen)
			if i > 0 {
				from = fmt.Sprintf(way[0], chosen)
			}
			b.most = 0
			result, err := b.copy(from, to, Options{Names: []string{map[bool]string{true: "1", false: "gauge"}[i == 0]}})
			require.NoError(t, err)
			require.Equal(t, root.Digest, result.Descriptor.Digest)
			require.Equal(t, 40+40+1, result.Sent+result.Mounted)
			require.Equal(t, 41, result.Manifests)
			require.Equal(t, want, b.most, "%s to %s", from, to)
		}
	}
}
