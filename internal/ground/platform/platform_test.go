package platform

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestBest(t *testing.T) {
	cases := []struct {
		wanted string
		offers []string
		best   int
	}{
		{"linux/arm64", []string{"linux/amd64", "linux/arm64/v8"}, 1},
		{"linux/arm64/v8", []string{"linux/arm64"}, 0},
		{"linux/arm64", []string{"linux/arm64/v9"}, -1},
		{"linux/arm64/v9", []string{"linux/arm64", "linux/arm64/v9", "linux/arm64/v8"}, 1},
		{"linux/arm/v6", []string{"linux/arm/v7", "linux/arm/v5", "linux/arm/v6"}, 2},
		{"linux/arm/v6", []string{"linux/arm/v7", "linux/arm/v5"}, 1},
		{"linux/arm", []string{"linux/arm/v5", "linux/arm/v7", "linux/arm/v6"}, 1},
		{"linux/amd64/v3", []string{"linux/amd64", "linux/amd64/v2", "linux/amd64/v4"}, 1},
		{"linux/amd64", []string{"linux/amd64/v2"}, -1},
		{"linux/amd64", []string{"unknown/unknown", "windows/amd64"}, -1},
		{"linux/amd64", nil, -1},
	}
	for _, c := range cases {
		wanted, err := Parse(c.wanted)
		require.NoError(t, err)
		var offers []Platform
		for _, text := range c.offers {
			p, err := Parse(text)
			require.NoError(t, err)
			offers = append(offers, p)
		}
		require.Equal(t, c.best, Best(wanted, offers), "%s of %v", c.wanted, c.offers)
	}
	for _, wrong := range []string{"", "linux", "linux/", "a/b/c/d", "Linux/amd64", "linux/am d"} {
		_, err := Parse(wrong)
		require.Error(t, err, wrong)
	}
	p, _ := Parse("linux/arm64/v8")
	require.Equal(t, "linux/arm64", p.String())
}
