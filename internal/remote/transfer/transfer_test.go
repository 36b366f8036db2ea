package transfer

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
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
	"imbricat/internal/remote/registry"
	"imbricat/internal/standin"
)

// bench is a store, a stand-in that counts requests, and an opener for both.
type bench struct {
	*testing.T
	store    *store.Store
	opener   *Places
	host     string
	dir      string
	mutex    sync.Mutex
	requests []string
	broken   func(r *http.Request) bool
	slow     time.Duration // of each answer
	now      int           // blobs that move
	most     int
}

func newBench(t *testing.T) *bench {
	b := &bench{T: t, dir: t.TempDir()}
	var err error
	b.store, err = store.Open(filepath.Join(b.dir, "store"))
	require.NoError(t, err)
	server, err := standin.New(standin.Options{Dir: filepath.Join(b.dir, "registry")})
	require.NoError(t, err)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.mutex.Lock()
		b.requests = append(b.requests, r.Method+" "+r.URL.Path)
		broken := b.broken != nil && b.broken(r)
		slow := b.slow
		moves := 0
		if r.Method != http.MethodHead && strings.Contains(r.URL.Path, "/blobs/") {
			moves = 1
		}
		b.now += moves
		b.most = max(b.most, b.now)
		b.mutex.Unlock()
		time.Sleep(slow)
		defer func() {
			b.mutex.Lock()
			defer b.mutex.Unlock()
			b.now -= moves
		}()
		if broken {
			panic(http.ErrAbortHandler)
		}
		server.ServeHTTP(w, r)
	}))
	t.Cleanup(front.Close)
	b.host = strings.TrimPrefix(front.URL, "http://")
	b.opener = &Places{Store: b.store, Client: registry.New(registry.Options{Wait: time.Millisecond}), Dir: b.dir}
	return b
}

// breakOn says which requests break off from now on.
func (b *bench) breakOn(broken func(r *http.Request) bool) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.broken = broken
}

// image stores an index over two platforms that share a layer, and gives its descriptor.
func (b *bench) image(name string) digest.Descriptor { return b.images(name, "amd64", "arm64") }

func (b *bench) images(name string, architectures ...string) digest.Descriptor {
	put := func(mediaType string, document any) digest.Descriptor {
		text, err := json.Marshal(document)
		require.NoError(b, err)
		desc, err := b.store.PutBytes(mediaType, text)
		require.NoError(b, err)
		return desc
	}
	shared, err := b.store.PutBytes(v1.MediaTypeImageLayerGzip, []byte("shared by both"))
	require.NoError(b, err)
	var offers []image.Offer
	for _, architecture := range architectures {
		own, err := b.store.PutBytes(v1.MediaTypeImageLayerGzip, []byte(name+architecture))
		require.NoError(b, err)
		p := platform.Platform{OS: "linux", Architecture: architecture}
		config := put(v1.MediaTypeImageConfig, v1.Image{Platform: p.OCI(), RootFS: v1.RootFS{DiffIDs: []digest.Digest{shared.Digest, own.Digest}}})
		manifest := put(v1.MediaTypeImageManifest, v1.Manifest{MediaType: v1.MediaTypeImageManifest, Config: config, Layers: []digest.Descriptor{shared, own}})
		offers = append(offers, image.Offer{Platform: p, Descriptor: manifest})
	}
	index := put(v1.MediaTypeImageIndex, image.Index(offers, map[string]string{"tideline.name": name}))
	require.NoError(b, b.store.Name(context.Background(), name, index))
	return index
}

func (b *bench) reference(text string) reference.Reference {
	ref, err := reference.Parse(text)
	require.NoError(b, err)
	return ref
}

func (b *bench) copy(from, to string, o Options) (*Result, error) {
	source, destination := b.reference(from), b.reference(to)
	in, err := b.opener.Source(source)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	out, err := b.opener.Destination(destination)
	require.NoError(b, err)
	defer out.Close()
	o.Sink = event.Discard
	return Copy(context.Background(), in, out, o)
}

