package registry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/credential"
)

type logins map[string]credential.Login

func (l logins) Find(_ context.Context, host, _ string) (credential.Login, error) {
	return l[host], nil
}

const secret = "s3cret-tide"

// client makes a client with a login for one host; what it logs is checked for the secret.
func client(t *testing.T, host string) *Client {
	var log bytes.Buffer
	t.Cleanup(func() {
		require.NotContains(t, log.String(), secret)
		require.NotContains(t, log.String(), "Basic ")
	})
	return New(Options{Logins: logins{host: {User: "harbour", Secret: secret, Confirms: true}}, Wait: time.Millisecond,
		Log: slog.New(slog.NewTextHandler(&log, &slog.HandlerOptions{Level: slog.LevelDebug}))})
}

func serve(t *testing.T, h http.HandlerFunc) string {
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return strings.TrimPrefix(s.URL, "http://")
}

func TestParseChallenges(t *testing.T) {
	for text, want := range map[string][]Challenge{
		`Basic realm="tides"`: {{"basic", map[string]string{"realm": "tides"}}},
		`Bearer realm="https://auth.tideline.example/token",service="tides",scope="repository:a/b:pull,push"`: {{"bearer", map[string]string{
			"realm": "https://auth.tideline.example/token", "service": "tides", "scope": "repository:a/b:pull,push"}}},
		`Negotiate, Basic realm="a\"b, c", charset=UTF-8 , Bearer realm=x`: {{"negotiate", map[string]string{}},
			{"basic", map[string]string{"realm": `a"b, c`, "charset": "UTF-8"}}, {"bearer", map[string]string{"realm": "x"}}},
		``: nil, `,,, `: nil, `"`: nil,
	} {
		require.Equal(t, want, ParseChallenges([]string{text}), text)
	}
}

// FuzzParseChallenges: no header makes the parser panic or loop, and it gives no more than it was given.
func FuzzParseChallenges(f *testing.F) {
	f.Add(`Bearer realm="x",scope="\"`)
	f.Fuzz(func(t *testing.T, text string) {
		total := 0
		for _, c := range ParseChallenges([]string{text}) {
			total += len(c.Scheme)
			for key, value := range c.Params {
				total += len(key) + len(value)
			}
		}
		require.LessOrEqual(t, total, 4*len(text))
	})
}

