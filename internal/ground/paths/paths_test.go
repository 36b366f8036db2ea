package paths

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestIn: what is found by searching is what asking for each path finds, whatever else the names are sorted between.
func TestIn(t *testing.T) {
	name := rapid.StringMatching(`[ab+0](/[ab,0-]){0,3}`)
	rapid.Check(t, func(t *rapid.T) {
		under := rapid.SampledFrom([]string{"", "a", "b/a"}).Draw(t, "under")
		list := rapid.SliceOfNDistinct(name, rapid.SampledFrom([]int{0, 6*worth + 1}).Draw(t, "least"), 300, rapid.ID).Draw(t, "list") // of long ones is searched
		slices.Sort(list)
		set := func(label string) Set {
			below := rapid.SliceOfN(name, 0, 3).Draw(t, label)
			odd := rapid.Bool().Draw(t, label+" odd")
			s := Set{Below: below, Has: func(p string) bool {
				return (!odd || len(p)%2 == 1) && slices.ContainsFunc(below, func(at string) bool { return p == at || strings.HasPrefix(p, at+"/") })
			}}
			switch rapid.IntRange(0, 4).Draw(t, label+" kind") {
			case 0:
				return Set{}
			case 1:
				s.Below = nil
			}
			return s
		}
		one, other := set("one"), set("other")
		both := one.Or(other)
		var want []string
		for _, p := range list {
			own := p
			if under != "" {
				rest, inside := strings.CutPrefix(p, under+"/")
				if !inside {
					continue
				}
				own = rest
			}
			if !one.Empty() && one.Has(own) || !other.Empty() && other.Has(own) {
				want = append(want, p)
			}
		}
		found := map[string]bool{}
		both.In(len(list), func(i int) string { return list[i] }, under, func(i int) bool { found[list[i]] = true; return true })
		var got []string
		for _, p := range list {
			if found[p] {
				got = append(got, p)
			}
		}
		require.Equal(t, want, got)
		visits := 0
		both.In(len(list), func(i int) string { return list[i] }, under, func(int) bool { visits++; return false })
		require.Equal(t, min(len(want), 1), visits)
	})
}
