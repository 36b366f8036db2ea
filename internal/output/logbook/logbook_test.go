package logbook

import (
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestBook: what is written is read again whole, by project and unit; several write at once; the oldest go first; a build
// that never ended shows as interrupted.
func TestBook(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a b?#%", "logbook.db")
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for i := range 5 { // the first to open and the last to close keep others from it for a moment
				b, err := Open(file, 20)
				require.NoError(t, err)
				one := &Build{Project: "other", Started: time.Now()}
				require.NoError(t, b.Begin(one))
				one.Outcome = Built
				require.NoError(t, b.End(one, []Step{{Unit: "gauge", Label: fmt.Sprint(i)}}))
				require.NoError(t, b.Close())
			}
		})
	}
	group.Wait()
	b, err := Open(file, 20)
	require.NoError(t, err)
	defer b.Close()
	all, err := b.List("", 100)
	require.NoError(t, err)
	require.Len(t, all, 20)
	_, err = b.Last("/tideline")
	require.ErrorIs(t, err, ErrNone)

	build := Build{Project: "/tideline", Command: "imbricat build", Recipe: "sha256:1", Facts: map[string]string{"version": "1.0"}, Started: time.UnixMilli(12345)}
	require.NoError(t, b.Begin(&build))
	number, err := b.Last("/tideline")
	require.NoError(t, err)
	require.Equal(t, build.Number, number)
	begun, _, err := b.Find(number)
	require.NoError(t, err)
	require.Equal(t, Interrupted, begun.Outcome)
	build.Wall, build.CPU, build.Outcome, build.Ran, build.Reused, build.Spared = time.Second, 2*time.Second, Built, 1, 1, time.Minute
	build.Images = []Image{{"gauge", "sha256:2", 99}}
	steps := []Step{{Unit: "gauge", Platform: "linux/amd64", Place: "gauge:1", Label: "copy", Outcome: "ran", Reason: "new", More: []string{"a", "b\n"}, Wall: time.Second,
		Began: 5 * time.Second, CPU: time.Second, Spared: time.Second, Files: 1, Bytes: 2, Packed: 3, Key: "k", Trace: "t", Inputs: "i", Log: "l"},
		{Unit: "gauge", Platform: "linux/arm64", Place: "gauge:1", Label: "copy", Began: -1 * time.Millisecond}}
	require.NoError(t, b.End(&build, steps))
	found, read, err := b.Find(number)
	require.NoError(t, err)
	require.Equal(t, build, found)
	require.Equal(t, steps, read)

	failed := Build{Project: "/tideline", Started: time.Now()}
	require.NoError(t, b.Begin(&failed))
	failed.Outcome = Failed
	require.NoError(t, b.End(&failed, []Step{{Unit: "gauge", Platform: "linux/amd64", Label: "half"}, {Unit: "bulletin", Platform: "linux/amd64", Label: "first"}}))
	past, err := b.Past("/tideline", "gauge", "linux/amd64")
	require.NoError(t, err)
	require.Equal(t, steps[:1], past, "a build that failed is not a measure")
	past, err = b.Past("/tideline", "bulletin", "linux/amd64")
	require.NoError(t, err)
	require.Equal(t, "first", past[0].Label, "but where there is no other")
	again := Build{Project: "/tideline", Started: time.Now()}
	require.NoError(t, b.Begin(&again))
	require.NoError(t, b.End(&again, []Step{{Unit: "gauge", Platform: "linux/amd64", Label: "copy", Outcome: "reused", Wall: time.Millisecond, Spared: 7 * time.Second},
		{Unit: "gauge", Platform: "linux/amd64", Label: "render", Outcome: "ran", Wall: 3 * time.Second}, {Unit: "gauge", Platform: "linux/amd64", Label: "broken", Outcome: "failed", Wall: time.Hour}}))
	took, err := b.Durations("/tideline")
	require.NoError(t, err)
	require.Equal(t, map[[3]string]time.Duration{{"gauge", "linux/amd64", "copy"}: 7 * time.Second, {"gauge", "linux/amd64", "render"}: 3 * time.Second}, took, "what it took when it was done")
	failed = again
	all, err = b.List("", 100)
	require.NoError(t, err)
	require.Len(t, all, 20)
	require.Equal(t, failed.Number, all[0].Number)
	_, _, err = b.Find(1)
	require.ErrorIs(t, err, ErrNone)
	steps, err = b.steps("build = 1")
	require.NoError(t, err)
	require.Empty(t, steps, "steps go with their build")
}

// TestOlderRows: rows of programs that told by their reasons alone that a step was begun and not done are brought up to date,
// once.
func TestOlderRows(t *testing.T) {
	file := filepath.Join(t.TempDir(), "logbook.db")
	b, err := Open(file, 0)
	require.NoError(t, err)
	build := Build{Project: "/tideline", Started: time.UnixMilli(1)}
	require.NoError(t, b.Begin(&build))
	require.NoError(t, b.End(&build, []Step{{Label: "half", Outcome: "skipped", Reason: "the build ended first"}, {Label: "none", Outcome: "skipped", Reason: "it lays nothing down"}}))
	for _, want := range []string{"ended", "skipped"} { // of what an older program wrote, and of what this one did
		if want == "skipped" {
			_, err = b.db.Exec("update steps set outcome = 'skipped'")
		} else {
			_, err = b.db.Exec("pragma user_version = 0")
		}
		require.NoError(t, err)
		require.NoError(t, b.Close())
		b, err = Open(file, 0)
		require.NoError(t, err)
		_, steps, err := b.Find(build.Number)
		require.NoError(t, err)
		require.Equal(t, []string{want, "skipped"}, []string{steps[0].Outcome, steps[1].Outcome})
	}
	require.NoError(t, b.Close())
}