// TestBearer goes through the exchange that registries speak: a challenge, a token for the repository, the request again.
func TestBearer(t *testing.T) {
	asked := 0
	issuer := serve(t, func(w http.ResponseWriter, r *http.Request) {
		asked++
		user, given, _ := r.BasicAuth()
		if user != "harbour" || given != secret {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		fmt.Fprintf(w, `{"token":"for %s at %s"}`, r.URL.Query().Get("scope"), r.URL.Query().Get("service"))
	})
	host := serve(t, func(w http.ResponseWriter, r *http.Request) {
		scope := "repository:tides/gauge:pull"
		if r.Method == http.MethodPut {
			scope += ",push"
		}
		if r.Header.Get("Authorization") != "Bearer for "+scope+" at tides" {
			w.Header().Set("WWW-Authenticate", `Bearer realm="http://`+issuer+`/token",service="tides",scope="something:else:pull"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if r.Method == http.MethodPut {
			w.WriteHeader(http.StatusCreated)
			return
		}
		fmt.Fprint(w, `{"tags":["1"]}`)
	})
	repository := client(t, host).Repository(host, "tides/gauge")
	for range 3 {
		tags, err := repository.Tags(context.Background())
		require.NoError(t, err)
		require.Equal(t, []string{"1"}, tags)
	}
	require.Equal(t, 1, asked, "a token serves until it is refused")
	require.NoError(t, repository.PutManifest(context.Background(), "1", "application/json", []byte("{}")))
	require.Equal(t, 2, asked)

	var refused *Error
	_, err := New(Options{Wait: time.Millisecond}).Repository(host, "tides/gauge").Tags(context.Background())
	require.ErrorAs(t, err, &refused)
	require.True(t, refused.Denied())
}

// TestSecretsStayHome: neither a redirect to another host nor an issuer on plain HTTP elsewhere gets the secret.
func TestSecretsStayHome(t *testing.T) {
	body := []byte("layer")
	desc := digest.Descriptor{Digest: digest.FromBytes(body), Size: int64(len(body))}
	other := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			t.Error("the secret went to another host")
		}
		_, _ = w.Write(body)
	})
	challenge := `Basic realm="tides"`
	target := "http://" + other + "/blob"
	host := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") == "" {
			w.Header().Set("WWW-Authenticate", challenge)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("Location", target)
		w.WriteHeader(http.StatusTemporaryRedirect)
	})
	fetch := func() error {
		r, err := client(t, host).Repository(host, "tides/gauge").Blob(context.Background(), desc)
		if err != nil {
			return err
		}
		defer r.Close()
		_, err = io.ReadAll(r)
		return err
	}
	require.NoError(t, fetch())
	for _, target = range []string{"file:///etc/passwd", "http://registry.tideline.example/blob", "http://169.254.169.254/latest"} {
		require.ErrorContains(t, fetch(), "is neither HTTPS nor a host that plain HTTP is allowed for")
	}
	challenge = `Bearer realm="http://auth.tideline.example/token"`
	require.ErrorContains(t, fetch(), "the registry's issuer of tokens: refused: http://auth.tideline.example is neither HTTPS nor a host that plain HTTP is allowed for")
	challenge = `Bearer service="x"`
	require.ErrorContains(t, fetch(), "names no issuer of tokens")
}

// TestRetries: what may pass is tried again, what will not is not, and an upload begins anew.
func TestRetries(t *testing.T) {
	for name, c := range map[string]struct {
		status, tries int
	}{"unavailable": {503, 5}, "too many": {429, 5}, "not found": {404, 1}, "forbidden": {403, 1}, "teapot": {418, 1}} {
		tries := 0
		host := serve(t, func(w http.ResponseWriter, r *http.Request) {
			tries++
			w.WriteHeader(c.status)
			fmt.Fprint(w, `{"errors":[{"code":"X","message":"ebb\u0007 tide"}]}`)
		})
		_, err := client(t, host).Repository(host, "a").Tags(context.Background())
		require.ErrorContains(t, err, fmt.Sprintf("%s/a: listing tags: the registry says: ebb  tide (%d)", host, c.status))
		require.Equal(t, c.status == 403, strings.HasSuffix(err.Error(), `; the login is that of "harbour", which lacks the right`), err)
		require.Equal(t, c.tries, tries, name)
	}
	_, err := New(Options{Wait: time.Millisecond}).Repository("127.0.0.1:1", "a").Tags(context.Background())
	require.ErrorIs(t, err, ErrUnreachable)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = New(Options{}).Repository("127.0.0.1:1", "a").Tags(ctx)
	require.ErrorIs(t, err, context.Canceled)

	body, begun, got := strings.Repeat("tide", 100_000), 0, 0
	host := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			begun++
			w.Header().Set("Location", fmt.Sprintf("/v2/a/blobs/uploads/%d?state=x", begun))
			w.WriteHeader(http.StatusAccepted)
			return
		}
		if begun < 3 {
			panic(http.ErrAbortHandler) // the connection breaks off
		}
		require.Equal(t, "x", r.URL.Query().Get("state"))
		n, _ := io.Copy(io.Discard, r.Body)
		got = int(n)
		w.WriteHeader(http.StatusCreated)
	})
	desc := digest.Descriptor{Digest: digest.FromBytes([]byte(body)), Size: int64(len(body))}
	open := func(from int64) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(body[from:])), nil }
	require.NoError(t, client(t, host).Repository(host, "a").PutBlob(context.Background(), desc, open))
	require.Equal(t, 3, begun)
	require.Equal(t, len(body), got)

	bad := errors.New("the disk broke")
	err = client(t, host).Repository(host, "a").PutBlob(context.Background(), desc, func(int64) (io.ReadCloser, error) {
		return io.NopCloser(io.MultiReader(strings.NewReader("tide"), failingReader{bad})), nil
	})
	require.ErrorIs(t, err, bad)
	require.NotErrorIs(t, err, ErrUnreachable, "a source that cannot be read is not a fault of the registry")
}

type failingReader struct{ err error }

func (f failingReader) Read([]byte) (int, error) { return 0, f.err }

// TestHostileRegistries: lies and endless answers are refused with a word about what is wrong.
func TestHostileRegistries(t *testing.T) {
	const small = `{"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[]}`
	right := digest.FromBytes([]byte(small))
	var answer http.HandlerFunc
	host := serve(t, func(w http.ResponseWriter, r *http.Request) { answer(w, r) })
	manifest := func(identifier string) error {
		_, _, err := client(t, host).Repository(host, "a").Manifest(context.Background(), identifier, nil)
		return err
	}
	answer = func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, small) }
	require.NoError(t, manifest(string(right)))
	require.ErrorIs(t, manifest(string(digest.FromBytes(nil))), digest.ErrMismatch)
	answer = func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(digestHeader, string(digest.FromBytes(nil)))
		fmt.Fprint(w, small)
	}
	require.ErrorIs(t, manifest("1"), digest.ErrMismatch)
	answer = func(w http.ResponseWriter, r *http.Request) {
		for range MaxManifest/1024 + 2 {
			if _, err := w.Write(make([]byte, 1024)); err != nil {
				return
			}
		}
	}
	require.ErrorContains(t, manifest("1"), "larger than 4194304 bytes")

	pages := 0
	answer = func(w http.ResponseWriter, r *http.Request) {
		pages++
		w.Header().Set("Link", fmt.Sprintf(`</v2/a/tags/list?last=%d>; rel="next"`, pages))
		_ = json.NewEncoder(w).Encode(map[string]any{"tags": []string{"x"}})
	}
	_, err := client(t, host).Repository(host, "a").Tags(context.Background())
	require.ErrorContains(t, err, "more than 1000 pages")
	answer = func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Link", `</v2/a/tags/list>; rel="next"`)
		fmt.Fprint(w, `{"tags":["x"]}`)
	}
	_, err = client(t, host).Repository(host, "a").Tags(context.Background())
	require.ErrorContains(t, err, "pages repeat")
	answer = func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Link", `<http://elsewhere.example/>; rel="next"`)
		fmt.Fprint(w, `{"tags":["x"]}`)
	}
	_, err = client(t, host).Repository(host, "a").Tags(context.Background())
	require.ErrorContains(t, err, "on another host")
	answer = func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, r.URL.Path+"x", http.StatusFound) }
	_, err = client(t, host).Repository(host, "a").Tags(context.Background())
	require.ErrorContains(t, err, "more than 5 redirects")
}

