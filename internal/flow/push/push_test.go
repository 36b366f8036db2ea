package push

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/flow"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/remote/registry"
	"imbricat/internal/spec/plan"
)

// TestNameAt: an image keeps its name where nothing else is said, and no tag is made up.
func TestNameAt(t *testing.T) {
	const d = "sha256:0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"
	for _, c := range []struct{ from, to, name, wrong string }{
		{"gauge", "./out", "gauge", ""},
		{"gauge:1", "./out.tar", "gauge:1", ""},
		{"gauge", "./out#other", "other", ""},
		{"h:1/tides/gauge:2", "./out", "gauge:2", ""},
		{"h:1/tides/gauge@" + d, "./out", "", ""},
		{"./in#one", "./out", "one", ""},
		{"./in", "gauge:3", "gauge:3", ""},
		{d, "h:1/tides/gauge:4", "4", ""},
		{"gauge", "h:1/tides/gauge", "", "a push needs a tag"},
		{"gauge", "h:1/tides/gauge@" + d, "", "a digest cannot be chosen"},
		{"h:1/tides/gauge", "./out", "", "needs a tag or a digest"},
	} {
		from, err := reference.Parse(c.from)
		require.NoError(t, err)
		to, err := reference.Parse(c.to)
		require.NoError(t, err)
		name, err := NameAt(from, to)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong)
			var wrong *flow.Error
			require.ErrorAs(t, err, &wrong)
			require.Equal(t, flow.Usage, wrong.Kind)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.name, name, "%s to %s", c.from, c.to)
	}
}

// TestOlder: an image is older than what a tag stands on where both say when they were made.
func TestOlder(t *testing.T) {
	at := func(text string) map[string]string {
		return map[string]string{"org.opencontainers.image.created": text}
	}
	for _, c := range []struct {
		own, there string
		older      bool
	}{
		{"2026-03-01T12:00:00Z", "2026-03-02T12:00:00Z", true},
		{"2026-03-02T12:00:00Z", "2026-03-01T12:00:00Z", false},
		{"2026-03-01T12:00:00Z", "2026-03-01T12:00:00Z", false},
		{"2000-01-01T00:00:00Z", "2026-03-02T12:00:00Z", false}, // nobody knows when it was made
		{"2026-03-01T12:00:00Z", "", false},
		{"", "2026-03-02T12:00:00Z", false},
	} {
		body, err := json.Marshal(map[string]any{"annotations": at(c.there)})
		require.NoError(t, err)
		require.Equal(t, c.older, Older(nil, at(c.own), registry.Document{Body: body}) != "", "%+v", c)
	}
	require.Empty(t, Older(nil, at("2026-03-01T12:00:00Z"), registry.Document{Body: []byte("no JSON")}))
}

// standsAs is what stands at a tag, by what it says of itself.
func standsAs(t *testing.T, annotations map[string]string) registry.Document {
	body, err := json.Marshal(map[string]any{"annotations": annotations})
	require.NoError(t, err)
	return registry.Document{Body: body}
}

// TestGuard: fixed tags never move; prefixes move to higher versions alone, and other tags to what is not older; by force all but the
// fixed ones do.
func TestGuard(t *testing.T) {
	one := &Shipment{To: plan.Destination{Tags: []string{"1.4.0", "newest"}, Prefixes: []string{"1.4", "1"}, Fixed: []string{"[0-9]*"}}}
	one.To.Tags = append(one.To.Tags, one.To.Prefixes...)
	older := func(context.Context, registry.Document) (string, error) { return "it is later", nil }
	g := one.Guard(Moves{}, older)
	for tag, fixed := range map[string]bool{"1.4.0": true, "1.3.9": true, "newest": false, "1.4": false, "1": false} {
		require.Equal(t, fixed, g.Fixed(tag), tag)
		require.Equal(t, fixed, one.Guard(Moves{Back: true}, older).Fixed(tag), tag)
	}
	require.Nil(t, one.Guard(Moves{Back: true}, older).Older)
	for _, c := range []struct{ tag, version, why string }{
		{"newest", "1.3.0", "it is later"},
		{"1", "1.5.0", "it is the version 1.5.0"},
		{"1.4", "1.4.1", "it is the version 1.4.1"},
		{"1", "1.3.0", ""},
		{"1", "", ""}, // nobody knows what stands there
		{"1.4", "1.4.0", ""},
	} {
		why, err := g.Older(t.Context(), c.tag, standsAs(t, map[string]string{v1.AnnotationVersion: c.version}))
		require.NoError(t, err)
		require.Equal(t, c.why, why, "%+v", c)
	}
}

const pushed = `imbricat: 1
facts: {version: "1.4.0"}
images:
  gauge:
    base: none
    platforms: [linux/amd64]
    steps: [{copy: {from: page, to: /page}}]
    publish: {main: {to: $REGISTRY/tides/gauge, tags: TAGS}}
`

