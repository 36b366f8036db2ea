package transfer

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/credential"
	"imbricat/internal/remote/registry"
	"imbricat/internal/standin"
)

// spoil changes an answer of a registry. It tells whether it had anything to do with what was asked.
type spoil func(r *http.Request, a *httptest.ResponseRecorder) bool

func isManifest(r *http.Request) bool { return strings.Contains(r.URL.Path, "/manifests/") }
func isBlob(r *http.Request) bool {
	return strings.Contains(r.URL.Path, "/blobs/") && !strings.Contains(r.URL.Path, "/uploads/")
}
func isUpload(r *http.Request) bool { return strings.Contains(r.URL.Path, "/uploads/") }

// when returns a spoil for some requests that were answered well.
func when(is func(*http.Request) bool, change func(a *httptest.ResponseRecorder)) spoil {
	return func(r *http.Request, a *httptest.ResponseRecorder) bool {
		if !is(r) || a.Code >= 400 {
			return false
		}
		change(a)
		return true
	}
}

// contentDigest ends the name of the header that tells the digest of what is sent.
const contentDigest = "Content-Digest"

// full returns the name of a header that an answer has, by its end.
func full(a *httptest.ResponseRecorder, end string) string {
	for name := range a.Header() {
		if strings.HasSuffix(name, end) {
			return name
		}
	}
	return end
}

// body replaces an answer's body.
func body(a *httptest.ResponseRecorder, text []byte) {
	a.Body = bytes.NewBuffer(text)
	a.Header().Del("Content-Length")
	a.Header().Del(full(a, contentDigest)) // it tells the truth, and would be enough
}

