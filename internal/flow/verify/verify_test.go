package verify_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/flow"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/push"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/verify"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
)

const recipe = `imbricat: 1
images:
  gauge:
    base: none
    platforms: [linux/amd64]
    steps: [{copy: {from: page, to: /page}}]
    publish: {main: {to: $REGISTRY/tides/gauge, tags: ["1.4.0", newest]}}
`

// TestPublished: what a receipt says is held against what is there now, tag by tag, and what is gone or moved is told.
func TestPublished(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	p.Write(t, "imbricat.yaml", recipe)
	p.Write(t, "page", "high water 4.2 m")
	dir := t.TempDir()
	shipped := func(name string, sent bool) string {
		w := p.Workspace(t, nil)
		file := filepath.Join(dir, name)
		k, err := receipts.Begin(receipts.Options{Command: "push", Place: file, Redactor: w.Redactor})
		require.NoError(t, err)
		shipments, err := push.Shipments(t.Context(), w, push.Options{}, flowtest.Build(t, w))
		require.NoError(t, err)
		if sent {
			require.NoError(t, push.Send(t.Context(), w, shipments, push.Moves{}, event.Discard, &k.Part))
		}
		push.Record(t.Context(), k, w.Store, shipments)
		require.NoError(t, k.Close(t.Context(), nil))
		return file
	}
	look := func(subjects ...string) *report.Verification {
		d, err := verify.Published(t.Context(), p.Workspace(t, nil).Places, subjects, true, event.Discard)
		require.NoError(t, err)
		return d
	}
	file := shipped("one.json", true)
	d := look(file, r.Host+"/tides/gauge:1.4.0", "./"+relative(t, file))
	require.Zero(t, d.Findings(), "%+v", d.Subjects)
	require.Len(t, d.Subjects, 3)
	require.Positive(t, d.Subjects[0].Bytes)

	// It moved, and one tag is gone.
	p.Write(t, "page", "high water 4.3 m")
	shipped("two.json", true)
	require.NoError(t, r.Client.Repository(r.Host, "tides/gauge").Delete(t.Context(), "1.4.0"))
	d = look(file)
	require.Equal(t, 2, d.Findings(), "%+v", d.Subjects)
	require.Contains(t, d.Subjects[0].Findings[0], "the tag 1.4.0 is gone")
	require.Contains(t, d.Subjects[0].Findings[1], "the tag newest stands on "+string(r.Tags(t, "tides/gauge")["newest"])+" now")
	require.Equal(t, []string{"by the receipt it did not get there whole"}, look(shipped("unsent.json", false)).Subjects[0].Findings)
	require.Equal(t, []string{"it is not there"}, look(r.Host + "/tides/gauge:9").Subjects[0].Findings)

	for _, arg := range []string{r.Host + "/tides/gauge", "none.json", "a b"} {
		_, err := verify.Published(t.Context(), p.Workspace(t, nil).Places, []string{arg}, false, event.Discard)
		var kind *flow.Error
		require.ErrorAs(t, err, &kind, arg)
		require.Equal(t, flow.Usage, kind.Kind)
	}
	now, err := verify.StandsOn(t.Context(), r.Client, p.Workspace(t, nil).Plan.Destinations("gauge")[0].Repository, "nothing")
	require.NoError(t, err)
	require.Empty(t, now)
}

func relative(t *testing.T, file string) string {
	t.Chdir(filepath.Dir(file))
	return filepath.Base(file)
}
