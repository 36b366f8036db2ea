package registry

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/credential"
)

// TestHostileBodies: a blob without an end, a blob that never comes, and one that is another are refused in bounded time.
func TestHostileBodies(t *testing.T) {
	desc := digest.Descriptor{Digest: digest.FromBytes([]byte("tide")), Size: 4}
	var answer http.HandlerFunc
	host := serve(t, func(w http.ResponseWriter, r *http.Request) { answer(w, r) })
	c := New(Options{Wait: time.Millisecond, Stall: 200 * time.Millisecond})
	fetch := func() error {
		in, err := c.Repository(host, "a").Blob(t.Context(), desc)
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = io.Copy(io.Discard, in)
		return err
	}
	answer = func(w http.ResponseWriter, r *http.Request) {
		for {
			if _, err := w.Write(make([]byte, 4096)); err != nil {
				return
			}
		}
	}
	require.ErrorIs(t, fetch(), digest.ErrMismatch)
	answer = func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "ebbe") }
	require.ErrorIs(t, fetch(), digest.ErrMismatch)
	answer = func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "tid") }
	require.ErrorIs(t, fetch(), ErrUnreachable, "a short answer is a broken one, until it is given up")
	answer = func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Length", "4")
		_, _ = w.Write([]byte("t"))
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	}
	began := time.Now()
	err := fetch()
	require.ErrorIs(t, err, ErrUnreachable)
	require.Less(t, time.Since(began), 20*time.Second)
	answer = func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Range") == "" {
			_, _ = w.Write([]byte("ti"))
			return
		}
		w.Header().Set("Content-Range", "bytes 0-1/4") // not what was asked for
		w.WriteHeader(http.StatusPartialContent)
		_, _ = w.Write([]byte("ti"))
	}
	require.ErrorContains(t, fetch(), "another part")
	answer = func(w http.ResponseWriter, r *http.Request) {
		_, _ = w.Write([]byte("tide")[:min(4, 2+2*len(r.Header.Get("Range")))])
	}
	require.NoError(t, fetch(), "a registry that knows no ranges sends everything again")
}

// TestDrip: a document that comes a byte at a time is given up after a while; a blob that does is not.
func TestDrip(t *testing.T) {
	text := []byte(strings.Repeat("tide", 20))
	host := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Length", fmt.Sprint(len(text)))
		for i := range text {
			if _, err := w.Write(text[i : i+1]); err != nil {
				return
			}
			w.(http.Flusher).Flush()
			time.Sleep(10 * time.Millisecond)
		}
	})
	r := New(Options{Wait: time.Millisecond, Stall: 300 * time.Millisecond, Patience: 400 * time.Millisecond}).Repository(host, "a")
	began := time.Now()
	_, _, err := r.Manifest(t.Context(), "1", nil)
	require.ErrorIs(t, err, ErrUnreachable)
	require.Less(t, time.Since(began), 10*time.Second)
	in, err := r.Blob(t.Context(), digest.Descriptor{Digest: digest.FromBytes(text), Size: int64(len(text))})
	require.NoError(t, err)
	defer in.Close()
	got, err := io.ReadAll(in)
	require.NoError(t, err)
	require.Equal(t, text, got)
}

// TestForbiddenTargets: no redirect, issuer or place of an upload leads to another machine's inside.
func TestForbiddenTargets(t *testing.T) {
	c := New(Options{Settings: func(host string) Settings { return Settings{PlainHTTP: host == "plain.tideline.example"} }})
	for _, one := range []struct {
		from, to string
		ok       bool
	}{
		{"https://registry.tideline.example/v2/", "https://blobs.tideline.example/x", true},
		{"https://registry.tideline.example/v2/", "http://blobs.tideline.example/x", false},
		{"https://registry.tideline.example/v2/", "http://plain.tideline.example/x", false},
		{"https://registry.tideline.example/v2/", "file:///etc/passwd", false},
		{"https://registry.tideline.example/v2/", "https://127.0.0.1/x", false},
		{"https://registry.tideline.example/v2/", "http://localhost:9/x", false},
		{"https://registry.tideline.example/v2/", "gopher://blobs.tideline.example", false},
		{"http://127.0.0.1:5000/v2/", "http://127.0.0.1:9/x", true},
		{"http://plain.tideline.example/v2/", "http://plain.tideline.example/x", true},
		{"http://plain.tideline.example/v2/", "http://other.tideline.example/x", false},
	} {
		from, err := url.Parse(one.from)
		require.NoError(t, err)
		to, err := url.Parse(one.to)
		require.NoError(t, err)
		require.Equal(t, one.ok, c.checkTarget(from, to) == nil, "%s → %s", one.from, one.to)
		t.Logf("held: %s → %s", one.from, one.to)
	}
	for address, ok := range map[string]bool{"169.254.169.254:80": false, "[fe80::1]:443": false, "10.0.0.7:443": true, "127.0.0.1:5000": true} {
		require.Equal(t, ok, checkAddress("tcp", address, nil) == nil, address)
	}
	_, err := New(Options{Wait: time.Millisecond, Settings: func(string) Settings { return Settings{PlainHTTP: true} }}).Ping(t.Context(), "169.254.169.254")
	require.ErrorIs(t, err, ErrRefused)
}

