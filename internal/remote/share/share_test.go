package share

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/registry"
	"imbricat/internal/standin"
)

func newStore(t *testing.T) *store.Store {
	s, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

// finish puts a command that ran into a store, with all that belongs to it, as a build does.
func finish(t *testing.T, s *store.Store, name, content string) Finished {
	entries := []tree.Entry{{Path: name, Kind: tree.File, Mode: 0o644, Size: int64(len(content)), Content: digest.ContentBytes([]byte(content))}}
	key := layer.KeyOf(entries)
	require.NoError(t, s.PutTreeEntries(key, tree.EncodeEntries(entries)))
	blob, err := s.Begin()
	require.NoError(t, err)
	packed, err := layer.Pack(context.Background(), blob, entries, func(*tree.Entry) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil }, layer.Options{Compression: layer.Zstd})
	require.NoError(t, err)
	require.NoError(t, blob.Commit(packed.Descriptor.Digest))
	record := &store.Record{Key: layer.RecordKey(key, layer.Zstd), Tree: key, Layer: packed.Descriptor, DiffID: packed.DiffID, Unpacked: packed.Unpacked}
	require.NoError(t, s.PutRecord(record))
	learnt := (&trace.Trace{Entries: []trace.Entry{{Path: "src/" + name, Asked: trace.Kind, Answer: "f"}}}).Encode()
	require.NoError(t, s.PutTrace(trace.ID(learnt), learnt))
	run := &store.Run{Key: digest.Key(digest.ContentBytes([]byte("command " + name))), Trace: trace.ID(learnt), Tree: key, Bytes: int64(len(content)), Made: time.Unix(1, 0)}
	require.NoError(t, s.PutRun(run))
	return Finished{Runs: []*store.Run{run}, Layers: map[digest.Key]*store.Record{key: record}}
}

// backends are both kinds, each opened anew by every call, as by another process.
func backends(t *testing.T) map[string]func() Backend {
	server, err := standin.New(standin.Options{Dir: filepath.Join(t.TempDir(), "registry")})
	require.NoError(t, err)
	front := httptest.NewServer(server)
	t.Cleanup(front.Close)
	dir := filepath.Join(t.TempDir(), "cache")
	return map[string]func() Backend{
		"registry": func() Backend {
			return InRegistry(registry.New(registry.Options{}).Repository(strings.TrimPrefix(front.URL, "http://"), "tides/cache"), "")
		},
		"folder": func() Backend {
			b, err := InFolder(dir)
			require.NoError(t, err)
			return b
		},
	}
}

func open(t *testing.T, b Backend, s *store.Store, doubts *[]error) *Cache {
	return New(b, s, Both, DefaultPatience, func(err error) {
		if doubts == nil {
			require.NoError(t, err)
		}
		*doubts = append(*doubts, err)
	})
}

