package division

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRules: the longest prefix that covers a path decides, one that ends in a slash covers a folder, and rules that leave a path to no part
// or to two are refused.
func TestRules(t *testing.T) {
	r, err := New([][]string{{"/", "/usr/lib/a"}, {}, {"/usr/lib/", "/etc/hosts"}})
	require.NoError(t, err)
	require.Len(t, r.Parts, 2, "a part without rules is none")
	for path, want := range map[string]int{"usr/bin/x": 0, "usr/lib/x": 1, "usr/lib/x/y": 1, "usr/lib/a": 0, "usr/lib/a/b": 1, "usr/lib": 0, "usr/library": 0, "etc/hosts": 1, "etc/hosts2": 0} {
		require.Equal(t, want, r.Part(path), path)
	}
	for _, wrong := range [][][]string{nil, {{"/usr/"}}, {{"/"}, {"/"}}, {{"/", "usr/"}}, {{"/", "/a/../b"}}, {{"/", "/a//b"}}} {
		_, err := New(wrong)
		require.Error(t, err, "%q", wrong)
	}
}
