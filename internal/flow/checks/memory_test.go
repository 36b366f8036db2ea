package checks

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/check"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/receipt"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// TestWhatIsRemembered: a check is remembered by all that decides it, and not at all where more does than the image.
func TestWhatIsRemembered(t *testing.T) {
	const one, other = digest.Digest("sha256:1"), digest.Digest("sha256:2")
	base := keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.SizeCheck{Packed: 10}})
	keys := map[string]string{base: "size 10"}
	for name, key := range map[string]string{
		"another program": keyOf("imbricat/2", false, one, plan.Check{Do: &recipe.SizeCheck{Packed: 10}}),
		"another image":   keyOf("imbricat/1", false, other, plan.Check{Do: &recipe.SizeCheck{Packed: 10}}),
		"another bound":   keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.SizeCheck{Packed: 11}}),
		"another kind":    keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.ForbidCheck{Paths: []string{"/x"}}}),
		"the other list":  keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.NeedCheck{Paths: []string{"/x"}}}),
		"a try":           keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.TryCheck{}, Command: []string{"a"}}),
		"with arguments":  keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.TryCheck{}, Arguments: []string{"a"}}),
		"with a variable": keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.TryCheck{}, Command: []string{"a"}, Env: []string{"A=1"}}),
		"at a port":       keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.TryCheck{Port: 80}, Command: []string{"a"}}),
		"read-only":       keyOf("imbricat/1", false, one, plan.Check{Do: &recipe.TryCheck{ReadOnly: true}, Command: []string{"a"}}),
	} {
		require.NotEmpty(t, key, name)
		require.Empty(t, keys[key], name)
		keys[key] = name
	}
	require.Equal(t, base, keyOf("imbricat/1", true, one, plan.Check{Pos: recipe.Pos{Line: 9}, Do: &recipe.SizeCheck{Packed: 10}}))
	for _, c := range []plan.Check{{Do: &recipe.BaseCheck{}}, {Do: &recipe.StageCheck{Name: "tests"}}, {Do: &recipe.TryCheck{Network: true}, Command: []string{"a"}}} {
		require.Empty(t, keyOf("imbricat/1", false, one, c))
	}
	require.Empty(t, keyOf("imbricat/1", true, one, plan.Check{Do: &recipe.TryCheck{}, Command: []string{"a"}}), "in a chroot it shares the machine's network")

	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	m := remember(st, false)
	m.note(base, receipt.Check{Check: "size", Outcome: check.Holds, Detail: "9 B"})
	m.note("fails", receipt.Check{Outcome: check.Fails})
	m.note("", receipt.Check{Outcome: check.Holds})
	require.NoError(t, m.keep())
	for n := range mostHeld {
		m.note(fmt.Sprint(n), receipt.Check{Outcome: check.Holds})
	}
	held, known := remember(st, false).find(base)
	require.True(t, known)
	require.Equal(t, "9 B", held.Detail)
	require.Len(t, remember(st, false).found, 1)
	_, known = remember(st, true).find(base)
	require.False(t, known, "it is to be held again")
	require.NoError(t, m.keep())
	_, known = remember(st, false).find(base)
	require.False(t, known, "it is too old")
}