// TestEveryPlaceToEveryPlace: an image keeps its digest on any way, and a second copy moves nothing.
func TestEveryPlaceToEveryPlace(t *testing.T) {
	b := newBench(t)
	want := b.image("gauge").Digest
	places := []string{"gauge", b.host + "/tides/gauge:1", "./layout#gauge", "./gauge.tar#gauge"}
	for i, place := range places[1:] {
		name := []string{"1", "gauge", "gauge"}[i]
		result, err := b.copy("gauge", place, Options{Names: []string{name}})
		require.NoError(t, err, place)
		require.Equal(t, 5, result.Sent, place)
		require.Equal(t, 3, result.Manifests, place)
	}
	for i, from := range places {
		for j, to := range []string{fmt.Sprintf("copy:%d", i), fmt.Sprintf("%s/tides/copy-%d:x", b.host, i), fmt.Sprintf("./l%d#x", i), fmt.Sprintf("./a%d.tar#x", i)} {
			names := []string{fmt.Sprintf("copy:%d", i), "x", "x", "x"}
			result, err := b.copy(from, to, Options{Names: names[j : j+1]})
			require.NoError(t, err, "%s to %s", from, to)
			require.Equal(t, want, result.Descriptor.Digest)
			again, err := b.copy(to, to+"2", Options{Names: []string{names[j]}})
			if j < 2 { // a store name and a tag with another end; the two others would be other files
				require.NoError(t, err, to)
				require.Zero(t, again.Sent)
				require.Equal(t, 5, again.Skipped)
				require.Zero(t, again.Manifests)
			}
		}
	}
	report, err := b.store.Check(context.Background(), false)
	require.NoError(t, err)
	require.Empty(t, report.Findings)
}

// TestOrder: blobs come before the manifests that list them, these before the index, and tags last.
func TestOrder(t *testing.T) {
	b := newBench(t)
	index := b.image("gauge")
	_, err := b.copy("gauge", b.host+"/tides/gauge:1", Options{Names: []string{"1", "newest"}})
	require.NoError(t, err)
	var writes []string
	for _, r := range b.requests {
		if strings.HasPrefix(r, "PUT ") {
			writes = append(writes, r[strings.LastIndexByte(r, '/')+1:])
		}
	}
	require.Len(t, writes, 5+2+1+2)
	require.Equal(t, []string{string(index.Digest), "1", "newest"}, writes[7:])
	for _, blob := range writes[:5] {
		require.NotContains(t, blob, "sha256:", "an upload comes before every manifest")
	}

	// Nothing changed: the index is asked for, and the tags are written.
	b.requests = nil
	_, err = b.copy("gauge", b.host+"/tides/gauge:1", Options{Names: []string{"1"}})
	require.NoError(t, err)
	require.LessOrEqual(t, len(b.requests), 3, b.requests)
}

// TestBrokenPush: a connection that breaks in the middle of an upload is tried again; a registry that stays broken
// leaves no tag, and a later push sends only what is missing.
func TestBrokenPush(t *testing.T) {
	b := newBench(t)
	b.image("gauge")
	breaks := 0
	b.breakOn(func(r *http.Request) bool {
		if r.Method == http.MethodPut && strings.Contains(r.URL.Path, "/uploads/") && breaks < 2 {
			breaks++
			return true
		}
		return false
	})
	_, err := b.copy("gauge", b.host+"/tides/one:1", Options{Names: []string{"1"}})
	require.NoError(t, err)
	require.Equal(t, 2, breaks)

	b.broken = func(r *http.Request) bool {
		return strings.Contains(r.URL.Path, "/two/manifests/") && r.Method == http.MethodPut
	}
	_, err = b.copy("gauge", b.host+"/tides/two:1", Options{Names: []string{"1"}})
	require.ErrorIs(t, err, registry.ErrUnreachable)
	b.breakOn(nil)
	tags, err := b.opener.Client.Repository(b.host, "tides/two").Tags(context.Background())
	require.NoError(t, err)
	require.Empty(t, tags)
	result, err := b.copy("gauge", b.host+"/tides/two:1", Options{Names: []string{"1"}})
	require.NoError(t, err)
	require.Zero(t, result.Sent)
	require.Equal(t, 5, result.Skipped)
}

func TestChosenPlatforms(t *testing.T) {
	b := newBench(t)
	b.image("gauge")
	arm := platform.Platform{OS: "linux", Architecture: "arm64"}
	result, err := b.copy("gauge", b.host+"/tides/arm:1", Options{Names: []string{"1"}, Platforms: []platform.Platform{arm}})
	require.NoError(t, err)
	require.Equal(t, 3, result.Sent)
	place, err := b.opener.Source(reference.Reference{Kind: reference.Registry, Host: b.host, Repository: "tides/arm", Tag: "1"})
	require.NoError(t, err)
	root, err := place.Root(context.Background())
	require.NoError(t, err)
	offers, err := image.Offers(context.Background(), place, root)
	require.NoError(t, err)
	require.Len(t, offers, 1)
	require.Equal(t, arm, offers[0].Platform)
	_, err = b.copy("gauge", "./x.tar", Options{Platforms: []platform.Platform{{OS: "linux", Architecture: "s390x"}}})
	var lacks *image.NoPlatformError
	require.ErrorAs(t, err, &lacks)
	require.NoFileExists(t, filepath.Join(b.dir, "x.tar"))
}

