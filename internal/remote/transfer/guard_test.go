package transfer

import (
	"bytes"
	"context"
	"crypto/sha512"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/remote/registry"
)

// TestGuard: a fixed tag on another digest, and a moving one on something newer, refuse before any byte is sent; a tag that
// somebody moves meanwhile is noticed before it is written, and one that is moved at the same moment afterwards.
func TestGuard(t *testing.T) {
	b := newBench(t)
	first, second := b.image("first"), b.image("second")
	to := b.host + "/tides/gauge:1"
	fixed := Guard{Fixed: func(name string) bool { return name == "1" }}
	_, err := b.copy("first", to, Options{Names: []string{"1", "newest"}, Guard: fixed})
	require.NoError(t, err)
	b.requests = nil
	_, err = b.copy("second", to, Options{Names: []string{"newest", "1"}, Guard: fixed})
	var move *MoveError
	require.ErrorAs(t, err, &move)
	require.Equal(t, MoveError{Place: b.host + "/tides/gauge:1", Stands: first.Digest, Wanted: second.Digest, Why: move.Why}, *move)
	for _, request := range b.requests {
		require.NotRegexp(t, "^(PUT|POST|PATCH)", request, "nothing is sent")
	}
	older := Guard{Older: func(_ context.Context, _ string, stands registry.Document) (string, error) {
		require.Equal(t, first.Digest, stands.Descriptor.Digest)
		require.Contains(t, string(stands.Body), `"first"`)
		return "it is older", nil
	}}
	_, err = b.copy("second", to, Options{Names: []string{"newest"}, Guard: older})
	require.ErrorContains(t, err, "it is older; --force moves it all the same")
	_, err = b.copy("second", to, Options{Names: []string{"newest"}, Guard: Guard{Older: func(context.Context, string, registry.Document) (string, error) { return "", nil }}})
	require.NoError(t, err)

	// Somebody writes the tag while the content is sent: it is noticed before the tag is overwritten.
	third := b.image("third")
	other := b.opener.Client.Repository(b.host, "tides/gauge")
	index, err := image.ReadDocument(t.Context(), b.store, first)
	require.NoError(t, err)
	two := Guard{Fixed: func(name string) bool { return name == "2" }}
	under, err := Begin(t.Context(), b.place("third"), b.place(b.host+"/tides/gauge:2"), Options{Root: third, Names: []string{"2"}, Guard: two, Sink: event.Discard})
	require.NoError(t, err)
	require.NoError(t, under.Content(t.Context()))
	require.NoError(t, other.PutManifest(t.Context(), "2", first.MediaType, index))
	_, err = under.Name(t.Context())
	require.ErrorAs(t, err, &move)
	require.Equal(t, first.Digest, move.Stands)
	stands, _, err := other.HasManifest(t.Context(), "2", image.Accepted)
	require.NoError(t, err)
	require.Equal(t, first.Digest, stands, "it stays where the other writer put it")

	// Or at the same moment: the protocol cannot refuse that, so it is found out afterwards.
	quicker := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut {
			w.WriteHeader(http.StatusCreated)
			return
		}
		w.Header().Set("Content-Type", first.MediaType)
		_, _ = w.Write(index)
	}))
	defer quicker.Close()
	place := b.place(strings.TrimPrefix(quicker.URL, "http://") + "/tides/gauge:2").(*remote)
	place.keep(third.Digest, []byte("{}"))
	c := &copier{from: b.place("third"), to: place, o: Options{Names: []string{"2"}, Guard: two, Sink: event.Discard}}
	c.result.Descriptor = third
	var race *RaceError
	require.ErrorAs(t, c.name(t.Context(), "2"), &race)
	require.Equal(t, RaceError{Place: race.Place, Stands: first.Digest, Wanted: third.Digest}, *race)
}

func (b *bench) place(text string) Place {
	p, err := b.opener.Destination(b.reference(text))
	require.NoError(b, err)
	return p
}

