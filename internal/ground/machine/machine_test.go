package machine

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDistribution(t *testing.T) {
	for text, want := range map[string]string{
		"NAME=\"Harbour Linux\"\nPRETTY_NAME=\"Harbour Linux 4 (low water)\"\n": "Harbour Linux 4 (low water)",
		"NAME=Harbour\n": "Harbour",
		"":               "",
	} {
		require.Equal(t, want, distribution([]byte(text)))
	}
}
