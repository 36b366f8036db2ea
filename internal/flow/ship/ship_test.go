package ship

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/flow"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/push"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/receipt"
	"imbricat/internal/remote/share"
	"imbricat/internal/remote/transfer"
)

const shipped = `imbricat: 1
facts: {version: "1.4.0"}
images:
  gauge:
    base: none
    platforms: [linux/amd64, linux/arm64]
    steps: [{copy: {from: page, to: /page}}]
    checks: [{forbid: [/forbidden]}, {size: {packed: 1MB}}]
    publish:
      main:
        to: $REGISTRY/tides/gauge
        tags: [{tag: "${facts.version}", prefixes: true}, {tag: newest, when: git.branch == "trunk"}]
        fixed: ["[0-9]*.*"]
`

// again ships a project as it is now.
func again(t *testing.T, p *flowtest.Project, o Options, facts map[string]string) (*receipt.Receipt, error) {
	w := p.Workspace(t, facts)
	k, err := receipts.Begin(receipts.Options{Command: "ship", Redactor: w.Redactor, Exit: func(error) int { return 1 }})
	require.NoError(t, err)
	wanted, nothing, err := Wanted(w.Planned, o)
	require.NoError(t, err)
	require.Empty(t, nothing)
	require.Equal(t, []string{"gauge"}, wanted)
	o.Build = building.Options{Book: func() (*logbook.Book, error) { return nil, errors.New("there is no logbook") }, Cache: func(event.Sink) (*share.Cache, error) { return nil, nil }}
	return k.Receipt, New(w, k, event.Discard, o).Do(t.Context())
}

// TestShip: what would break a rule in the end is refused before any work, and nothing is pushed unless every check holds.
func TestShip(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	p.Write(t, "imbricat.yaml", shipped)
	p.Write(t, "page", "high water 4.2 m")
	first := p.Commit(t, "2026-06-01T00:00:00Z")
	k, err := again(t, p, Options{}, nil)
	require.NoError(t, err)
	tags := r.Tags(t, "tides/gauge")
	require.Len(t, tags, 4)
	for _, tag := range []string{"1.4.0", "1.4", "1", "newest"} {
		require.Equal(t, k.Images[0].Digest, tags[tag], tag)
	}
	require.Len(t, k.Checks, 4)

	refused := func(o Options, facts map[string]string, why string) {
		t.Helper()
		k, err := again(t, p, o, facts)
		require.ErrorContains(t, err, why)
		require.Empty(t, k.Steps, "nothing is built")
		require.Equal(t, tags, r.Tags(t, "tides/gauge"))
	}
	var move *transfer.MoveError

	// A fixed tag that stands on another commit; nobody may move it.
	p.Write(t, "page", "high water 4.3 m")
	p.Commit(t, "2026-06-02T00:00:00Z")
	refused(Options{}, nil, "the tag is fixed and was built from the commit "+first)
	refused(Options{Options: push.Options{Moves: push.Moves{Back: true}}}, nil, "the tag is fixed")

	// A new version moves what may move.
	_, err = again(t, p, Options{}, map[string]string{"version": "1.5.0"})
	require.NoError(t, err)
	tags = r.Tags(t, "tides/gauge")
	require.NotEqual(t, tags["1.4.0"], tags["1"])
	require.Equal(t, tags["1.5.0"], tags["1"])
	require.Equal(t, tags["1.5.0"], tags["newest"])

	// The first commit again: its prefix stays, and what is newest is not it, unless somebody insists.
	p.Git(t, "", "checkout", "-q", "-B", "trunk", first)
	refused(Options{}, map[string]string{"version": "1.4.1"}, "it was built from a later commit")
	_, err = again(t, p, Options{}, map[string]string{"version": "1.4.1"})
	require.ErrorAs(t, err, &move)
	k, err = again(t, p, Options{Options: push.Options{ByDigest: true}}, map[string]string{"version": "1.4.1"})
	require.NoError(t, err)
	require.Equal(t, tags, r.Tags(t, "tides/gauge"), "no tag is written by digest")
	require.Equal(t, []string{"1.4.1", "newest", "1.4", "1"}, k.Images[0].Destinations[0].Wanted)
	k, err = again(t, p, Options{Options: push.Options{Moves: push.Moves{Back: true}}}, map[string]string{"version": "1.4.1"})
	require.NoError(t, err)
	now := r.Tags(t, "tides/gauge")
	require.Equal(t, k.Images[0].Digest, now["newest"])
	require.Equal(t, k.Images[0].Digest, now["1"], "force moves prefixes too")
	tags = now

	// Another file than the commit has, under a tag that names no commit, is nobody's lie; a check that does not hold ends it.
	p.Write(t, "imbricat.yaml", shipped)
	p.Write(t, "page", "high water 4.4 m")
	for _, c := range []struct {
		recipe string
		kind   flow.Kind
		fails  ChecksError
	}{
		{"checks: [{forbid: [/page]}, {size: {packed: 1MB}}]", flow.Differs, ChecksError{2, 0, 4, false, false}},
		{"checks: [{try: {command: [/page], within: 1s}}]", flow.Unable, ChecksError{0, 2, 2, false, false}},
		{"checks: [{try: {command: [/page], within: 1s}}, {forbid: [/page]}]", flow.Differs, ChecksError{2, 2, 4, false, false}},
	} {
		p.Write(t, "imbricat.yaml", replaceOnce(t, shipped, "checks: [{forbid: [/forbidden]}, {size: {packed: 1MB}}]", c.recipe))
		k, err := again(t, p, Options{}, map[string]string{"version": "1.6.0"})
		var kind *flow.Error
		var fails *ChecksError
		require.ErrorAs(t, err, &kind)
		require.Equal(t, c.kind, kind.Kind)
		require.ErrorAs(t, err, &fails)
		require.Equal(t, c.fails, *fails)
		require.NotEmpty(t, k.Steps)
		require.Equal(t, tags, r.Tags(t, "tides/gauge"))
		_, err = again(t, p, Options{Without: []string{"checks", "push"}}, map[string]string{"version": "1.6.0"})
		require.NoError(t, err)
	}
	require.Equal(t, "2 of 4 checks do not hold; nothing was pushed", (&ChecksError{2, 0, 4, false, false}).Error())
	require.Equal(t, "1 of 4 checks does not hold; nothing was pushed", (&ChecksError{0, 1, 4, false, false}).Error())

	// A registry that may not be pushed to is asked before anything is built.
	p.Write(t, "imbricat.yaml", replaceOnce(t, shipped, "$REGISTRY/tides/gauge", "127.0.0.1:1/tides/gauge"))
	tags = r.Tags(t, "tides/gauge")
	refused(Options{}, map[string]string{"version": "1.7.0"}, "127.0.0.1:1/tides/gauge cannot be pushed to")
}

