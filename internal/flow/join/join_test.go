package join

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/flow"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/push"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
)

const recipe = `imbricat: 1
facts: {version: "1.4.0"}
images:
  gauge:
    base: none
    platforms: [linux/amd64, linux/arm64]
    steps: [{copy: {from: page, to: /page}}, {write: {to: /arch, text: "${platform.architecture}"}}]
    publish: {main: {to: $REGISTRY/tides/gauge, tags: [{tag: "${facts.version}", prefixes: true}, {tag: newest, when: git.branch == "trunk"}], fixed: ["[0-9]*.*.*"]}}
`

// joins is a project whose platforms are built and pushed apart.
type joins struct {
	*flowtest.Project
	dir string // of receipts
}

// shipped pushes a platform by digest and writes the receipt. Its name is returned.
func (j *joins) shipped(t *testing.T, name, platform, version string) string {
	w := j.Workspace(t, map[string]string{"version": version}, platform)
	k, err := receipts.Begin(receipts.Options{Command: "push", Place: filepath.Join(j.dir, name), Redactor: w.Redactor})
	require.NoError(t, err)
	k.From(w.Planned)
	shipments, err := push.Shipments(t.Context(), w, push.Options{ByDigest: true}, flowtest.Build(t, w))
	require.NoError(t, err)
	require.NoError(t, push.Send(t.Context(), w, shipments, push.Moves{}, event.Discard, &k.Part))
	push.Record(t.Context(), k, w.Store, shipments)
	require.NoError(t, k.Close(t.Context(), nil))
	return filepath.Join(j.dir, name)
}

func (j *joins) join(t *testing.T, to string, o Options, sources ...string) (*receipt.Receipt, *report.Pushed, error) {
	w := j.Workspace(t, nil)
	k, err := receipts.Begin(receipts.Options{Command: "join", Redactor: w.Redactor})
	require.NoError(t, err)
	ref, err := reference.Parse(strings.ReplaceAll(to, "$REGISTRY", j.Registry.Host))
	require.NoError(t, err)
	line, err := Run(t.Context(), w.Places, k, event.Discard, ref, sources, o)
	return k.Receipt, line, err
}

// TestJoin: platforms that were built from the same become one index under the recipe's tags; what was not is refused.
func TestJoin(t *testing.T) {
	r := flowtest.NewRegistry(t)
	j := &joins{flowtest.NewProject(t, r), t.TempDir()}
	j.Write(t, "imbricat.yaml", recipe)
	j.Write(t, "page", "high water 4.2 m")
	j.Commit(t, "2026-06-01T00:00:00Z")
	amd, arm := j.shipped(t, "amd64.json", "linux/amd64", "1.4.0"), j.shipped(t, "arm64.json", "linux/arm64", "1.4.0")
	require.Empty(t, r.Tags(t, "tides/gauge"))

	k, line, err := j.join(t, "$REGISTRY/tides/gauge", Options{}, amd, arm)
	require.NoError(t, err)
	require.Equal(t, receipt.Done, k.Outcome)
	require.Len(t, line.Platforms, 2)
	tags := r.Tags(t, "tides/gauge")
	require.Len(t, tags, 4)
	for tag, stands := range tags {
		require.Equal(t, line.Digest, stands, tag)
	}
	require.NotNil(t, k.Revision)

	other := j.shipped(t, "other.json", "linux/arm64", "1.3.9")
	j.Write(t, "page", "high water 4.3 m")
	j.Commit(t, "2026-06-02T00:00:00Z")
	later := j.shipped(t, "later.json", "linux/arm64", "1.4.0")
	failed := filepath.Join(j.dir, "failed.json")
	text, err := (&receipt.Receipt{Command: "ship", Outcome: receipt.Failed, Stopped: &receipt.Stop{Part: "build", Message: "the tide was out", Exit: 1}}).Encode()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(failed, text, 0o644))
	for _, c := range []struct {
		to      string
		o       Options
		sources []string
		kind    flow.Kind
		why     string
	}{
		{"$REGISTRY/tides/gauge", Options{}, []string{amd, amd}, flow.Usage, "linux/amd64: "},
		{"$REGISTRY/tides/gauge", Options{}, []string{amd, other}, flow.Differs, `amd64.json wants the tags`},
		{"$REGISTRY/tides/elsewhere:1", Options{}, []string{amd, other}, flow.Differs, "wants the tags"},
		{"$REGISTRY/tides/gauge", Options{}, []string{amd, later}, flow.Differs, "were not built from the same: the commit is"},
		{"$REGISTRY/tides/gauge", Options{}, []string{amd, failed}, flow.Failed, "failed.json cannot be joined"},
		{"$REGISTRY/tides/gauge", Options{}, []string{filepath.Join(j.dir, "none.json")}, flow.Usage, "there is no receipt"},
		{"$REGISTRY/tides/gauge", Options{}, []string{r.Host + "/tides/gauge"}, flow.Usage, "needs a tag or a digest"},
		{"$REGISTRY/tides/gauge", Options{Tags: []string{"a/b"}}, []string{amd, arm}, flow.Usage, "a/b"},
		{"$REGISTRY/tides/gauge", Options{Wait: 2, Within: time.Second}, []string{amd, arm}, flow.Usage, "--wait takes one source"},
		{"./layout#x", Options{Tags: []string{"more"}}, []string{amd, arm}, flow.Usage, "--tag is for a destination in a registry"},
		{"$REGISTRY/tides/gauge", Options{}, []string{r.Host + "/tides/gauge:1.4.0"}, flow.Usage, "a push needs a tag"},
	} {
		_, _, err := j.join(t, c.to, c.o, c.sources...)
		var of *flow.Error
		require.ErrorAs(t, err, &of, "%+v", c)
		require.Equal(t, c.kind, of.Kind, "%v", err)
		require.ErrorContains(t, err, c.why)
		require.Equal(t, tags, r.Tags(t, "tides/gauge"))
	}

	// An older version than the prefixes stand on: they stay, and a fixed tag never moves. What differs is joined where that is said.
	_, _, err = j.join(t, "$REGISTRY/tides/gauge", Options{Differing: true}, other, amd)
	require.ErrorContains(t, err, "1.4.0", "the tags are those of the last receipt, and one of them is fixed")
	old := j.shipped(t, "old.json", "linux/amd64", "1.3.9")
	other = j.shipped(t, "other.json", "linux/arm64", "1.3.9")
	_, line, err = j.join(t, "$REGISTRY/tides/gauge", Options{Tags: []string{"late"}}, old, other)
	require.NoError(t, err)
	now := r.Tags(t, "tides/gauge")
	require.Equal(t, tags["1"], now["1"])
	require.Equal(t, line.Digest, now["1.3"])
	require.Equal(t, line.Digest, now["late"])

	// Where no condition holds there is nothing to do, and it is said why.
	j.Write(t, "imbricat.yaml", strings.Replace(recipe, `{tag: "${facts.version}", prefixes: true}, {tag: newest, when: git.branch == "trunk"}`, `{tag: newest, when: git.branch == "main"}`, 1))
	j.Commit(t, "2026-06-03T00:00:00Z")
	none := j.shipped(t, "none.json", "linux/amd64", "1.4.0")
	k, line, err = j.join(t, "$REGISTRY/tides/gauge", Options{}, none)
	require.NoError(t, err)
	require.Nil(t, line)
	require.Equal(t, receipt.Nothing, k.Outcome)
	require.Contains(t, k.Why, "newest: its condition does not hold")
}

