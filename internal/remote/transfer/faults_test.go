package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/credential"
	"imbricat/internal/remote/registry"
	"imbricat/internal/standin"
)

// faulty is a stand-in with faults that are switched on and off, and what moved through it.
type faulty struct {
	*standin.Server
	host     string
	with     standin.Faults
	received atomic.Int64 // bytes of blobs that the client sent
	sent     atomic.Int64 // bytes of blobs that it was sent
	busy     atomic.Int64
}

func newFaulty(t *testing.T, o standin.Options, with standin.Faults) *faulty {
	f := &faulty{with: with}
	var err error
	f.Server, err = standin.New(o)
	require.NoError(t, err)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f.busy.Add(1)
		defer f.busy.Add(-1)
		if strings.Contains(r.URL.Path, "/blobs/") {
			r.Body = &counted{r.Body, &f.received}
			w = &countedWriter{w, &f.sent}
		}
		f.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	f.host = strings.TrimPrefix(server.URL, "http://")
	return f
}

// during makes faults while something is done, and waits until the server is at rest.
func (f *faulty) during(act func() error) error {
	f.SetFaults(f.with)
	f.with.Seed++
	err := act()
	f.SetFaults(standin.Faults{})
	// A request that was given up may still be on its way: the server must be at rest for some time.
	for quiet := 0; quiet < 30 && (err != nil || f.busy.Load() > 0); quiet++ {
		if f.busy.Load() > 0 {
			quiet = 0
		}
		time.Sleep(time.Millisecond)
	}
	return err
}

type counted struct {
	io.ReadCloser
	n *atomic.Int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n.Add(int64(n))
	return n, err
}

type countedWriter struct {
	http.ResponseWriter
	n *atomic.Int64
}

func (c *countedWriter) Write(p []byte) (int, error) {
	n, err := c.ResponseWriter.Write(p)
	c.n.Add(int64(n))
	return n, err
}

func (c *countedWriter) Flush() { c.ResponseWriter.(http.Flusher).Flush() }

// tideImage puts an index over two platforms with layers of some size into a store: one shared, one each. Every seed has its own
// bytes.
func tideImage(t *testing.T, s *store.Store, seed uint64) (digest.Descriptor, int64) {
	random := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), 1})
	var total int64
	blob := func(size int) digest.Descriptor {
		text := make([]byte, size)
		_, _ = random.Read(text)
		desc, err := s.PutBytes(v1.MediaTypeImageLayerGzip, text)
		require.NoError(t, err)
		total += desc.Size
		return desc
	}
	put := func(mediaType string, document any) digest.Descriptor {
		text, err := image.Encode(document)
		require.NoError(t, err)
		desc, err := s.PutBytes(mediaType, text)
		require.NoError(t, err)
		return desc
	}
	shared := blob(90_000)
	var offers []image.Offer
	for _, architecture := range []string{"amd64", "arm64"} {
		own := blob(40_000)
		p := platform.Platform{OS: "linux", Architecture: architecture}
		config := put(v1.MediaTypeImageConfig, v1.Image{Platform: p.OCI(), RootFS: v1.RootFS{DiffIDs: []digest.Digest{shared.Digest, own.Digest}}})
		total += config.Size
		offers = append(offers, image.Offer{Platform: p, Descriptor: put(v1.MediaTypeImageManifest,
			v1.Manifest{MediaType: v1.MediaTypeImageManifest, Config: config, Layers: []digest.Descriptor{shared, own}})})
	}
	return put(v1.MediaTypeImageIndex, image.Index(offers, nil)), total
}

// TestFaults: pushes and pulls through each kind of fault, in a sequence that is always the same, either complete with the
// right content or fail as what they are; and what a break costs is bounded.
func TestFaults(t *testing.T) {
	rounds := 200
	if testing.Short() {
		rounds = 20
	}
	auth := standin.Options{Auth: standin.AuthToken, User: "harbour", Secret: "s3cret-tide", Grace: time.Hour}
	for name, f := range map[string]standin.Faults{
		"latency":      {Latency: time.Millisecond},
		"bandwidth":    {Bandwidth: 20 << 20},
		"unavailable":  {Status: map[int]float64{503: 0.2, 500: 0.05}},
		"too many":     {Status: map[int]float64{429: 0.2}},
		"forbidden":    {Status: map[int]float64{403: 0.02}},
		"broken":       {Break: 0.3, BreakAfter: 60_000},
		"wrong bytes":  {Wrong: 0.05, BreakAfter: 40_000},
		"lost tokens":  {Expired: 0.1},
		"all together": {Latency: time.Millisecond, Status: map[int]float64{503: 0.05}, Break: 0.1, BreakAfter: 60_000, Expired: 0.03},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f.Seed = 42
			server := newFaulty(t, auth, f)
			done, failed := 0, map[string]int{}
			for round := range rounds / 2 {
				for _, err := range throughFaults(t, server, uint64(round), name == "broken") {
					if kind := kindOf(t, err, name); kind == "" {
						done++
					} else {
						failed[kind]++
					}
				}
			}
			t.Logf("%d complete, failed: %v", done, failed)
			require.Equal(t, rounds, done+failed["unreachable"]+failed["refused"]+failed["mismatch"])
			switch name {
			case "latency", "bandwidth":
				require.Equal(t, rounds, done)
			case "unavailable", "too many", "broken", "all together":
				require.Greater(t, done, rounds*8/10, "most faults pass")
				require.Zero(t, failed["mismatch"])
			}
		})
	}
}

