package sharing_test

import (
	"bytes"
	"errors"
	"io"
	"path/filepath"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/sharing"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/share"
)

// TestBringer: a blob comes from a repository or a folder, whole or not at all, and one that is gone is told from a place that is away.
func TestBringer(t *testing.T) {
	r := flowtest.NewRegistry(t)
	text := []byte("high water 4.2 m")
	desc := digest.Descriptor{MediaType: v1.MediaTypeImageLayer, Digest: digest.FromBytes(text), Size: int64(len(text))}
	gone := digest.Descriptor{MediaType: v1.MediaTypeImageLayer, Digest: digest.FromBytes([]byte("gone")), Size: 4}
	require.NoError(t, r.Client.Repository(r.Host, "tides/gauge").PutBlob(t.Context(), desc, func(at int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text[at:])), nil }))
	p := flowtest.NewProject(t, r)
	bring := sharing.Fetcher(p.Store, nil, func() (*registry.Client, error) { return r.Client, nil })
	place := r.Host + "/tides/gauge"
	require.ErrorIs(t, bring(t.Context(), gone, place), store.ErrNotThere)
	require.NoError(t, bring(t.Context(), desc, place))
	require.True(t, p.Store.Has(desc))
	wrong := desc
	wrong.Size--
	require.ErrorIs(t, sharing.Fetcher(flowtest.NewProject(t, r).Store, nil, func() (*registry.Client, error) { return r.Client, nil })(t.Context(), wrong, place), digest.ErrMismatch)
	require.ErrorIs(t, bring(t.Context(), gone, t.TempDir()), store.ErrNotThere)
	require.ErrorContains(t, sharing.Fetcher(p.Store, nil, func() (*registry.Client, error) { return nil, errors.New("no settings") })(t.Context(), gone, place), "no settings")
	r.Stop()
	err := bring(t.Context(), gone, place)
	require.ErrorIs(t, err, registry.ErrUnreachable)
	require.NotErrorIs(t, err, store.ErrNotThere)
}

// TestUpload: that a shared cache cannot be written to is a warning, and one that is only read from gets nothing.
func TestUpload(t *testing.T) {
	p := flowtest.NewProject(t, nil)
	p.Write(t, "imbricat.yaml", "imbricat: 1\nimages: {gauge: {base: none, platforms: [linux/amd64], steps: [{write: {to: /text, text: low}}]}}\n")
	w := p.Workspace(t, nil)
	o, done, err := w.Engine(t.Context(), event.Discard)
	require.NoError(t, err)
	defer done()
	folder, err := share.InFolder(t.TempDir())
	require.NoError(t, err)
	o.Shared = share.New(folder, p.Store, share.Both, share.DefaultPatience, func(error) {}) // else nothing is gathered
	result, err := engine.Run(t.Context(), o)
	require.NoError(t, err)
	upload := func(dir, mode string) (last event.Finished, warned bool) {
		folder, err := share.InFolder(dir)
		require.NoError(t, err)
		cache := share.New(folder, p.Store, share.Mode(mode), share.DefaultPatience, func(error) {})
		sharing.Upload(t.Context(), w.Plan, cache, result, event.Func(func(e event.Event) {
			switch e := e.(type) {
			case event.Finished:
				last = e
			case event.Warning:
				warned = true
				require.Equal(t, event.SharedCache, e.Code)
			}
		}))
		return last, warned
	}
	dir := filepath.Join(t.TempDir(), "cache")
	last, _ := upload(dir, "read")
	require.Empty(t, last.Task.ID)
	require.NoDirExists(t, dir)
	last, warned := upload(dir, "both")
	require.False(t, warned)
	require.Equal(t, event.Sent, last.Outcome)
	require.NotEmpty(t, last.Detail)
	last, _ = upload(dir, "both")
	require.Equal(t, event.Skipped, last.Outcome)
	require.Equal(t, event.Text("nothing new to send"), last.Reason)
	p.Write(t, "file", "no folder")
	last, warned = upload(filepath.Join(p.Dir, "file"), "both")
	require.True(t, warned)
	require.Equal(t, event.Text("it could not be written to"), last.Reason)
	sharing.Upload(t.Context(), w.Plan, nil, result, event.Discard)
}