// TestShipChecksTheLock: a base that a lock does not hold is refused before any work, unless the lock is left out.
func TestShipChecksTheLock(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	p.Write(t, "imbricat.yaml", replaceOnce(t, shipped, "base: none", "base: $REGISTRY/bases/none:1"))
	p.Write(t, "page", "low water 0.4 m")
	p.Write(t, "imbricat.lock", "imbricat-lock: 1\nbases: {}\n")
	p.Commit(t, "2026-06-01T00:00:00Z")
	_, err := again(t, p, Options{}, nil)
	var kind *flow.Error
	require.ErrorAs(t, err, &kind)
	require.Equal(t, flow.Differs, kind.Kind)
	require.ErrorContains(t, err, "is stale: it does not hold "+r.Host+"/bases/none:1")
	_, err = again(t, p, Options{Without: []string{"lock"}}, nil)
	require.ErrorContains(t, err, "bases/none", "it is looked for now, and is not there")
	require.NotErrorAs(t, err, &kind)
}

// TestDirty: tags that name a commit are refused for other files before anything is built.
func TestDirty(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	p.Write(t, "imbricat.yaml", replaceOnce(t, shipped, `{tag: newest, when: git.branch == "trunk"}`, `"${git.short}"`))
	p.Write(t, "page", "low water 0.4 m")
	commit := p.Commit(t, "2026-06-01T00:00:00Z")
	p.Write(t, "page", "low water 0.5 m")
	k, err := again(t, p, Options{}, nil)
	var kind *flow.Error
	require.ErrorAs(t, err, &kind)
	require.Equal(t, flow.Refused, kind.Kind)
	require.ErrorContains(t, err, "gauge is not pushed as "+commit[:7]+": it is made from 1 file that differs from the commit (page)")
	require.Empty(t, k.Steps)
	require.Empty(t, r.Tags(t, "tides/gauge"))
	_, err = again(t, p, Options{Options: push.Options{Dirty: true}}, nil)
	require.NoError(t, err)
	require.Contains(t, r.Tags(t, "tides/gauge"), commit[:7])
}

// TestWanted: images without a tag to write are left out, and where there is none it is said why.
func TestWanted(t *testing.T) {
	p := flowtest.NewProject(t, nil)
	p.Write(t, "page", "low water 0.4 m")
	p.Commit(t, "2026-06-01T00:00:00Z")
	const head = "imbricat: 1\nimages:\n  almanac: {base: none, platforms: [linux/amd64], steps: [{copy: {from: page, to: /page}}]}\n"
	with := func(tags string) string {
		return head + "  gauge: {base: none, platforms: [linux/amd64], steps: [{copy: {from: page, to: /page}}], publish: {main: {to: registry.tideline.example/tides/gauge, tags: " + tags + "}}}\n"
	}
	for _, c := range []struct {
		recipe   string
		o        push.Options
		wanted   []string
		why, bad string
	}{
		{head, push.Options{}, nil, "", "the recipe names no destination"},
		{with(`["1.4.0"]`), push.Options{}, []string{"gauge"}, "", ""},
		{with(`[]`), push.Options{}, nil, "no destination names a tag; --by-digest pushes without one", ""},
		{with(`[]`), push.Options{ByDigest: true}, []string{"almanac", "gauge"}, "", ""},
		{with(`[{tag: newest, when: git.branch == "main"}]`), push.Options{}, nil, `no tag's condition holds: newest of gauge needs git.branch == "main"`, ""},
		{with(`[{tag: newest, when: git.branch == "main"}, "1.4.0"]`), push.Options{}, []string{"gauge"}, "", ""},
	} {
		p.Write(t, "imbricat.yaml", c.recipe)
		wanted, nothing, err := Wanted(p.Workspace(t, nil).Planned, Options{Options: c.o})
		if c.bad != "" {
			require.ErrorContains(t, err, c.bad)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.wanted, wanted, c.recipe)
		require.Equal(t, c.why, nothing)
	}
	// Where no branch is known it is told how to say which.
	p.Write(t, "imbricat.yaml", with(`[{tag: newest, when: git.branch == "trunk"}]`))
	p.Git(t, "", "checkout", "-q", "--detach")
	_, nothing, err := Wanted(p.Workspace(t, nil).Planned, Options{})
	require.NoError(t, err)
	require.Contains(t, nothing, "IMBRICAT_BRANCH tells which it is of")
}

func replaceOnce(t *testing.T, text, old, with string) string {
	require.Equal(t, 1, strings.Count(text, old), old)
	return strings.Replace(text, old, with, 1)
}
