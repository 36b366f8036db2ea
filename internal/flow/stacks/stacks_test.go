package stacks_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/engine"
	"imbricat/internal/engine/layering"
	"imbricat/internal/flow"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/stacks"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

const recipe = `imbricat: 1
images:
  gauge:
    base: none
    platforms: [linux/amd64]
    steps: [{copy: {from: still, to: /still}}, {copy: {from: lively, to: /lively}}]
`

// TestStacks: what a version costs is told with the layers of today, those of the recipe, and one layer; and replayed over what really was.
func TestStacks(t *testing.T) {
	p := flowtest.NewProject(t, nil)
	p.Write(t, "imbricat.yaml", recipe)
	p.Write(t, "still", strings.Repeat("it never changes ", 60_000))
	var commits []string
	for n := range 5 {
		p.Write(t, "lively", strings.Repeat(fmt.Sprint("high water ", n), 1000))
		commits = append(commits, p.Commit(t, fmt.Sprintf("2026-06-0%dT00:00:00Z", n+1)))
		if n%2 == 0 {
			p.Git(t, "", "tag", fmt.Sprintf("v1.%d", n))
		}
	}
	w := p.Workspace(t, nil)
	o, done, err := w.Engine(t.Context(), event.Discard)
	require.NoError(t, err)
	defer done()
	h, err := w.History(false)
	require.NoError(t, err)
	var list []report.Stack
	var unit *plan.Unit
	var content *layering.Content
	_, err = engine.Look(t.Context(), engine.LookOptions{Inputs: o.Inputs, Weigh: func(ctx context.Context, one *engine.UnitPreview, c *layering.Content) error {
		unit, content = one.Unit, c
		stack, err := stacks.Of(ctx, h, &o, one, c, true)
		list = append(list, stack)
		return err
	}})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "git", list[0].History)
	costs := map[string]report.StackCost{}
	for _, c := range list[0].Costs {
		costs[c.Name] = c
	}
	require.Less(t, costs["this stack"].Pushed, costs["one layer"].Pushed/10)
	require.Equal(t, costs["this stack"], func() report.StackCost { c := costs["the recipe's own order"]; c.Name = "this stack"; return c }())
	require.Equal(t, 1, costs["one layer"].Layers)
	require.Equal(t, "/lively", list[0].Volatile[0].Path)

	replay := func(span string, tags bool) report.Replay {
		r, err := stacks.Replay(t.Context(), h, unit, content, span, tags)
		require.NoError(t, err)
		return r
	}
	r := replay(commits[0]+"..", false)
	require.Len(t, r.Versions, 4)
	require.Less(t, r.Totals[0].Pushed, r.Totals[2].Pushed/10)
	require.Equal(t, r.Changed, r.Totals[0].Pushed, "only what changed is pushed, with a layer of its own")
	r = replay("v1.0..v1.4", true)
	require.Equal(t, []string{"v1.0", "v1.4"}, []string{r.From, r.To})
	require.Len(t, r.Versions, 2)
	for span, why := range map[string]string{"v1.4..v1.0": "does not come before", "v1.9..": "v1.9", "gauge": "takes two revisions, A..B, or a repository"} {
		_, err := stacks.Replay(t.Context(), h, unit, content, span, false)
		var kind *flow.Error
		require.ErrorAs(t, err, &kind, span)
		require.Equal(t, flow.Usage, kind.Kind)
		require.ErrorContains(t, err, why)
	}
}