// TestIssuers: a login goes to the issuer that it was checked with alone, and one for a host without TLS nowhere.
func TestIssuers(t *testing.T) {
	issuer := serve(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"token":"x","expires_in":300}`) })
	host := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") == "" {
			w.Header().Set("WWW-Authenticate", `Bearer realm="http://`+issuer+`/token",service="tides"`)
			w.WriteHeader(http.StatusUnauthorized)
		}
	})
	settings := Settings{}
	ask := func(l credential.Login) (string, error) {
		c := New(Options{Wait: time.Millisecond, Logins: credential.Fixed{Place: host, Login: l}, Settings: func(string) Settings { return settings }})
		_, err := c.Ping(t.Context(), host)
		return c.Issuer(host), err
	}
	named, err := ask(credential.Login{User: "harbour", Secret: secret, Confirms: true})
	require.NoError(t, err)
	require.Equal(t, "http://"+issuer, named)
	_, err = ask(credential.Login{User: "harbour", Secret: secret, Issuer: named})
	require.NoError(t, err)
	for _, before := range []string{"https://tokens.tideline.example", ""} {
		_, err = ask(credential.Login{User: "harbour", Secret: secret, Issuer: before})
		var other *IssuerError
		require.ErrorAs(t, err, &other)
		require.ErrorContains(t, err, "imbricat login "+host)
		require.NotContains(t, err.Error(), secret)
	}
	settings.Issuer = named
	_, err = ask(credential.Login{User: "harbour", Secret: secret})
	require.NoError(t, err, "the settings name it")
	// What was confirmed at login holds for every source.
	file := credential.OpenFile(filepath.Join(t.TempDir(), "credentials.json"))
	require.NoError(t, file.Keep(host, credential.Login{User: "other", Secret: "other", Issuer: named}))
	c := New(Options{Wait: time.Millisecond, Logins: credential.Chain{credential.Fixed{Place: host, Login: credential.Login{User: "harbour", Secret: secret}}, file}})
	_, err = c.Ping(t.Context(), host)
	require.NoError(t, err)
}

// TestTokenForms: an issuer that knows only the OAuth2 form, tokens that end, and a program that knows a newer one.
func TestTokenForms(t *testing.T) {
	issued := 0
	issuer := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		require.NoError(t, r.ParseForm())
		require.Equal(t, url.Values{"grant_type": {"password"}, "username": {"harbour"}, "password": {secret}, "client_id": {"imbricat"},
			"service": {"tides"}, "scope": {"repository:a:pull"}}, r.PostForm)
		require.Empty(t, r.URL.RawQuery, "a secret never stands in an address")
		issued++
		fmt.Fprintf(w, `{"access_token":"t%d","expires_in":300}`, issued)
	})
	valid := "t1"
	host := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+valid {
			w.Header().Set("WWW-Authenticate", `Bearer realm="http://`+issuer+`/token",service="tides"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		fmt.Fprint(w, `{"tags":[]}`)
	})
	c := New(Options{Wait: time.Millisecond, Logins: credential.Fixed{Place: host, Login: credential.Login{User: "harbour", Secret: secret, Confirms: true}}})
	for _, valid = range []string{"t1", "t1", "t2"} {
		_, err := c.Repository(host, "a").Tags(t.Context())
		require.NoError(t, err)
	}
	require.Equal(t, 2, issued)

	renewing := &rotating{tokens: []string{"old", "new"}}
	valid = "new"
	_, err := New(Options{Wait: time.Millisecond, Logins: renewing}).Repository(host, "a").Tags(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, renewing.refused)
}

// rotating gives the next token when one was refused.
type rotating struct {
	tokens  []string
	refused int
}

func (r *rotating) Find(context.Context, string, string) (credential.Login, error) {
	return credential.Login{Token: credential.Secret(r.tokens[r.refused])}, nil
}

func (r *rotating) Refused(string, string) { r.refused++ }

