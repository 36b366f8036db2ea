package locking

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/engine/order"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/history"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/lock"
)

const locked = `imbricat: 1
images:
  gauge:
    base: BASE
    platforms: [linux/amd64]
    steps: [{copy: {from: tides, to: /tides}}]
`

// refreshed refreshes the lock of a project, or only compares it.
func refreshed(t *testing.T, p *flowtest.Project, o Options) *report.Lock {
	document, err := Refresh(t.Context(), p.Workspace(t, nil), o)
	require.NoError(t, err)
	return document
}

// TestDivisions: a lock is written once something tells how files change, stays as long as that serves, and comparing it writes nothing.
func TestDivisions(t *testing.T) {
	p := flowtest.NewProject(t, nil)
	p.Write(t, "imbricat.yaml", strings.Replace(locked, "BASE", "none", 1))
	for n := range 40 {
		p.Write(t, fmt.Sprintf("tides/still/%d", n), strings.Repeat(fmt.Sprint("it never changes ", n), 3000))
	}
	d := refreshed(t, p, Options{})
	require.False(t, d.Stale, "there is no base, and nothing tells how files change")
	require.NoFileExists(t, d.File)
	for n := range 6 {
		p.Write(t, "tides/lively", strings.Repeat(fmt.Sprint("high water ", n), 3000))
		p.Commit(t, fmt.Sprintf("2026-06-0%dT00:00:00Z", n+1))
	}
	d = refreshed(t, p, Options{BasesOnly: true})
	require.False(t, d.Stale)
	d = refreshed(t, p, Options{Check: true})
	require.True(t, d.Stale)
	require.False(t, d.Written)
	require.NoFileExists(t, d.File)
	d = refreshed(t, p, Options{})
	require.True(t, d.Written)
	require.Equal(t, "git", d.Images[0].History)
	require.Less(t, d.Images[0].After, d.Images[0].Before)
	text, err := os.ReadFile(d.File)
	require.NoError(t, err)
	held, err := lock.Parse(d.File, text)
	require.NoError(t, err)
	rules := held.Images["gauge"]
	require.NotEqual(t, rules.Part("tides/lively"), rules.Part("tides/still/1"))
	for _, o := range []Options{{}, {Check: true}, {BasesOnly: true}} {
		require.False(t, refreshed(t, p, o).Stale, "%+v", o)
	}
	p.Write(t, "imbricat.yaml", strings.Replace(strings.Replace(locked, "BASE", "none", 1), "    steps", "    stack: {policy: none}\n    steps", 1))
	d = refreshed(t, p, Options{Check: true})
	require.True(t, d.Stale)
	require.Equal(t, "is no longer divided by the lock", d.Images[0].Note)

	// A lock that cannot be read is written anew, and never taken for one that is as it should be.
	require.NoError(t, os.WriteFile(d.File, []byte("imbricat-lock: 1\nx: y\n"), 0o644))
	_, err = Refresh(t.Context(), p.Workspace(t, nil), Options{Check: true})
	require.ErrorContains(t, err, "is not a lock")
}

// TestTolerated: what makes a lock stale is a gain that is worth moving for, known to everybody.
func TestTolerated(t *testing.T) {
	for _, c := range []struct {
		k               history.Changes
		version, before int64
		want            bool
	}{
		{history.Changes{Source: "git"}, 74, 100, false},
		{history.Changes{Source: "git"}, 76, 100, true},
		{history.Changes{Source: "registry"}, 10, 100, false},
		{history.Changes{Source: "git", Shallow: true}, 10, 100, true},
		{history.Changes{Source: "store"}, 10, 100, true},
	} {
		require.Equal(t, c.want, tolerated(c.k, order.Refreshed{Version: c.version, Before: c.before}), "%+v", c)
	}
}

// TestBases: a tag is locked by what it stands on, moves when it is asked again, and what is named by digest is not locked.
func TestBases(t *testing.T) {
	r := flowtest.NewRegistry(t)
	first := r.PutBase(t, "one", "")
	p := flowtest.NewProject(t, r)
	p.Write(t, "tides/still", "it never changes")
	p.Write(t, "imbricat.yaml", strings.Replace(locked, "BASE", "$REGISTRY/bases/tide:1", 1))
	d := refreshed(t, p, Options{Check: true})
	require.True(t, d.Stale, "there is none")
	d = refreshed(t, p, Options{BasesOnly: true})
	require.Equal(t, first, d.Bases[r.Host+"/bases/tide:1"])
	require.False(t, refreshed(t, p, Options{Check: true}).Stale)
	second := r.PutBase(t, "two", "")
	d = refreshed(t, p, Options{Check: true})
	require.True(t, d.Stale)
	require.Equal(t, []lock.Difference{{Reference: r.Host + "/bases/tide:1", Locked: first, Now: d.Bases[r.Host+"/bases/tide:1"]}}, d.Differences)
	require.Equal(t, second, d.Differences[0].Now)
	p.Write(t, "imbricat.yaml", strings.Replace(locked, "BASE", "$REGISTRY/bases/tide@"+string(first), 1))
	require.Empty(t, Moving(p.Workspace(t, nil).Plan))
	p.Write(t, "imbricat.yaml", strings.Replace(locked, "BASE", "$REGISTRY/bases/none:1", 1))
	_, err := Refresh(t.Context(), p.Workspace(t, nil), Options{})
	require.ErrorContains(t, err, "the base "+r.Host+"/bases/none:1")
}
