package tags

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/retention"
	"imbricat/internal/standin"
)

// TestJudge: a tag that only lists what refers to an image shares its fate, a push counts before the making, and what nobody
// knows the age of stays.
func TestJudge(t *testing.T) {
	now := time.Date(2027, 1, 31, 0, 0, 0, 0, time.UTC)
	old, kept := digest.FromBytes([]byte("old")), digest.FromBytes([]byte("kept"))
	list := func(d digest.Digest) string { return "sha256-" + d.Encoded() }
	inventory := &transfer.Inventory{Below: func(digest.Digest) []digest.Digest { return nil }, Tags: []transfer.Tag{
		{Name: "pr-1", Digest: old, Created: now.AddDate(0, -3, 0)},
		{Name: "pr-2", Digest: kept, Created: now.AddDate(0, -3, 0), Pushed: now.AddDate(0, 0, -1)},
		{Name: "pr-3", Digest: digest.FromBytes([]byte("ageless")), Created: image.KnownTime(layer.Epoch)},
		{Name: list(old), Digest: digest.FromBytes([]byte("list of old")), Created: now.AddDate(0, -3, 0)},
		{Name: list(kept), Digest: digest.FromBytes([]byte("list of kept")), Created: now.AddDate(0, -3, 0)},
	}}
	stays := map[string]bool{}
	for _, v := range judge(inventory, retention.Rule{Younger: 7 * 24 * time.Hour}, now) {
		require.NotEmpty(t, v.Reason)
		stays[v.Name] = v.Keep
	}
	require.Equal(t, map[string]bool{"pr-1": false, "pr-2": true, "pr-3": true, list(old): false, list(kept): true}, stays)
}

// TestDelete: what a kept tag still reaches is only deleted by force, and a registry that deletes no tags loses a digest only with all its tags.
func TestDelete(t *testing.T) {
	var digestsOnly atomic.Bool
	server, err := standin.New(standin.Options{Dir: filepath.Join(t.TempDir(), "registry")})
	require.NoError(t, err)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodDelete && !strings.Contains(r.URL.Path, "sha256:") && digestsOnly.Load() {
			http.Error(w, "", http.StatusMethodNotAllowed)
			return
		}
		server.ServeHTTP(w, r)
	}))
	t.Cleanup(front.Close)
	r := registry.New(registry.Options{}).Repository(strings.TrimPrefix(front.URL, "http://"), "tides/gauge")
	put := func(text string, tags ...string) digest.Digest {
		body, err := json.Marshal(v1.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageIndex, Manifests: []digest.Descriptor{}, Annotations: map[string]string{"text": text}})
		require.NoError(t, err)
		for _, tag := range tags {
			require.NoError(t, r.PutManifest(t.Context(), tag, v1.MediaTypeImageIndex, body))
		}
		return digest.FromBytes(body)
	}
	left := func() (names []string) {
		list, err := r.Tags(t.Context())
		if err == nil {
			names = list
		}
		return names
	}
	remove := func(force bool, names ...string) (*Deleted, error) {
		inventory, err := Look(t.Context(), r)
		require.NoError(t, err)
		return Delete(t.Context(), r, inventory, names, force)
	}
	one, two := put("one", "1.0", "newest"), put("two", "2.0")
	_, err = remove(false, "3.0")
	require.ErrorContains(t, err, `has no tag "3.0"`)
	var refused *flow.Error
	_, err = remove(false, string(one))
	require.ErrorAs(t, err, &refused)
	require.Equal(t, flow.Refused, refused.Kind)
	require.Equal(t, []string{"1.0", "2.0", "newest"}, left())
	done, err := remove(false, "1.0")
	require.NoError(t, err)
	require.Equal(t, "1.0", done.Deleted[0].Tag)
	require.Len(t, done.Kept, 2)
	require.Empty(t, done.Digests)
	done, err = remove(false, "2.0", string(two))
	require.NoError(t, err)
	require.Equal(t, []digest.Digest{two}, done.Digests, "with its last tag")
	require.Equal(t, []string{"newest"}, left())

	digestsOnly.Store(true)
	put("one", "1.0")
	_, err = remove(false, "1.0")
	require.ErrorAs(t, err, &refused)
	require.ErrorContains(t, err, "newest stands on the same digest as 1.0")
	require.Equal(t, []string{"1.0", "newest"}, left())
	_, err = remove(true, "1.0")
	require.NoError(t, err)
	require.Empty(t, left())

	// By a rule, first only told.
	put("three", "pr-1")
	put("four", "2.1")
	inventory, err := Look(t.Context(), r)
	require.NoError(t, err)
	rule := retention.Rule{Keep: []string{"2.*"}}
	for _, dry := range []bool{true, false} {
		done, err := Keep(t.Context(), r, inventory, rule, dry)
		require.NoError(t, err)
		require.Equal(t, "2.1", done.Kept[0].Tag)
		require.Equal(t, "pr-1", done.Deleted[0].Tag)
		require.Len(t, done.Digests, 1)
		require.Equal(t, map[bool][]string{true: {"2.1", "pr-1"}, false: {"2.1"}}[dry], left())
	}
}

