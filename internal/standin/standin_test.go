package standin

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
)

func newServer(t *testing.T) (*Server, func(method, path, body string, header ...string) *http.Response) {
	s, err := New(Options{Dir: t.TempDir()})
	require.NoError(t, err)
	return s, func(method, path, body string, header ...string) *http.Response {
		r := httptest.NewRequest(method, path, strings.NewReader(body))
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		return w.Result()
	}
}

func body(r *http.Response) string {
	text, _ := io.ReadAll(r.Body)
	return string(text)
}

const index = `{"schemaVersion":2,"mediaType":"` + v1.MediaTypeImageIndex + `","manifests":[]}`

// TestProtocol goes through the answers that the distribution-spec asks for, one request after the other.
func TestProtocol(t *testing.T) {
	s, do := newServer(t)
	blob := digest.FromBytes([]byte("layer"))
	location := func(r *http.Response) string { return r.Header.Get("Location") }

	require.Equal(t, 200, do("GET", "/v2/", "").StatusCode)
	require.Equal(t, 404, do("GET", "/v2/tides/gauge/tags/list", "").StatusCode)

	// A chunked upload, asked for its state, with a chunk out of order.
	begun := do("POST", "/v2/tides/gauge/blobs/uploads/", "")
	require.Equal(t, 202, begun.StatusCode)
	chunk := do("PATCH", location(begun), "lay", "Content-Range", "0-2")
	require.Equal(t, 202, chunk.StatusCode)
	require.Equal(t, "0-2", chunk.Header.Get("Range"))
	require.Equal(t, 416, do("PATCH", location(begun), "er", "Content-Range", "5-6").StatusCode)
	state := do("GET", location(begun), "")
	require.Equal(t, 204, state.StatusCode)
	require.Equal(t, "0-2", state.Header.Get("Range"))
	done := do("PUT", location(begun)+"?digest="+string(blob), "er", "Content-Range", "3-4")
	require.Equal(t, 201, done.StatusCode)
	require.Equal(t, 404, do("GET", location(begun), "").StatusCode)
	require.Equal(t, "layer", body(do("GET", location(done), "")))
	part := do("GET", location(done), "", "Range", "bytes=1-2")
	require.Equal(t, 206, part.StatusCode)
	require.Equal(t, "ay", body(part))
	require.EqualValues(t, 5, do("HEAD", location(done), "").ContentLength)

	// In one request; with another digest; given up; mounted.
	require.Equal(t, 201, do("POST", "/v2/tides/gauge/blobs/uploads/?digest="+string(blob), "layer").StatusCode)
	wrong := do("POST", "/v2/tides/gauge/blobs/uploads/?digest="+string(blob), "Layer")
	require.Equal(t, 400, wrong.StatusCode)
	require.Contains(t, body(wrong), "DIGEST_INVALID")
	given := do("POST", "/v2/tides/gauge/blobs/uploads/", "")
	require.Equal(t, 204, do("DELETE", location(given), "").StatusCode)
	require.Equal(t, 404, do("PUT", location(given)+"?digest="+string(blob), "layer").StatusCode)
	require.Equal(t, 404, do("HEAD", "/v2/tides/other/blobs/"+string(blob), "").StatusCode, "a blob is only there where it was pushed")
	require.Equal(t, 201, do("POST", "/v2/tides/other/blobs/uploads/?mount="+string(blob)+"&from=tides/gauge", "").StatusCode)
	require.Equal(t, 200, do("HEAD", "/v2/tides/other/blobs/"+string(blob), "").StatusCode)
	require.Equal(t, 202, do("POST", "/v2/tides/other/blobs/uploads/?mount="+string(digest.FromBytes(nil))+"&from=tides/gauge", "").StatusCode)

	// Manifests: what they list must be there, and they must be what they say.
	put := func(identifier, text, mediaType string) *http.Response {
		return do("PUT", "/v2/tides/gauge/manifests/"+identifier, text, "Content-Type", mediaType)
	}
	image := fmt.Sprintf(`{"schemaVersion":2,"config":{"mediaType":"%s","digest":"%s","size":5},"layers":[]}`, v1.MediaTypeImageConfig, blob)
	require.Equal(t, 201, put("1", image, v1.MediaTypeImageManifest).StatusCode)
	require.NotEqual(t, 201, put(strings.Repeat("v", 129), image, v1.MediaTypeImageManifest).StatusCode)
	require.Equal(t, 404, put("2", strings.Replace(image, string(blob), string(digest.FromBytes(nil)), 1), v1.MediaTypeImageManifest).StatusCode)
	require.Equal(t, 400, put("2", "{", v1.MediaTypeImageManifest).StatusCode)
	require.Equal(t, 400, put("2", index, v1.MediaTypeImageManifest).StatusCode)
	require.Equal(t, 400, put("2", index, "text/plain").StatusCode)
	require.Equal(t, 400, put("-2", index, v1.MediaTypeImageIndex).StatusCode)
	require.Equal(t, 400, put(string(blob), index, v1.MediaTypeImageIndex).StatusCode)
	require.Equal(t, 413, put("2", index+strings.Repeat(" ", maxManifest), v1.MediaTypeImageIndex).StatusCode)
	for _, tag := range []string{"10", "9", "a"} {
		require.Equal(t, 201, put(tag, index, v1.MediaTypeImageIndex).StatusCode)
	}
	got := do("GET", "/v2/tides/gauge/manifests/9", "")
	require.Equal(t, index, body(got))
	require.Equal(t, v1.MediaTypeImageIndex, got.Header.Get("Content-Type"))
	require.Equal(t, string(digest.FromBytes([]byte(index))), got.Header.Get(digestHeader))
	require.Equal(t, 404, do("GET", "/v2/tides/other/manifests/"+string(digest.FromBytes([]byte(index))), "").StatusCode)

	// Tags in pages.
	require.Equal(t, `{"name":"tides/gauge","tags":["1","10","9","a"]}`+"\n", body(do("GET", "/v2/tides/gauge/tags/list", "")))
	page := do("GET", "/v2/tides/gauge/tags/list?n=2&last=1", "")
	require.Equal(t, `{"name":"tides/gauge","tags":["10","9"]}`+"\n", body(page))
	require.Equal(t, `</v2/tides/gauge/tags/list?last=9&n=2>; rel="next"`, page.Header.Get("Link"))

	// Nothing outside the folder can be named.
	for _, path := range []string{"/v2/../x/tags/list", "/v2/a/../../b/tags/list", "/v2/Tides/tags/list", "/v2/_blobs/x/tags/list", "/v2/tides/gauge/blobs/sha256:../../x",
		"/v2/tides/gauge/manifests/..%2f..%2fx", "/v2/tides/gauge/blobs/uploads/..%2f..%2fx", "/other"} {
		require.GreaterOrEqual(t, do("GET", path, "").StatusCode, 400, path)
	}
	require.Equal(t, 405, do("PATCH", "/v2/tides/gauge/manifests/1", "").StatusCode)
	left, err := filepath.Glob(filepath.Join(s.o.Dir, "uploads", ".file-*"))
	require.NoError(t, err)
	require.Empty(t, left)

	// Everything is still there after a restart.
	again, err := New(Options{Dir: s.o.Dir})
	require.NoError(t, err)
	w := httptest.NewRecorder()
	again.ServeHTTP(w, httptest.NewRequest("GET", "/v2/tides/gauge/manifests/9", nil))
	require.Equal(t, index, w.Body.String())
}