// TestAwait: receipts are waited for, in time; one of a run that failed ends the waiting, and so does one too many.
func TestAwait(t *testing.T) {
	r := flowtest.NewRegistry(t)
	j := &joins{flowtest.NewProject(t, r), t.TempDir()}
	j.Write(t, "imbricat.yaml", recipe)
	j.Write(t, "page", "high water 4.2 m")
	j.Commit(t, "2026-06-01T00:00:00Z")
	folder := "./" + filepath.Base(j.dir)
	t.Chdir(filepath.Dir(j.dir))
	j.shipped(t, "amd64.json", "linux/amd64", "1.4.0")
	wait := func(n int, within time.Duration, why string) {
		t.Helper()
		_, _, err := j.join(t, "$REGISTRY/tides/gauge", Options{Wait: n, Within: within}, folder)
		require.ErrorContains(t, err, why)
	}
	wait(2, 10*time.Millisecond, "holds 1 of 2 receipts after 10ms")
	require.NoError(t, os.WriteFile(filepath.Join(j.dir, "half.json"), []byte(`{"receipt": 1,`), 0o644))
	wait(2, 10*time.Millisecond, "half.json")
	require.NoError(t, os.Remove(filepath.Join(j.dir, "half.json")))
	_, _, err := j.join(t, "$REGISTRY/tides/gauge", Options{Wait: 2, Within: time.Second}, r.Host+"/tides/gauge")
	require.ErrorContains(t, err, "--wait takes a folder")
	ended, end := context.WithCancel(t.Context())
	end()
	_, err = Run(ended, j.Workspace(t, nil).Places, &receipts.Recorder{Receipt: &receipt.Receipt{}}, event.Discard, reference.Reference{}, []string{folder}, Options{Wait: 2, Within: time.Hour})
	require.ErrorIs(t, err, context.Canceled)

	elsewhere := &joins{j.Project, t.TempDir()}
	late := elsewhere.shipped(t, "arm64.json", "linux/arm64", "1.4.0")
	time.AfterFunc(50*time.Millisecond, func() { _ = os.Rename(late, filepath.Join(j.dir, "arm64.json")) }) // while it is waited for
	_, line, err := j.join(t, "$REGISTRY/tides/gauge", Options{Wait: 2, Within: time.Minute}, folder)
	require.NoError(t, err)
	require.Len(t, line.Platforms, 2)
	require.NoError(t, os.Rename(filepath.Join(j.dir, "arm64.json"), late))
	time.AfterFunc(20*time.Millisecond, func() { _ = os.Rename(late, filepath.Join(j.dir, "arm64.json")) })
	_, _, err = j.join(t, "$REGISTRY/tides/gauge", Options{Wait: 2, Within: 100 * time.Millisecond}, folder)
	require.NoError(t, err, "it came in the last pause")
	wait(1, time.Minute, "holds 2 receipts, and 1 are waited for")
}