// TestInUse: what a tag stands on is in use where something that it lists is, and is kept with all of its tags; a place that tells nothing ends
// it.
func TestInUse(t *testing.T) {
	hex := func(c string) digest.Digest { return digest.Digest("sha256:" + strings.Repeat(c, 64)) }
	below := map[digest.Digest][]digest.Digest{hex("a"): {hex("1"), hex("2")}, hex("b"): {hex("3")}}
	inventory := &transfer.Inventory{Below: func(d digest.Digest) []digest.Digest { return below[d] },
		Tags: []transfer.Tag{{Name: "old", Digest: hex("a")}, {Name: "also", Digest: hex("a")}, {Name: "older", Digest: hex("b")}, {Name: "oldest", Digest: hex("c")}}}
	file := filepath.Join(t.TempDir(), "cluster.yaml")
	require.NoError(t, os.WriteFile(file, []byte("image: registry.tideline.example/tides/gauge@"+string(hex("2"))+" # runs\nother: sha256:12\n"), 0o644))
	used, err := ReadUse(t.Context(), "test", []string{file})
	require.NoError(t, err)
	require.Equal(t, map[digest.Digest]string{hex("2"): file}, used)
	require.Equal(t, map[digest.Digest]string{hex("a"): file}, inUse(inventory, used))
	now := time.Now()
	for i := range inventory.Tags {
		inventory.Tags[i].Pushed = now.Add(-1000 * time.Hour)
	}
	var kept []string
	for _, v := range judge(inventory, retention.Rule{Younger: time.Hour, Drop: []string{"also"}, InUse: used}, now) {
		if v.Keep {
			kept = append(kept, v.Name)
		}
	}
	require.ElementsMatch(t, []string{"old", "also"}, kept)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(`["` + hex("3") + `"]`)) }))
	defer server.Close()
	used, err = ReadUse(t.Context(), "test", []string{server.URL, file})
	require.NoError(t, err)
	require.Len(t, used, 2)
	for _, place := range []string{filepath.Join(t.TempDir(), "missing"), os.DevNull, server.URL + "x:1/"} {
		_, err := ReadUse(t.Context(), "test", []string{file, place})
		require.ErrorContains(t, err, "nothing was deleted", place)
	}
}

// TestAlone: what an image costs alone is what no image of another digest has; tags on one image share that.
func TestAlone(t *testing.T) {
	blobs := func(names ...string) map[digest.Digest]int64 {
		all := map[digest.Digest]int64{}
		for _, name := range names {
			all[digest.Digest(name)] = int64(len(name))
		}
		return all
	}
	costs := Alone(&transfer.Inventory{Tags: []transfer.Tag{{Name: "1", Digest: "x", Blobs: blobs("base", "gauge")}, {Name: "newest", Digest: "x", Blobs: blobs("base", "gauge")},
		{Name: "2", Digest: "y", Blobs: blobs("base", "bulletin")}, {Name: "lone", Digest: "z", Blobs: blobs("other")}}})
	require.Equal(t, []Cost{{5, []string{"2"}}, {5, []string{"2"}}, {8, []string{"1", "newest"}}, {5, nil}}, costs)
}
