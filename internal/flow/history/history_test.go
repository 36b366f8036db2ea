package history_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/engine"
	"imbricat/internal/engine/layering"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/history"
	"imbricat/internal/flow/push"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

const recipe = `imbricat: 1
facts: {version: "1.0.0"}
images:
  gauge:
    base: none
    platforms: [linux/amd64]
    stack: {policy: POLICY}
    steps: [{copy: {from: tides, to: /tides}}]
    publish: {main: {to: $REGISTRY/tides/gauge, tags: ["${facts.version}"], fixed: ["[0-9]*.*"]}}
`

// content returns what the image of a workspace is to hold, with what is known of its changes.
func content(t *testing.T, p *flowtest.Project, far bool, facts map[string]string) (*layering.Content, history.Changes) {
	w := p.Workspace(t, facts)
	o, done, err := w.Engine(t.Context(), event.Discard)
	require.NoError(t, err)
	defer done()
	h, err := w.History(far)
	require.NoError(t, err)
	var content *layering.Content
	var k history.Changes
	_, err = engine.Look(t.Context(), engine.LookOptions{Inputs: o.Inputs, Weigh: func(ctx context.Context, one *engine.UnitPreview, c *layering.Content) (err error) {
		content = c
		k, err = h.Learn(ctx, one.Unit, c)
		return err
	}})
	require.NoError(t, err)
	return content, k
}

// changes counts by path in how many versions something changed.
func changes(c *layering.Content) map[string]int {
	all := map[string]int{}
	for _, item := range c.Items {
		all[item.Path] = item.Changes.Len()
	}
	return all
}

// TestLearn: the first source that tells enough is believed: what is published, then commits, then earlier builds here; each tells that
// one file changes and the other does not.
func TestLearn(t *testing.T) {
	for source, c := range map[string]struct {
		commit, build, publish bool
		far                    bool
		want                   string
	}{
		"git":                   {commit: true, want: "git"},
		"store":                 {build: true, want: "store"},
		"registry":              {commit: true, build: true, publish: true, far: true, want: "registry"},
		"registry is not asked": {build: true, publish: true, want: "store"},
		"nothing":               {want: ""},
	} {
		t.Run(source, func(t *testing.T) {
			r := flowtest.NewRegistry(t)
			p := flowtest.NewProject(t, r)
			p.Write(t, "imbricat.yaml", strings.ReplaceAll(recipe, "POLICY", "lock"))
			p.Write(t, "tides/still", "it never changes")
			for n := range 5 {
				p.Write(t, "tides/lively", fmt.Sprintf("high water %d", n))
				if c.commit {
					p.Commit(t, fmt.Sprintf("2026-06-0%dT00:00:00Z", n+1))
				}
				if c.build || c.publish {
					w := p.Workspace(t, map[string]string{"version": fmt.Sprintf("1.%d.0", n)})
					o, done, err := w.Engine(t.Context(), event.Discard)
					require.NoError(t, err)
					result, err := engine.Run(t.Context(), o)
					require.NoError(t, err)
					done()
					name, err := w.Name()
					require.NoError(t, err)
					for range 2 { // the same again is no version
						history.NoteBuild(t.Context(), w.Store, name, result)
					}
					if c.publish {
						send(t, w, flowtest.Build(t, w))
					}
				}
			}
			got, k := content(t, p, c.far, nil)
			require.Equal(t, c.want, k.Source)
			if c.want == "" {
				require.Equal(t, "nothing but paths and sizes", k.Described())
				require.Zero(t, changes(got)["tides/lively"])
				return
			}
			require.Equal(t, 4, k.Versions, k.Described())
			require.Equal(t, map[string]int{"tides/lively": 4, "tides/still": 0}, changes(got))
			list := history.Volatilities(got, k)
			require.Equal(t, "/tides/lively", list[0].Path)
			require.InDelta(t, 1, list[0].Share, 0)
			r.Stop()
			if c.far { // a registry that is away tells nothing, and the next source does
				_, k = content(t, p, true, nil)
				require.Equal(t, "git", k.Source)
			}
		})
	}
}

// TestPredecessor: an image that follows finds what was published last, with what its layers hold.
func TestPredecessor(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	p.Write(t, "imbricat.yaml", strings.ReplaceAll(recipe, "POLICY", "follow"))
	p.Write(t, "tides/still", "it never changes")
	var digests []string
	find := func(st *flowtest.Project) *layering.Predecessor {
		w := st.Workspace(t, nil)
		require.True(t, history.Followed(w.Plan))
		found, err := history.NewPredecessors(w.Plan, w.Store, w.Places).Predecessor(t.Context(), imageOf(w.Plan))
		require.NoError(t, err)
		return found
	}
	require.Nil(t, find(p), "nothing is published yet")
	for n := range 3 {
		p.Write(t, "tides/lively", fmt.Sprintf("high water %d", n))
		w := p.Workspace(t, map[string]string{"version": fmt.Sprintf("1.%d.0", n)})
		send(t, w, flowtest.Build(t, w))
		found := find(p)
		require.NotNil(t, found)
		digests = append(digests, string(found.Digest))
		require.Len(t, found.Past, n, "what it followed is its past")
		if n > 0 {
			require.Equal(t, digests[n-1], string(found.Follows))
		}
	}
	// A machine that never saw it learns the same from the registry alone.
	other := flowtest.NewProject(t, r)
	other.Write(t, "imbricat.yaml", strings.ReplaceAll(recipe, "POLICY", "follow"))
	other.Write(t, "tides/still", "")
	here, there := find(p), find(other)
	require.Equal(t, here.Layers, there.Layers)
	require.Equal(t, here.Stored, there.Stored)
	require.Len(t, there.Past, 2)
	other.Write(t, "imbricat.yaml", strings.ReplaceAll(strings.ReplaceAll(recipe, "POLICY", "follow"), "linux/amd64", "linux/s390x"))
	require.Nil(t, find(other), "it was never published for that platform")
}

func imageOf(p *plan.Plan) *plan.Unit { return p.Images[0].Units[0] }

// send publishes what was built.
func send(t *testing.T, w *workspace.Workspace, made func(string) (digest.Descriptor, error)) {
	shipments, err := push.Shipments(t.Context(), w, push.Options{}, made)
	require.NoError(t, err)
	var part string
	require.NoError(t, push.Send(t.Context(), w, shipments, push.Moves{}, event.Discard, &part))
}