// spoils are the ways in which a registry may answer otherwise than it should.
func spoils(elsewhere string) map[string]spoil {
	header := func(is func(*http.Request) bool, name, value string) spoil {
		return when(is, func(a *httptest.ResponseRecorder) { a.Header().Set(full(a, name), value) })
	}
	text := func(is func(*http.Request) bool, value string) spoil {
		return when(is, func(a *httptest.ResponseRecorder) { body(a, []byte(value)) })
	}
	status := func(is func(*http.Request) bool, code int, headers ...string) spoil {
		return func(r *http.Request, a *httptest.ResponseRecorder) bool {
			if !is(r) {
				return false
			}
			a.Code = code
			for i := 0; i+1 < len(headers); i += 2 {
				a.Header().Set(full(a, headers[i]), headers[i+1])
			}
			body(a, []byte("{\"errors\":[{\"code\":\"TIDE\",\"message\":\"\x1b]0;tides\\u0007\"}]}"))
			return true
		}
	}
	all := func(*http.Request) bool { return true }
	index := `{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":`
	absent := string(digest.FromBytes([]byte("absent")))
	deep := strings.Repeat(`{"manifests":[`, 100_000)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, _ = z.Write(make([]byte, 64<<20))
	_ = z.Close()
	found := map[string]spoil{
		"another digest in a header": header(isManifest, contentDigest, absent),
		"no digest in a header":      header(isManifest, contentDigest, "sha256:../../etc/passwd"),
		"another media type":         header(isManifest, "Content-Type", "application/vnd.oci.image.manifest.v1+json"),
		"a media type of a page":     header(isManifest, "Content-Type", "text/html; charset=\"\x7f"),
		"another length":             header(isBlob, "Content-Length", "3"),
		"an endless length":          header(isBlob, "Content-Length", "9223372036854775807"),
		"a negative length":          header(isBlob, "Content-Length", "-1"),
		"packed once more":           header(isBlob, "Content-Encoding", "gzip"),
		"a packed document": when(isManifest, func(a *httptest.ResponseRecorder) {
			a.Header().Set("Content-Encoding", "gzip")
			body(a, packed.Bytes())
		}),
		"a packed layer": when(isBlob, func(a *httptest.ResponseRecorder) {
			a.Header().Set("Content-Encoding", "gzip")
			body(a, packed.Bytes())
		}),
		"an empty document":               text(isManifest, ""),
		"no document":                     text(isManifest, "<html>"),
		"null":                            text(isManifest, "null"),
		"a list":                          text(isManifest, "[]"),
		"no manifests":                    text(isManifest, index+"null}"),
		"manifests of no kind":            text(isManifest, index+`[{"digest":"`+absent+`","size":1}]}`),
		"a size below nothing":            text(isManifest, index+`[{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"`+absent+`","size":-1}]}`),
		"a size beyond all":               text(isManifest, index+`[{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"`+absent+`","size":1e30}]}`),
		"a digest that climbs out":        text(isManifest, index+`[{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"sha256:../../../../etc/passwd","size":1}]}`),
		"a digest of no kind":             text(isManifest, index+`[{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"md5:00","size":1}]}`),
		"a document in itself":            text(isManifest, deep),
		"both an index and a manifest":    text(isManifest, index+`[],"config":{},"layers":[]}`),
		"a large document":                text(isManifest, index+`[]`+strings.Repeat(" ", 5<<20)+"}"),
		"numbers in place of texts":       text(isManifest, `{"schemaVersion":"2","mediaType":7,"manifests":7}`),
		"a layer of other bytes":          when(isBlob, func(a *httptest.ResponseRecorder) { a.Body.Bytes()[0] ^= 1 }),
		"a layer that ends early":         when(isBlob, func(a *httptest.ResponseRecorder) { body(a, a.Body.Bytes()[:a.Body.Len()/2]) }),
		"a layer that goes on":            when(isBlob, func(a *httptest.ResponseRecorder) { body(a, append(a.Body.Bytes(), "more"...)) }),
		"an empty layer":                  text(isBlob, ""),
		"another part of a layer":         when(isBlob, func(a *httptest.ResponseRecorder) { a.Code = 206; a.Header().Set("Content-Range", "bytes 7-9/10") }),
		"a part of nothing":               when(isBlob, func(a *httptest.ResponseRecorder) { a.Code = 206; a.Header().Set("Content-Range", "bytes */0") }),
		"not there at all":                status(isBlob, 404),
		"gone":                            status(isManifest, 410),
		"no content":                      status(isManifest, 204),
		"nothing new":                     status(isManifest, 304),
		"a teapot":                        status(all, 418),
		"an error for ever":               status(isBlob, 500),
		"busy for ever":                   status(all, 429, "Retry-After", "999999999999"),
		"busy until yesterday":            status(isManifest, 503, "Retry-After", "Mon, 01 Jan 1900 00:00:00 GMT"),
		"busy for less than nothing":      status(isManifest, 503, "Retry-After", "-5"),
		"a code of no meaning":            status(isManifest, 999),
		"redirects in a circle":           status(isBlob, 307, "Location", "/v2/tides/gauge/blobs/"+absent),
		"redirects elsewhere":             status(isBlob, 307, "Location", elsewhere+"/blob"),
		"redirects to a file":             status(isBlob, 302, "Location", "file:///etc/passwd"),
		"redirects to a cloud's secrets":  status(isBlob, 302, "Location", "http://169.254.169.254/latest"),
		"redirects to nowhere":            status(isManifest, 301, "Location", "http://[::1"),
		"redirects without a place":       status(isManifest, 301),
		"asks for credentials elsewhere":  status(all, 401, "WWW-Authenticate", `Bearer realm="`+elsewhere+`/token",service="tides"`),
		"asks for credentials by a file":  status(all, 401, "WWW-Authenticate", `Bearer realm="file:///etc/passwd"`),
		"asks for credentials in a shell": status(all, 401, "WWW-Authenticate", `Bearer realm="`+elsewhere+`/token?a=$(id)&b=`+"`id`"+`",scope="repository:*:*"`),
		"asks for credentials unheard of": status(all, 401, "WWW-Authenticate", `Tide realm="x`),
		"asks for credentials for ever":   status(all, 401, "WWW-Authenticate", `Basic realm="x"`),
		"asks without end":                status(all, 401, "WWW-Authenticate", "Bearer "+strings.Repeat(`a="b",`, 20_000)),
		"headers without end":             when(all, func(a *httptest.ResponseRecorder) { a.Header().Set("X-Tide", strings.Repeat("tide", 1<<20)) }),
		"an upload elsewhere":             header(isUpload, "Location", elsewhere+"/upload"),
		"an upload to a file":             header(isUpload, "Location", "file:///etc/passwd"),
		"an upload to a cloud's secrets":  header(isUpload, "Location", "http://169.254.169.254/upload"),
		"an upload without a place":       when(isUpload, func(a *httptest.ResponseRecorder) { a.Header().Del("Location") }),
		"an upload that never begins":     status(isUpload, 202, "Location", ""),
		"a range that nobody sent":        header(isUpload, "Range", "0-99999999"),
		"a range of no numbers":           header(isUpload, "Range", "tide"),
		"a mount that is none":            status(func(r *http.Request) bool { return isUpload(r) && r.URL.Query().Has("mount") }, 201),
		"everything is there":             status(func(r *http.Request) bool { return r.Method == http.MethodHead }, 200, "Content-Length", "14", contentDigest, absent),
		"everything was taken":            status(func(r *http.Request) bool { return r.Method == http.MethodPut || r.Method == http.MethodPatch }, 201),
	}
	return found
}

