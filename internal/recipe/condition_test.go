package recipe

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAbsentInConditions: what is not known compares as the empty text does, and as nil where it is compared with that.
func TestAbsentInConditions(t *testing.T) {
	for text, want := range map[string][3]bool{ // with nothing known, on the tag nightly, on the tag v1.4.0
		`git.tag != ""`:                       {false, true, true},
		`git.tag == ""`:                       {true, false, false},
		`git.tag != nil`:                      {false, true, true},
		`nil == git.tag`:                      {true, false, false},
		`git.tag matches "^v?[0-9]"`:          {false, false, true},
		`git.tag startsWith "v"`:              {false, false, true},
		`not (git.tag startsWith "v")`:        {true, true, false},
		`(git.tag ?? "none") == "none"`:       {true, false, false},
		`git.tag in ["", "nightly"]`:          {true, true, false},
		`len(git.tag) > 0`:                    {false, true, true},
		`env.RELEASE == "yes"`:                {false, false, false},
		`git.branch == "trunk" && !git.dirty`: {false, false, false},
	} {
		r, err := Parse("r", []byte(imageWith(fmt.Sprintf("    publish: {main: {to: h:1/g, tags: [{tag: a, when: '%s'}]}}\n", text))))
		require.NoError(t, err, text)
		when := r.Images[0].Publish[0].Tags[0].When
		for i, tag := range []any{nil, "nightly", "v1.4.0"} {
			holds, err := when.EvalBool(&Scope{Git: map[string]any{"tag": tag}})
			require.NoError(t, err, text)
			require.Equal(t, want[i], holds, "%s on %v", text, tag)
		}
	}
}