func TestLoginIsAskedFor(t *testing.T) {
	s, err := New(Options{Dir: t.TempDir(), User: "harbour", Secret: "s3cret"})
	require.NoError(t, err)
	for _, c := range []struct {
		user, secret string
		want         int
	}{{"", "", 401}, {"harbour", "wrong", 401}, {"mole", "s3cret", 401}, {"harbour", "s3cret", 200}} {
		r := httptest.NewRequest("GET", "/v2/", nil)
		if c.user != "" {
			r.SetBasicAuth(c.user, c.secret)
		}
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		require.Equal(t, c.want, w.Code, c)
		require.Equal(t, c.want == 401, strings.HasPrefix(w.Header().Get("WWW-Authenticate"), "Basic realm="))
	}
}

// TestKeeper: what the keeper does is told as the keeper's, and nobody can be called so; the protocol's header stands on its answers alone.
func TestKeeper(t *testing.T) {
	s, do := newServer(t)
	_, err := s.Create("tides/gauge")
	require.NoError(t, err)
	require.NoError(t, s.Change("tides/gauge", "close", func(n *Note) { n.Closed = new(true) }))
	require.Equal(t, 403, do("POST", "/v2/tides/gauge/blobs/uploads/", "").StatusCode)
	events, err := s.Events(10, "")
	require.NoError(t, err)
	var told []string
	for _, e := range events {
		told = append(told, e.Who+" "+e.What)
	}
	require.Equal(t, []string{"the keeper create", "the keeper close", " refused"}, told)
	page := do("GET", "/events", "")
	require.Contains(t, body(page), `data-is="Who">the keeper</td>`)
	for path, is := range map[string]bool{"/v2/": true, "/v2": true, "/v2/tides/gauge/tags/list": true, "/v2/nothing/there/tags/list": true, "/": false, "/events": false, "/token": false, "/v20": false} {
		require.Equal(t, is, do("GET", path, "").Header.Get(versionHeader) != "", path)
	}
	for _, wrong := range []string{Keeper, "", "a:b", "a\n", strings.Repeat("a", 129)} {
		require.ErrorContains(t, s.AddUser(wrong, "s3cret"), "is not a name of a user", wrong)
	}
}

// TestCleanStop: a request under way is finished, and then the server ends without an error.
func TestCleanStop(t *testing.T) {
	s, err := New(Options{Dir: t.TempDir()})
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() { ended <- s.Serve(ctx, listener) }()
	in, out := io.Pipe()
	answer := make(chan int)
	go func() {
		resp, err := http.Post("http://"+listener.Addr().String()+"/v2/a/blobs/uploads/?digest="+string(digest.FromBytes([]byte("layer"))), "", in)
		if err != nil {
			answer <- 0
			return
		}
		resp.Body.Close()
		answer <- resp.StatusCode
	}()
	_, err = out.Write([]byte("lay"))
	require.NoError(t, err)
	time.Sleep(50 * time.Millisecond)
	cancel()
	_, err = out.Write(bytes.TrimSpace([]byte("er")))
	require.NoError(t, err)
	out.Close()
	require.Equal(t, 201, <-answer)
	require.NoError(t, <-ended)
	_, err = os.Stat(filepath.Join(s.o.Dir, "blobs"))
	require.NoError(t, err)
}
