package workspace

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestInside: only what lies below a folder is in it.
func TestInside(t *testing.T) {
	for path, want := range map[string]string{"/p/store": "store", "/p/a/b": "a/b", "/p": "", "/q": "", "/p/../q": "", "/pp": ""} {
		below, is := Inside("/p", path)
		require.Equal(t, want != "", is, path)
		if is {
			require.Equal(t, want, below)
		}
	}
}