// quick is a folder in memory where there is one.
var quick = func() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return ""
}()

// throughFaults pushes an image and pulls it into another store, and gives both errors. What completes is right.
func throughFaults(t *testing.T, f *faulty, seed uint64, bounded bool) []error {
	client := registry.New(registry.Options{Wait: 100 * time.Microsecond,
		Logins: credential.Fixed{Place: f.host, Login: credential.Login{User: "harbour", Secret: "s3cret-tide"}}})
	places := func(s *store.Store) *Places { return &Places{Store: s, Client: client} }
	open := func() *store.Store {
		dir, err := os.MkdirTemp(quick, "faults-*") // what is tested is not the disk
		require.NoError(t, err)
		s, err := store.Open(filepath.Join(dir, "store"))
		require.NoError(t, err)
		t.Cleanup(func() {
			s.Close()
			require.NoError(t, os.RemoveAll(dir))
		})
		return s
	}
	own, other := open(), open()
	root, total := tideImage(t, own, seed)
	name := fmt.Sprintf("%s/tides/gauge-%d:1", f.host, seed)
	move := func(from Place, to Place, names ...string) error {
		_, err := Copy(t.Context(), from, to, Options{Root: root, Names: names, Sink: event.Discard})
		return err
	}
	place := func(p *Places, text string, source bool) Place {
		ref, err := reference.Parse(text)
		require.NoError(t, err)
		open := p.Destination
		if source {
			open = p.Source
		}
		one, err := open(ref)
		require.NoError(t, err)
		return one
	}
	f.received.Store(0)
	push := func() error {
		return move(place(places(own), root.Digest.Encoded()[:20], true), place(places(own), name, false), "1")
	}
	pushed := f.during(push)
	if pushed == nil && bounded {
		require.LessOrEqual(t, float64(f.received.Load()), 1.3*float64(total), "what arrived is not sent again")
	}
	if pushed != nil {
		_, there, err := client.Repository(f.host, fmt.Sprintf("tides/gauge-%d", seed)).HasManifest(t.Context(), "1", image.Accepted)
		require.NoError(t, err)
		require.False(t, there && !strings.Contains(pushed.Error(), "manifest 1"), "no tag before all content: %v", pushed)
		// A run after the failure sends only what is missing.
		before := f.received.Load()
		require.NoError(t, push())
		require.LessOrEqual(t, f.received.Load()-before, total)
	}
	f.sent.Store(0)
	pulled := f.during(func() error {
		return move(place(places(other), name, true), place(places(other), "gauge:1", false), "gauge:1")
	})
	if pulled == nil && bounded {
		require.LessOrEqual(t, float64(f.sent.Load()), 1.3*float64(total), "what came is not fetched again")
	}
	if pulled == nil {
		local := place(places(other), "gauge:1", true)
		got, err := local.Root(t.Context())
		require.NoError(t, err)
		require.Equal(t, root.Digest, got.Digest)
		missing, err := Missing(t.Context(), local, root)
		require.NoError(t, err)
		require.Zero(t, missing)
	}
	report, err := other.Check(context.Background(), false)
	require.NoError(t, err)
	require.Empty(t, report.Findings, "whatever happened, the store is whole")
	return []error{pushed, pulled}
}

// kindOf sorts an error into what the program's exit code tells; "" is none.
func kindOf(t *testing.T, err error, fault string) string {
	var answer *registry.Error
	switch {
	case err == nil:
		return ""
	case errors.Is(err, digest.ErrMismatch), errors.Is(err, image.ErrMalformed):
		require.Contains(t, []string{"wrong bytes"}, fault, err)
		return "mismatch"
	case errors.As(err, &answer) && answer.Denied():
		require.Contains(t, []string{"forbidden", "lost tokens", "all together"}, fault, err)
		return "refused"
	case errors.Is(err, registry.ErrUnreachable), errors.As(err, &answer) && answer.Temporary():
		return "unreachable"
	}
	t.Fatalf("%s: an error of no kind: %v", fault, err)
	return ""
}
