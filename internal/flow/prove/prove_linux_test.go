package prove

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

// TestDiffering: a path differs where it is on one side alone, or is not laid down alike; folders that are only there for what is in them are not told.
func TestDiffering(t *testing.T) {
	file := func(path, text string) tree.Entry {
		return tree.Entry{Path: path, Kind: tree.File, Mode: 0o644, Size: int64(len(text)), Content: digest.ContentBytes([]byte(text))}
	}
	was := sideOf([]tree.Entry{{Path: "a", Kind: tree.Folder, Mode: 0o755}, file("a/x", "1"), file("same", "s"), file("mode", "m")}, nil)
	other := file("mode", "m")
	other.Mode = 0o755
	now := sideOf([]tree.Entry{{Path: "b", Kind: tree.Folder, Mode: 0o755}, file("b/y", "1"), file("same", "s"), other}, nil)
	paths := differing(was, now)
	require.Equal(t, []string{"a", "a/x", "b", "b/y", "mode"}, paths)
	require.Equal(t, []string{"a/x", "b/y", "mode"}, withoutFolders(paths, was, now))
	require.Empty(t, differing(was, was))
	f, err := fileOf(t.Context(), "mode", was, now, (&round{prover: newProver(Options{}), varied: &varied{}}).clues(&engine.Done{}))
	require.NoError(t, err)
	require.Equal(t, "mode", f.What)
	require.Equal(t, "0644", f.Differences[0].Was)
	require.Equal(t, "0755", f.Differences[0].Now)
}

// TestSample: what ran just now is no record; one that several steps share counts once; what was reused more is chosen more often.
func TestSample(t *testing.T) {
	of := func(key string, ran bool) *engine.Done {
		return &engine.Done{Name: step.Name{Unit: plan.UnitID{Name: key}}, Run: &store.Run{Key: digest.Key(key), Trace: "t"}, Ran: ran}
	}
	steps := []*engine.Done{of("often", false), of("often", false), of("seldom", false), of("now", true), {}}
	reuses := map[[2]string]int{{"often", "t"}: 19}
	first := map[string]int{}
	for range 2000 {
		chosen, all := sample(steps, 1, reuses)
		require.Equal(t, 2, all)
		require.Len(t, chosen, 1)
		first[string(chosen[0].Run.Key)]++
	}
	// 20 to 1: 95 % of 2,000, give or take six standard deviations.
	require.InDelta(t, 1900, first["often"], 60)
	chosen, _ := sample(steps, 9, reuses)
	require.Len(t, chosen, 2)
}

// TestStatement: what is least equal counts, and everything is named by its digest.
func TestStatement(t *testing.T) {
	d := digest.FromBytes([]byte("gauge"))
	s := OfRebuilt([]*report.Rebuilt{{Reference: "r/gauge:1", Digest: d, Equal: report.EqualDigest}, {Reference: "r/pages:1", Digest: d, Equal: report.EqualLayers, Varied: []report.Condition{{Name: "clock"}}}}, Predicate{Program: "p"})
	require.Equal(t, report.EqualLayers, s.Predicate.Equal)
	require.Equal(t, []Subject{{"r/gauge:1", map[string]string{"sha256": d.Encoded()}}, {"r/pages:1", map[string]string{"sha256": d.Encoded()}}}, s.Subject)
	require.Len(t, s.Predicate.Varied, 1)
	require.WithinDuration(t, time.Now(), s.Predicate.Finished, time.Minute)
	require.Equal(t, report.EqualDigest, Of(&report.Proof{}, Predicate{}).Predicate.Equal)
}