func TestLoopbackAlone(t *testing.T) {
	for host, want := range map[string]bool{"127.0.0.1:5000": true, "localhost": true, "[::1]:80": true, "127.9.9.9": true,
		"registry.tideline.example": false, "127.0.0.1.tideline.example": false, "10.0.0.1:5000": false, "localhost.tideline.example": false} {
		require.Equal(t, want, Loopback(host), host)
		u, err := url.Parse(New(Options{}).baseURL(host))
		require.NoError(t, err)
		require.Equal(t, want, u.Scheme == "http", host)
	}
}

// TestHTTPSElsewhere: any host but this machine is spoken to over TLS, with its certificate checked.
func TestHTTPSElsewhere(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"tags":["1"]}`) }))
	t.Cleanup(server.Close)
	c := New(Options{Wait: time.Millisecond})
	transport := c.transport("example.com")
	transport.DialContext = func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, server.Listener.Addr().String())
	}
	_, err := c.Repository("example.com", "tides/gauge").Tags(context.Background())
	require.ErrorContains(t, err, "certificate")
	transport.TLSClientConfig = server.Client().Transport.(*http.Transport).TLSClientConfig
	tags, err := c.Repository("example.com", "tides/gauge").Tags(context.Background())
	require.NoError(t, err)
	require.Equal(t, []string{"1"}, tags)
	_, err = c.Repository("registry.tideline.example", "tides/gauge").Tags(context.Background())
	require.ErrorContains(t, err, "certificate", "a certificate for another host is refused")
}

// TestMount: a registry takes a blob over from a neighbour, says that it does not, or refuses; only the first is a mount, and
// an upload that it begins instead is ended. A token is asked for both repositories.
func TestMount(t *testing.T) {
	desc := digest.Descriptor{Digest: digest.FromBytes([]byte("tide")), Size: 4}
	for status, want := range map[int]bool{201: true, 202: false, 404: false, 403: false} {
		var scopes []string
		ended := false
		var server *httptest.Server
		server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case r.URL.Path == "/token":
				if scopes == nil {
					scopes = r.URL.Query()["scope"]
				}
				fmt.Fprint(w, `{"token":"t"}`)
			case r.Header.Get("Authorization") == "":
				w.Header().Set("WWW-Authenticate", `Bearer realm="`+server.URL+`/token",service="s"`)
				w.WriteHeader(401)
			case r.Method == http.MethodDelete:
				ended = true
				w.WriteHeader(204)
			default:
				require.Equal(t, "tides/cache", r.URL.Query().Get("from"))
				require.Equal(t, string(desc.Digest), r.URL.Query().Get("mount"))
				w.Header().Set("Location", "/v2/tides/gauge/blobs/uploads/1")
				w.WriteHeader(status)
			}
		}))
		mounted, err := New(Options{}).Repository(strings.TrimPrefix(server.URL, "http://"), "tides/gauge").Mount(context.Background(), desc, "tides/cache")
		server.Close()
		require.NoError(t, err)
		require.Equal(t, want, mounted, status)
		require.Equal(t, status == 202, ended, status)
		require.Equal(t, []string{"repository:tides/gauge:pull,push", "repository:tides/cache:pull"}, scopes)
	}
}