// TestWholeCopies: an index within an index, an artifact, fields that nobody knows, a digest of another kind and layers that may
// not be distributed are copied as they are, through every kind of place.
func TestWholeCopies(t *testing.T) {
	b := newBench(t)
	inner := b.image("gauge")
	put := func(mediaType, text string) digest.Descriptor {
		desc, err := b.store.PutBytes(mediaType, []byte(text))
		require.NoError(t, err)
		return desc
	}
	empty := put("application/vnd.oci.empty.v1+json", "{}")
	table := []byte("2027-01-01 00:00 3.42")
	long := digest.Descriptor{MediaType: "text/plain", Digest: digest.Digest(fmt.Sprintf("sha512:%x", sha512.Sum512(table))), Size: int64(len(table))}
	require.NoError(t, b.store.Put(t.Context(), long, bytes.NewReader(table)))
	entry := func(d digest.Descriptor, more string) string {
		return fmt.Sprintf(`{"mediaType":%q,"digest":%q,"size":%d%s}`, d.MediaType, d.Digest, d.Size, more)
	}
	artifact := put(v1.MediaTypeImageManifest, `{"schemaVersion":2,"mediaType":"`+v1.MediaTypeImageManifest+`","artifactType":"application/vnd.tideline.table","config":`+entry(empty, "")+
		`,"layers":[`+entry(long, `,"tideline":1`)+`,{"mediaType":"application/vnd.oci.image.layer.nondistributable.v1.tar","digest":"sha256:`+strings.Repeat("0", 64)+`","size":9,"urls":["https://data.tideline.example/x"]}],"unknown":[1,2]}`)
	outer := put(v1.MediaTypeImageIndex, `{"schemaVersion":2,"mediaType":"`+v1.MediaTypeImageIndex+`","manifests":[`+entry(inner, "")+`,`+entry(artifact, `,"annotations":{"a":"b"}`)+`],"height":{"above":"datum"}}`)
	require.NoError(t, b.store.Name(t.Context(), "outer", outer))
	last := "outer"
	for i, next := range []string{b.host + "/tides/outer:1", "./layout#outer", "./outer.tar#outer", b.host + "/tides/again:1", "back:1"} {
		name := []string{"1", "outer", "outer", "1", "back:1"}[i]
		result, err := b.copy(last, next, Options{Names: []string{name}})
		require.NoError(t, err, next)
		require.Equal(t, outer.Digest, result.Descriptor.Digest)
		last = next
	}
	in, err := b.place(b.host+"/tides/again:1").Fetch(t.Context(), long)
	require.NoError(t, err)
	got, err := io.ReadAll(in)
	require.NoError(t, err)
	require.Equal(t, table, got)
	in.Close()
}

// TestAnnounced: a manifest of another type than the index says is refused.
func TestAnnounced(t *testing.T) {
	b := newBench(t)
	b.image("gauge")
	_, err := b.copy("gauge", b.host+"/tides/gauge:1", Options{Names: []string{"1"}})
	require.NoError(t, err)
	place := b.place(b.host + "/tides/gauge:1")
	root, err := place.Root(t.Context())
	require.NoError(t, err)
	index, err := image.ReadIndex(t.Context(), place, root)
	require.NoError(t, err)
	lie := index.Manifests[0]
	lie.MediaType = v1.MediaTypeImageIndex
	_, err = place.Fetch(t.Context(), lie)
	require.ErrorIs(t, err, image.ErrMalformed)
	require.ErrorContains(t, err, "it was announced as")
}

// TestNeighbours: a copy within a registry moves no blob, and neither does a push of what the store got from there.
func TestNeighbours(t *testing.T) {
	b := newBench(t)
	b.image("gauge")
	_, err := b.copy("gauge", b.host+"/tides/gauge:1", Options{Names: []string{"1"}})
	require.NoError(t, err)
	result, err := b.copy(b.host+"/tides/gauge:1", b.host+"/tides/copied:1", Options{Names: []string{"1"}})
	require.NoError(t, err)
	require.Equal(t, 5, result.Mounted)
	require.Zero(t, result.Sent)
	b.image("second")
	result, err = b.copy("second", b.host+"/tides/second:1", Options{Names: []string{"1"}})
	require.NoError(t, err)
	require.Equal(t, 1, result.Mounted, "the layer that both share")
}