// TestShipments: what is not what the recipe tells now is not pushed, nor what lies about its commit, and it is said why there is nothing.
func TestShipments(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	recipe := func(tags string) { p.Write(t, "imbricat.yaml", strings.Replace(pushed, "TAGS", tags, 1)) }
	recipe(`["${facts.version}", "${git.short}", {tag: newest, when: git.branch == "main"}]`)
	p.Write(t, "page", "high water 4.2 m")
	commit := p.Commit(t, "2026-06-01T00:00:00Z")
	w := p.Workspace(t, nil)
	made := flowtest.Build(t, w)

	list, err := Shipments(t.Context(), w, Options{}, made)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, []string{"1.4.0", commit[:7]}, list[0].To.Tags)
	require.Equal(t, []receipt.Held{{Tag: "newest", Why: `its condition does not hold: git.branch == "main"`}}, list[0].Held)
	list, err = Shipments(t.Context(), w, Options{ByDigest: true}, made)
	require.NoError(t, err)
	require.Empty(t, list[0].To.Tags)
	require.Len(t, list[0].Wanted, 2)

	refused := func(w *workspace.Workspace, o Options, kind flow.Kind, why string) {
		t.Helper()
		_, err := Shipments(t.Context(), w, o, made)
		require.ErrorContains(t, err, why)
		var of *flow.Error
		if kind != flow.Failed {
			require.ErrorAs(t, err, &of)
			require.Equal(t, kind, of.Kind)
		}
	}
	refused(p.Workspace(t, map[string]string{"version": "1.5.0"}), Options{}, flow.Failed, "gauge in the store was built from version 1.4.0, and it is 1.5.0 now")
	p.Write(t, "page", "high water 4.3 m")
	dirty := p.Workspace(t, nil)
	made = flowtest.Build(t, dirty)
	refused(dirty, Options{}, flow.Refused, "gauge is not pushed as "+commit[:7]+": it was built from files that differ from the commit "+commit[:7])
	_, err = Shipments(t.Context(), dirty, Options{Dirty: true}, made)
	require.NoError(t, err)
	now := p.Commit(t, "2026-06-02T00:00:00Z")
	refused(p.Workspace(t, nil), Options{Dirty: true}, flow.Failed, "was built from commit "+commit+", and it is "+now+" now")
	refused(p.Workspace(t, nil), Options{ByDigest: true}, flow.Failed, "run `imbricat build gauge` first")
	recipe(`[{tag: newest, when: git.branch == "main"}]`)
	refused(p.Workspace(t, nil), Options{}, flow.Usage, "no tag's condition holds")
	p.Write(t, "imbricat.yaml", strings.Replace(pushed, "    publish: {main: {to: $REGISTRY/tides/gauge, tags: TAGS}}\n", "", 1))
	refused(p.Workspace(t, nil), Options{}, flow.Usage, "the recipe names no destination")
	recipe(`["1"]`)
	made = func(string) (digest.Descriptor, error) {
		return digest.Descriptor{}, errors.New("there is no image gauge")
	}
	refused(p.Workspace(t, nil), Options{}, flow.Failed, "there is no image gauge; run `imbricat build gauge` first")
}

// TestSend: all content is everywhere before any tag is written, a prefix stays where a higher version is, and a receipt tells how far it came.
func TestSend(t *testing.T) {
	r := flowtest.NewRegistry(t)
	p := flowtest.NewProject(t, r)
	p.Write(t, "page", "high water 4.2 m")
	recipe := func(second string) {
		p.Write(t, "imbricat.yaml", strings.Replace(pushed, "publish: {main: {to: $REGISTRY/tides/gauge, tags: TAGS}}\n",
			`publish: {main: {to: $REGISTRY/tides/gauge, tags: [{tag: "${facts.version}", prefixes: true}]}, other: {to: `+second+`/tides/other, tags: [newest]}}`+"\n", 1))
	}
	recipe("$REGISTRY")
	send := func(version string, force bool) (*receipt.Receipt, []*Shipment, error) {
		w := p.Workspace(t, map[string]string{"version": version})
		k, err := receipts.Begin(receipts.Options{Command: "push", Redactor: w.Redactor})
		require.NoError(t, err)
		shipments, err := Shipments(t.Context(), w, Options{}, flowtest.Build(t, w))
		require.NoError(t, err)
		require.NoError(t, HoldBackPrefixes(t.Context(), w.Places.Client, shipments, Moves{Back: force}))
		err = Send(t.Context(), w, shipments, Moves{Back: force}, event.Discard, &k.Part)
		Record(t.Context(), k, w.Store, shipments)
		return k.Receipt, shipments, err
	}
	k, shipments, err := send("1.4.0", false)
	require.NoError(t, err)
	tags := r.Tags(t, "tides/gauge")
	require.Len(t, tags, 3)
	require.Len(t, k.Images[0].Destinations, 2)
	require.Equal(t, []string{"1.4.0", "1.4", "1"}, k.Images[0].Destinations[0].Tags)
	require.Equal(t, r.Host+"/tides/gauge@"+string(k.Images[0].Digest), k.Images[0].Destinations[0].Reference)
	require.Positive(t, shipments[0].Line(shipments[0].To.Repository, nil).Sent)

	k, _, err = send("1.3.9", false)
	require.NoError(t, err)
	require.Equal(t, []string{"1.3.9", "1.3"}, k.Images[0].Destinations[0].Tags)
	require.Equal(t, "1.4.0 is there, and a prefix never moves back", k.Images[0].Destinations[0].Held[0].Why)
	require.Equal(t, tags["1"], r.Tags(t, "tides/gauge")["1"])
	_, _, err = send("1.3.8", true)
	require.NoError(t, err)
	require.NotEqual(t, tags["1"], r.Tags(t, "tides/gauge")["1"], "force moves it")

	// The second destination is away: the first gets no tag.
	tags = r.Tags(t, "tides/gauge")
	recipe("127.0.0.1:1")
	p.Write(t, "page", "high water 4.4 m")
	k, _, err = send("1.6.0", false)
	require.Error(t, err)
	require.Equal(t, tags, r.Tags(t, "tides/gauge"))
	require.Empty(t, k.Images[0].Destinations[0].Tags)
}
