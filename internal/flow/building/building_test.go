package building_test

import (
	"errors"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/flow"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/share"
)

const recipe = `imbricat: 1
images:
  gauge:
    base: none
    platforms: [linux/amd64, linux/arm64]
    steps: [{copy: {from: page, to: /page}}, {name: sesame-42, write: {to: /text, text: low}}]
`

// TestRun: a build tells in its document what became of each step, without secrets, goes into the logbook and the shared cache, and
// fails for neither of these.
func TestRun(t *testing.T) {
	p := flowtest.NewProject(t, nil)
	p.Write(t, "imbricat.yaml", recipe)
	p.Write(t, "page", "high water 4.2 m")
	book, err := logbook.Open(filepath.Join(t.TempDir(), "logbook.db"), 0)
	require.NoError(t, err)
	defer book.Close()
	folder, err := share.InFolder(t.TempDir())
	require.NoError(t, err)
	cache := share.New(folder, p.Store, share.Mode("both"), share.DefaultPatience, func(error) {})
	run := func(p *flowtest.Project, o building.Options) (*report.Build, []string) {
		w := p.Workspace(t, nil)
		w.Redactor.Add([]byte("sesame-42"))
		var warnings []string
		if o.Book == nil {
			o.Book = func() (*logbook.Book, error) { return book, nil }
		}
		if o.Cache == nil {
			o.Cache = func(event.Sink) (*share.Cache, error) { return cache, nil }
		}
		d, result, err := building.Run(t.Context(), w, event.Func(func(e event.Event) {
			if one, is := e.(event.Warning); is {
				warnings = append(warnings, one.Code)
			}
		}), o)
		require.NoError(t, err)
		require.NotNil(t, result)
		return d, warnings
	}
	d, warnings := run(p, building.Options{Command: "imbricat build"})
	require.Empty(t, warnings)
	require.Equal(t, 2, d.Ran)
	require.Equal(t, 2, d.Reused, "the second platform has the same")
	require.Len(t, d.Images[0].Platforms, 2)
	require.Equal(t, "••••••", d.Steps[1].Step)
	require.Positive(t, d.Shared.Written)
	require.EqualValues(t, 1, d.Number)
	d, _ = run(p, building.Options{})
	require.Zero(t, d.Ran)
	require.EqualValues(t, 2, d.Number)
	d, _ = run(p, building.Options{Fresh: []string{"gauge:2"}})
	require.Equal(t, 1, d.Ran)
	d, _ = run(p, building.Options{FreshAll: true})
	require.Equal(t, 2, d.Ran)
	name, err := p.Workspace(t, nil).Name()
	require.NoError(t, err)
	builds, err := book.List(name, 10)
	require.NoError(t, err)
	require.Len(t, builds, 4)

	d, warnings = run(p, building.Options{Book: func() (*logbook.Book, error) { return nil, errors.New("it is locked") }})
	require.Equal(t, []string{event.Logbook}, warnings)
	require.Equal(t, "it is locked", d.Warnings[0].Text)
	require.Zero(t, d.Number)
	w := p.Workspace(t, nil)
	_, _, err = building.Run(t.Context(), w, event.Discard, building.Options{Cache: func(event.Sink) (*share.Cache, error) { return nil, errors.New("no such cache") }})
	require.ErrorContains(t, err, "no such cache")
}

// TestCheckSteps: a step is known by its name, its line and its place.
func TestCheckSteps(t *testing.T) {
	p := flowtest.NewProject(t, nil)
	p.Write(t, "imbricat.yaml", recipe)
	steps := p.Workspace(t, nil).Plan
	require.NoError(t, building.CheckSteps(steps, []string{"sesame-42", "gauge:1", "gauge:2", "copy page to /page"}))
	for name, hint := range map[string]string{"gauge:3": `did you mean "gauge:`, "sesame-41": `did you mean "sesame-42"?`, "render the pages": "name a step by its name:"} {
		err := building.CheckSteps(steps, []string{name})
		var kind *flow.Error
		require.ErrorAs(t, err, &kind)
		require.Equal(t, flow.Usage, kind.Kind)
		require.ErrorContains(t, err, hint)
	}
}