// TestHostileRegistries: whatever a registry answers, what is pulled from it is whole or has no name, a push that is said to be
// done left the image there, nobody waits for ever, and no secret goes to another host.
func TestHostileRegistries(t *testing.T) {
	other := 0
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		other++
		require.Empty(t, r.Header.Get("Authorization"), "%s %s", r.Method, r.URL)
		w.WriteHeader(http.StatusNotFound)
	}))
	defer elsewhere.Close()
	ways := spoils(elsewhere.URL)
	for name, spoil := range ways {
		b := newBench(t)
		server, err := standin.New(standin.Options{Dir: filepath.Join(b.dir, "honest")})
		require.NoError(t, err)
		var dishonest, used atomic.Bool
		front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			a := httptest.NewRecorder()
			server.ServeHTTP(a, r)
			if dishonest.Load() && spoil(r, a) {
				used.Store(true)
			}
			for key, values := range a.Header() {
				w.Header()[key] = values
			}
			if w.Header().Get("Content-Length") == "" && r.Method != http.MethodHead {
				w.Header().Set("Content-Length", strconv.Itoa(a.Body.Len()))
			}
			w.WriteHeader(a.Code)
			if r.Method != http.MethodHead {
				_, _ = w.Write(a.Body.Bytes())
			}
		}))
		host := strings.TrimPrefix(front.URL, "http://")
		b.opener.Client = registry.New(registry.Options{Wait: time.Millisecond, Patience: 300 * time.Millisecond, Stall: 300 * time.Millisecond,
			Logins: credential.Fixed{Place: host, Login: credential.Login{User: "harbour", Secret: "swordfish"}}})
		root := b.image("gauge")
		_, err = b.copy("gauge", host+"/tides/gauge:1", Options{Names: []string{"1"}})
		require.NoError(t, err, name)

		dishonest.Store(true)
		began := time.Now()
		mine := b.store
		b.store, err = store.Open(filepath.Join(t.TempDir(), "theirs"))
		require.NoError(t, err)
		b.opener.Store = b.store
		_, pullErr := b.copy(host+"/tides/gauge:1", "gauge", Options{Names: []string{"gauge"}})
		list, err := b.store.List()
		require.NoError(t, err)
		if pullErr == nil {
			require.Len(t, list, 1, name)
			require.Equal(t, root.Digest, list[0].Descriptor.Digest, name)
		} else {
			require.Empty(t, list, name)
			require.NotContains(t, pullErr.Error(), "swordfish", name)
		}
		report, err := b.store.Check(t.Context(), false)
		require.NoError(t, err)
		require.Empty(t, report.Findings, name)

		b.store = mine
		b.opener.Store = mine
		other := b.image("bulletin")
		_, pushErr := b.copy("bulletin", host+"/tides/bulletin:1", Options{Names: []string{"1"}})
		require.Less(t, time.Since(began), 20*time.Second, name)
		require.True(t, used.Load(), "%s: nothing was asked that it spoils", name)
		dishonest.Store(false)
		place, err := b.opener.Source(b.reference(host + "/tides/bulletin:1"))
		require.NoError(t, err)
		if pushErr == nil {
			missing, err := Missing(t.Context(), place, other)
			require.NoError(t, err, name)
			require.Zero(t, missing, "%s: it was said to be there", name)
		} else {
			require.NotContains(t, pushErr.Error(), "swordfish", name)
			_, err := place.Root(t.Context())
			if err == nil { // its tag came last
				missing, err := Missing(t.Context(), place, other)
				require.NoError(t, err, name)
				require.Zero(t, missing, name)
			}
		}
		t.Logf("held: %s: pull %s; push %s", name, outcome(pullErr), outcome(pushErr))
		front.Close()
	}
	require.Positive(t, other, "some send us there")
}

func outcome(err error) string {
	if err == nil {
		return "done"
	}
	return fmt.Sprintf("refused: %.120q", err.Error())
}