// TestExchange is what every backend keeps to: what one shares another finds whole, layers come when they are opened, what
// is there is not sent again, and a bound on packs drops the oldest with the layers that nobody else needs.
func TestExchange(t *testing.T) {
	ctx := context.Background()
	for name, backend := range backends(t) {
		t.Run(name, func(t *testing.T) {
			mine, yours := newStore(t), newStore(t)
			first := finish(t, mine, "gauge", "3.42")
			require.NoError(t, open(t, backend(), newStore(t), nil).Publish(ctx, Finished{}), "nothing to share")
			require.NoError(t, open(t, backend(), mine, nil).Publish(ctx, first))
			again := open(t, backend(), mine, nil)
			require.NoError(t, again.Publish(ctx, first))
			require.Zero(t, again.Stats().Written)

			reader := open(t, backend(), yours, nil)
			yours.FetchElsewhere = func(ctx context.Context, desc digest.Descriptor, place string) error {
				require.Equal(t, reader.Place(), place)
				return reader.FetchBlob(ctx, desc)
			}
			reader.Run(ctx, digest.Key(digest.ContentBytes([]byte("command other"))))
			require.Equal(t, 1, reader.Stats().Requests, "what no pack names takes no more than the manifest")
			reader.Run(ctx, first.Runs[0].Key)
			runs := yours.Runs(first.Runs[0].Key)
			require.Len(t, runs, 1)
			require.True(t, runs[0].Shared)
			_, found := yours.Trace(runs[0].Trace)
			require.True(t, found)
			_, found = yours.TreeEntries(runs[0].Tree)
			require.True(t, found)
			var record *store.Record
			for _, one := range first.Layers {
				record, found = yours.Record(one.Key)
				require.True(t, found)
			}
			require.False(t, yours.Has(record.Layer), "no layer was pulled")
			blob, err := yours.Fetch(ctx, record.Layer)
			require.NoError(t, err)
			require.NoError(t, blob.Close())
			require.True(t, yours.Has(record.Layer))
			require.Equal(t, 3, reader.Stats().Requests)

			// Writers side by side lose nothing that is written again, and damage nothing.
			var group sync.WaitGroup
			for i := range 4 {
				other := newStore(t)
				work := finish(t, other, fmt.Sprint("side", i), "x")
				group.Go(func() { _ = open(t, backend(), other, nil).Publish(ctx, work) })
			}
			group.Wait()
			for i := range mostPacks + 1 {
				require.NoError(t, open(t, backend(), mine, nil).Publish(ctx, finish(t, mine, fmt.Sprint("page", i), fmt.Sprint("text", i))))
			}
			body, err := backend().Manifest(ctx)
			require.NoError(t, err)
			m, err := decodeManifest(body)
			require.NoError(t, err)
			require.Len(t, m.Layers, 2*mostPacks, "a layer for each pack")
			late := newStore(t)
			after := open(t, backend(), late, nil)
			after.Run(ctx, first.Runs[0].Key)
			require.Empty(t, late.Runs(first.Runs[0].Key), "the oldest went")
		})
	}
}