func TestMissingSources(t *testing.T) {
	b := newBench(t)
	b.image("gauge")
	_, err := b.copy("gauge", "./two", Options{Names: []string{"one"}})
	require.NoError(t, err)
	_, err = b.copy("gauge", "./two", Options{Names: []string{"other"}})
	require.NoError(t, err)
	for from, want := range map[string]error{
		"nosuch": fs.ErrNotExist, "ffffffff": fs.ErrNotExist, b.host + "/tides/nosuch:1": fs.ErrNotExist,
		"./nosuch": fs.ErrNotExist, "./nosuch.tar": fs.ErrNotExist, "./two#third": fs.ErrNotExist,
	} {
		_, err := b.copy(from, "./out.tar", Options{})
		require.ErrorIs(t, err, want, from)
	}
	_, err = b.copy("./two", "./out.tar", Options{})
	require.ErrorContains(t, err, "./two holds 2 images: add #NAME")
}

// TestTamperedPlaces: content that is not what it says is refused on the way, and nothing of it is kept or named.
func TestTamperedPlaces(t *testing.T) {
	b := newBench(t)
	index := b.image("gauge")
	remote := b.host + "/tides/gauge:1"
	_, err := b.copy("gauge", remote, Options{Names: []string{"1"}})
	require.NoError(t, err)
	_, err = b.copy("gauge", "./layout#gauge", Options{Names: []string{"gauge"}})
	require.NoError(t, err)
	_, err = b.copy("gauge", "./gauge.tar#gauge", Options{Names: []string{"gauge"}})
	require.NoError(t, err)

	layer := digest.FromBytes([]byte("shared by both"))
	for name, file := range map[string]string{
		remote:           filepath.Join(b.dir, "registry/blobs/sha256", layer.Encoded()),
		"./layout#gauge": filepath.Join(b.dir, "layout/blobs/sha256", layer.Encoded()),
		"./gauge.tar":    filepath.Join(b.dir, "gauge.tar"),
	} {
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		changed := bytes.Replace(content, []byte("shared by both"), []byte("shared by none"), 1)
		require.NotEqual(t, content, changed)
		require.NoError(t, os.WriteFile(file, changed, 0o644))
		b.store, err = store.Open(filepath.Join(t.TempDir(), "empty"))
		require.NoError(t, err)
		b.opener.Store = b.store
		_, err = b.copy(name, "stolen", Options{Names: []string{"stolen"}})
		require.ErrorIs(t, err, digest.ErrMismatch, name)
		list, err := b.store.List()
		require.NoError(t, err)
		require.Empty(t, list, name)
		require.False(t, b.store.Has(digest.Descriptor{Digest: layer, Size: 14}), name)
		require.False(t, b.store.Has(index), "the index comes last")
	}
}

// TestHostileArchives: an archive is only read where it is one.
func TestHostileArchives(t *testing.T) {
	b := newBench(t)
	put := func(parts ...string) {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		for i := 0; i+1 < len(parts); i += 2 {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: parts[i], Size: int64(len(parts[i+1])), Typeflag: tar.TypeReg}))
			_, err := w.Write([]byte(parts[i+1]))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		require.NoError(t, os.WriteFile(filepath.Join(b.dir, "x.tar"), out.Bytes(), 0o644))
	}
	const version = `{"imageLayoutVersion":"1.0.0"}`
	absent := digest.FromBytes([]byte("absent"))
	for want, parts := range map[string][]string{
		"it has no oci-layout":   {"index.json", "{}"},
		"its index.json":         {"oci-layout", version},
		"invalid character":      {"oci-layout", version, "index.json", "<"},
		"holds no image":         {"oci-layout", version, "index.json", `{"manifests":[]}`},
		"lacks the blob":         {"oci-layout", version, "index.json", fmt.Sprintf(`{"manifests":[{"mediaType":%q,"digest":%q,"size":6}]}`, v1.MediaTypeImageIndex, absent)},
		"invalid checksum":       {"oci-layout", version, "index.json", fmt.Sprintf(`{"manifests":[{"mediaType":%q,"digest":"sha256:../../x","size":6}]}`, v1.MediaTypeImageIndex)},
		"the media type \"\" is": {"oci-layout", version, "index.json", fmt.Sprintf(`{"manifests":[{"digest":%q,"size":6}]}`, absent)},
		"more than the 4194304":  {"oci-layout", version, "index.json", fmt.Sprintf(`{"manifests":[{"mediaType":%q,"digest":%q,"size":99999999999}]}`, v1.MediaTypeImageIndex, absent), "blobs/sha256/" + absent.Encoded(), "absent"},
	} {
		put(parts...)
		_, err := b.copy("./x.tar", "stolen", Options{Names: []string{"stolen"}})
		require.ErrorContains(t, err, want)
		t.Log("held: " + want)
	}
	list, err := b.store.List()
	require.NoError(t, err)
	require.Empty(t, list)
}