// TestRetryAfter: a registry is left alone for as long as it asks, and a mirror that fails is left.
func TestRetryAfter(t *testing.T) {
	asked := 0
	var first time.Time
	host := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if asked++; asked == 1 {
			first = time.Now()
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		fmt.Fprint(w, `{"tags":["1"]}`)
	})
	_, err := New(Options{Wait: time.Millisecond}).Repository(host, "a").Tags(t.Context())
	require.NoError(t, err)
	require.GreaterOrEqual(t, time.Since(first), time.Second)

	const manifest = `{"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[]}`
	mirrored := 0
	bad := serve(t, func(w http.ResponseWriter, r *http.Request) { mirrored++; w.WriteHeader(http.StatusForbidden) })
	lacking := serve(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "/v2/copies/a/manifests/1", r.URL.Path)
		w.WriteHeader(http.StatusNotFound)
	})
	home := serve(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, manifest) })
	c := New(Options{Wait: time.Millisecond, Settings: func(h string) Settings {
		if h == home {
			return Settings{Mirrors: []string{bad, lacking + "/copies"}}
		}
		return Settings{}
	}})
	for range 3 {
		_, body, err := c.Source(home, "a").Manifest(t.Context(), "1", nil)
		require.NoError(t, err)
		require.Equal(t, manifest, string(body))
	}
	require.Equal(t, 1, mirrored, "a mirror that fails is left")
}

// TestTooLarge: a registry that takes no large request gets pieces.
func TestTooLarge(t *testing.T) {
	text := strings.Repeat("tide", 9<<20)
	desc := digest.Descriptor{Digest: digest.FromBytes([]byte(text)), Size: int64(len(text))}
	var got strings.Builder
	host := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Location", "/v2/a/blobs/uploads/1")
		switch {
		case r.Method == http.MethodPost:
			got.Reset()
			w.WriteHeader(http.StatusAccepted)
		case r.ContentLength > 20<<20:
			w.WriteHeader(http.StatusRequestEntityTooLarge)
		default:
			require.Equal(t, fmt.Sprintf("%d-%d", got.Len(), got.Len()+int(r.ContentLength)-1), r.Header.Get("Content-Range"))
			_, _ = io.Copy(&got, r.Body)
			w.Header().Set("Range", fmt.Sprintf("0-%d", got.Len()-1))
			w.WriteHeader(map[string]int{http.MethodPatch: 202, http.MethodPut: 201}[r.Method])
		}
	})
	require.NoError(t, New(Options{Wait: time.Millisecond}).Repository(host, "a").PutBlob(t.Context(), desc, func(from int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(text[from:])), nil
	}))
	require.True(t, got.String() == text)
}

// FuzzLink: whatever a registry sends as its next page, it stays on its host.
func FuzzLink(f *testing.F) {
	f.Add(`</v2/a/tags/list?last=x&n=2>; rel="next"`)
	f.Add(`<http://elsewhere.example/>; rel=next, </b>; rel="prev"`)
	f.Add(`<file:///etc/passwd>; rel=next`)
	home := &url.URL{Scheme: "https", Host: "registry.tideline.example", Path: "/v2/a/tags/list"}
	f.Fuzz(func(t *testing.T, header string) {
		next, err := nextPage(home, []string{header})
		if err != nil || next == "" {
			return
		}
		u, err := url.Parse(next)
		require.NoError(t, err)
		require.Equal(t, home.Host, u.Host)
		require.Equal(t, home.Scheme, u.Scheme)
	})
}

// FuzzRange: what is read of Range headers is what would be written of it.
func FuzzRange(f *testing.F) {
	f.Add("0-99")
	f.Add("bytes=0-0")
	f.Add("bytes 100-199/200")
	f.Add("-1-0")
	f.Fuzz(func(t *testing.T, text string) {
		if size, ok := rangeEnd(text); ok {
			require.GreaterOrEqual(t, size, int64(0))
			if again, ok := rangeEnd(fmt.Sprintf("0-%d", max(size-1, 0))); true {
				require.True(t, ok)
				require.Equal(t, size, again)
			}
		}
		if start, ok := rangeStart(text); ok {
			require.GreaterOrEqual(t, start, int64(0))
			again, ok := rangeStart(fmt.Sprintf("bytes %d-%d/*", start, start))
			require.True(t, ok)
			require.Equal(t, start, again)
		}
	})
}

// FuzzReferrers: what a registry lists as referrers is refused, or has digests that are some.
func FuzzReferrers(f *testing.F) {
	f.Add([]byte(`{"manifests":[{"digest":"sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855","size":0}]}`))
	f.Add([]byte(`{"manifests":[{"digest":"sha256:../x"}]}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		list, err := readReferrers(body)
		if err != nil {
			return
		}
		for _, d := range list {
			require.NoError(t, d.Digest.Validate())
			require.NotContains(t, FallbackTag(d.Digest), "/")
		}
	})
}