// TestPoisoned: what contradicts itself is not taken, and what only shows when a layer is opened is refused then.
func TestPoisoned(t *testing.T) {
	ctx := context.Background()
	mine := newStore(t)
	good, other := finish(t, mine, "gauge", "3.42"), finish(t, mine, "bulletin", "calm")
	run, key := good.Runs[0], good.Runs[0].Tree
	for what, spoil := range map[string]func(p *pack){
		"a trace under another name": func(p *pack) { p.Traces[run.Trace] += "k \"x\" f\n" },
		"no trace":                   func(p *pack) { p.Traces = nil },
		"a tree under another name":  func(p *pack) { p.Trees[key] = p.Trees[other.Runs[0].Tree] },
		"a tree that climbs out":     func(p *pack) { p.Trees[key] = strings.ReplaceAll(p.Trees[key], "gauge", "../../x") },
		"a layer that is not listed": func(p *pack) { p.Layers[0].Layer.Digest = digest.FromBytes([]byte("nowhere")) },
		"no digest":                  func(p *pack) { p.Layers[0].Layer.Digest = "../../x" },
		"a diffID that is none":      func(p *pack) { p.Layers[0].DiffID = "sha256:../x" },
		"a layer of negative size":   func(p *pack) { p.Layers[0].Layer.Size = -1 },
		"another format":             func(p *pack) { p.Format++ },
		"a layer of something else": func(p *pack) {
			p.Layers[0].Layer, p.Layers[0].DiffID = other.Layers[other.Runs[0].Tree].Layer, other.Layers[other.Runs[0].Tree].DiffID
		},
		"another diff id": func(p *pack) { p.Layers[0].DiffID = other.Layers[other.Runs[0].Tree].DiffID },
	} {
		t.Run(what, func(t *testing.T) {
			backend, err := InFolder(filepath.Join(t.TempDir(), "cache"))
			require.NoError(t, err)
			c := open(t, backend, mine, nil)
			p, layers := c.gather(good)
			_, more := c.gather(other)
			p.Trees[other.Runs[0].Tree] = "x"
			if text, found := mine.TreeEntries(other.Runs[0].Tree); found {
				p.Trees[other.Runs[0].Tree] = string(text)
			}
			names := strings.Join(p.names(), " ")
			body, err := p.encode()
			require.NoError(t, err)
			p, err = decodePack(body)
			require.NoError(t, err)
			spoil(p)
			format := p.Format
			if body, err = p.encode(); format != packFormat {
				body = encodeAs(t, p, format)
			}
			require.NoError(t, err)
			desc := v1.Descriptor{MediaType: packType, Digest: digest.FromBytes(body), Size: int64(len(body)), Annotations: map[string]string{namesKey: names,
				layersKey: strings.Join(namesOfBlobs(append(layers, more...)), " ")}}
			require.NoError(t, backend.Locked(ctx, func() error { return c.send(ctx, nil, desc, body, append(layers, more...), nil) }))
			manifest, err := json.Marshal(withPack(nil, desc, append(layers, more...)))
			require.NoError(t, err)
			require.NoError(t, backend.PutManifest(ctx, manifest))

			yours := newStore(t)
			var doubts []error
			reader := open(t, backend, yours, &doubts)
			yours.FetchElsewhere = func(ctx context.Context, desc digest.Descriptor, _ string) error { return reader.FetchBlob(ctx, desc) }
			reader.Run(ctx, run.Key)
			if len(yours.Runs(run.Key)) == 0 {
				return // refused at once
			}
			record, found := yours.Record(good.Layers[key].Key)
			require.True(t, found)
			_, err = yours.Fetch(ctx, record.Layer)
			var away *store.AwayError
			require.ErrorAs(t, err, &away)
			require.ErrorIs(t, err, digest.ErrMismatch)
			yours.ForgetPlaces(away.Places)
			require.Empty(t, yours.Elsewhere(record.Layer.Digest))
		})
	}
	// A pack that nobody can read goes with the next that is written.
	backend, err := InFolder(filepath.Join(t.TempDir(), "cache"))
	require.NoError(t, err)
	require.NoError(t, open(t, backend, mine, nil).Publish(ctx, good))
	body, err := backend.Manifest(ctx)
	require.NoError(t, err)
	m, err := decodeManifest(body)
	require.NoError(t, err)
	broken := m.Layers[slices.IndexFunc(m.Layers, func(l v1.Descriptor) bool { return l.MediaType == packType })]
	file := filepath.Join(backend.Place(), "blobs", "sha256", broken.Digest.Encoded())
	require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte{0}, int(broken.Size)), 0o644))
	var doubts []error
	healing := open(t, backend, newStore(t), &doubts)
	healing.Run(ctx, run.Key)
	require.Len(t, doubts, 1)
	healing.store = mine
	require.NoError(t, healing.Publish(ctx, other))
	body, err = backend.Manifest(ctx)
	require.NoError(t, err)
	require.NotContains(t, string(body), broken.Digest)

	for _, body := range []string{"", "{", `{"artifactType":"` + artifactType + `","layers":[{"digest":"x"}]}`, `{"mediaType":"` + v1.MediaTypeImageManifest + `"}`} {
		_, err := decodeManifest([]byte(body))
		require.Error(t, err, body)
	}
	for _, body := range [][]byte{nil, []byte("tide"), bytes.Repeat([]byte{0x28, 0xb5, 0x2f, 0xfd}, 9)} {
		_, err := decodePack(body)
		require.Error(t, err)
	}
}

func encodeAs(t *testing.T, p *pack, format int) []byte {
	text, err := json.Marshal(p)
	require.NoError(t, err)
	text = bytes.Replace(text, fmt.Appendf(nil, `"format":%d`, packFormat), fmt.Appendf(nil, `"format":%d`, format), 1)
	return compressed(text)
}

// stuck is a backend that does not answer.
type stuck struct{ Backend }

func (stuck) Manifest(ctx context.Context) ([]byte, error) {
	<-ctx.Done()
	return nil, ctx.Err()
}

func (stuck) Place() string { return "stuck" }

// TestPatience: a cache that does not answer is asked once, for as long as patience lasts, and never again.
func TestPatience(t *testing.T) {
	var doubts []error
	c := New(stuck{}, newStore(t), Both, Patience{Manifest: 50 * time.Millisecond, All: 80 * time.Millisecond}, func(err error) { doubts = append(doubts, err) })
	began := time.Now()
	for i := range 20 {
		c.Run(context.Background(), digest.Key(digest.ContentBytes([]byte{byte(i)})))
	}
	require.Less(t, time.Since(began), 2*time.Second)
	require.Len(t, doubts, 1)
	require.ErrorContains(t, doubts[0], "did not answer within 50ms")
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	quiet := New(stuck{}, newStore(t), Both, DefaultPatience, func(err error) { t.Error(err) })
	quiet.Run(ended, "x")
}
