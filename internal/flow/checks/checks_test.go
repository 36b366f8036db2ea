package checks_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/flow/checks"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/receipt"
)

const recipe = `imbricat: 1
stages: {tools: {base: BASE, steps: [{write: {to: /tool, text: tool}}]}}
images:
  gauge:
    base: {stage: tools}
    platforms: [linux/amd64]
    steps: [{copy: {from: page, to: /page}}]
    checks: CHECKS
`

// TestBase: how old a base is, and whether its tag still stands on it, is asked through the recipe's own stages; what cannot be found out
// is a verdict.
func TestBase(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	p.Write(t, "page", "high water 4.2 m")
	decide := func(base, all string) receipt.Check {
		t.Helper()
		p.Write(t, "imbricat.yaml", strings.NewReplacer("BASE", base, "CHECKS", all).Replace(recipe))
		w := p.Workspace(t, nil)
		w.Redactor.Add([]byte("sesame-42"))
		var events []event.Finished
		list, err := checks.All(t.Context(), w, checks.Made{Image: flowtest.Build(t, w)}, false, event.Func(func(e event.Event) { events = append(events, e.(event.Finished)) }))
		require.NoError(t, err)
		require.Len(t, list, 1)
		require.Len(t, events, 1)
		return list[0]
	}
	r.PutBase(t, "one", "1767225600") // 2026-01-01
	one := r.Host + "/bases/tide:1"
	for _, c := range []struct{ base, check, outcome, detail string }{
		{"none", "[{base: {younger: 1d, current: true}}]", "holds", "there is none"},
		{one, "[{base: {younger: 1d}}]", "fails", one + " was made "},
		{one, "[{base: {younger: 90000d}}]", "holds", one + " was made "},
		{one, "[{base: {current: true}}]", "holds", one},
		{"none", "[{forbid: [/sesame-42, /page]}]", "fails", "there are /page"},
		{"none", "[{forbid: [/none]}]", "holds", "nothing is there"},
		{"none", "[{try: {command: [/page], within: 1s}}]", "unable", "no command is run here"},
	} {
		got := decide(c.base, c.check)
		require.Equal(t, c.outcome, got.Outcome, "%+v: %+v", c, got)
		require.Contains(t, got.Detail, c.detail)
		require.NotContains(t, got.Check, "sesame-42")
	}
	// The lock holds the first, and the tag stands on another now.
	p.Write(t, "imbricat.lock", "imbricat-lock: 1\nbases: {$REGISTRY/bases/tide:1: "+string(r.Tags(t, "bases/tide")["1"])+"}\n")
	r.PutBase(t, "two", "1767225600")
	got := decide(one, "[{base: {current: true}}]")
	require.Equal(t, "fails", got.Outcome)
	require.Contains(t, got.Detail, one+" stands for "+string(r.Tags(t, "bases/tide")["1"])+" now; `imbricat lock` takes that")
	r.Stop()
	require.Equal(t, "unable", decide(one, "[{base: {current: true}}]").Outcome)
}
