package registry

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/sha512"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/credential"
	"imbricat/internal/standin"
)

// peer is a registry with TLS and token authentication, for harbour with the secret, behind a line that can break.
type peer struct {
	host string
	tls  *tls.Config
	line *line
}

// line passes connections on, and breaks them after some bytes each way where it is told to.
type line struct {
	net.Listener
	target   string
	up, down atomic.Int64 // bytes that a connection may carry until it breaks; 0: no bound
	sent     atomic.Int64 // bytes that went up
	received atomic.Int64
}

func newLine(t *testing.T, target string) *line {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := &line{Listener: listener, target: target}
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go l.pass(conn)
		}
	}()
	return l
}

func (l *line) pass(client net.Conn) {
	defer client.Close()
	server, err := net.Dial("tcp", l.target)
	if err != nil {
		return
	}
	defer server.Close()
	var both sync.WaitGroup
	carry := func(to, from net.Conn, most, count *atomic.Int64) {
		defer both.Done()
		defer to.Close()
		buffer, done := make([]byte, 16<<10), int64(0)
		for {
			n, err := from.Read(buffer)
			if bound := most.Load(); bound > 0 && done+int64(n) > bound {
				most.Store(0) // once
				from.Close()
				return
			}
			done += int64(n)
			count.Add(int64(n))
			if _, writeErr := to.Write(buffer[:n]); err != nil || writeErr != nil {
				return
			}
		}
	}
	both.Add(2)
	go carry(server, client, &l.up, &l.sent)
	go carry(client, server, &l.down, &l.received)
	both.Wait()
}

const peerSecret = "s3cret-tide"

// ourPeer is the stand-in that ships with the program.
func ourPeer(t *testing.T) *peer {
	s, err := standin.New(standin.Options{Dir: t.TempDir(), Auth: standin.AuthToken, User: "harbour", Secret: peerSecret})
	require.NoError(t, err)
	secure, authority, err := s.TLS()
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, tls.NewListener(listener, secure)) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-ended) })
	text, err := os.ReadFile(authority)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(text))
	l := newLine(t, listener.Addr().String())
	return &peer{host: l.Addr().String(), tls: &tls.Config{RootCAs: pool}, line: l}
}

// theirPeer is the CNCF Distribution registry, with an issuer of tokens that the test provides.
func theirPeer(t *testing.T) *peer {
	program := os.Getenv("IMBRICAT_TEST_REGISTRY")
	if program == "" && os.Getenv("CI") != "" {
		t.Fatal("IMBRICAT_TEST_REGISTRY is not set")
	}
	if program == "" {
		t.Skip("set IMBRICAT_TEST_REGISTRY to what scripts/real-registry prints")
	}
	dir := t.TempDir()
	certificates, err := standin.New(standin.Options{Dir: dir})
	require.NoError(t, err)
	secure, authority, err := certificates.TLS()
	require.NoError(t, err)
	text, err := os.ReadFile(authority)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(text))
	write := func(name, kind string, raw ...[]byte) string {
		var out bytes.Buffer
		for _, one := range raw {
			require.NoError(t, pem.Encode(&out, &pem.Block{Type: kind, Bytes: one}))
		}
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, out.Bytes(), 0o600))
		return path
	}
	own := secure.Certificates[0]
	key, err := x509.MarshalECPrivateKey(own.PrivateKey.(*ecdsa.PrivateKey))
	require.NoError(t, err)
	issuer, bundle := newIssuer(t, own.Certificate[0], own.PrivateKey.(*ecdsa.PrivateKey), own), write("server.pem", "CERTIFICATE", own.Certificate...)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := listener.Addr().String()
	listener.Close()
	config := filepath.Join(dir, "config.yml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `version: 0.1
log: {level: error}
storage: {filesystem: {rootdirectory: %s/data}, delete: {enabled: true}}
http: {addr: %q, tls: {certificate: %s, key: %s}, relativeurls: true}
auth: {token: {realm: %q, service: tides, issuer: tides, rootcertbundle: %s, signingalgorithms: [ES256]}}
`, dir, address, bundle, write("server-key.pem", "EC PRIVATE KEY", key), issuer+"/token", authority), 0o600))
	var log bytes.Buffer
	c := exec.Command(program, "serve", config)
	c.Stderr = &log
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
		if t.Failed() {
			t.Log(log.String())
		}
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	l := newLine(t, address)
	return &peer{host: l.Addr().String(), tls: &tls.Config{RootCAs: pool}, line: l}
}

// newIssuer serves tokens that are good for all that is asked, to harbour alone, over TLS.
func newIssuer(t *testing.T, certificate []byte, key *ecdsa.PrivateKey, own tls.Certificate) string {
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, secret, _ := r.BasicAuth()
		if user != "harbour" || secret != peerSecret {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		access := []map[string]any{}
		for _, scope := range r.URL.Query()["scope"] {
			parts := strings.Split(scope, ":")
			access = append(access, map[string]any{"type": parts[0], "name": parts[1], "actions": strings.Split(parts[2], ",")})
		}
		token := jwt.NewWithClaims(jwt.SigningMethodES256, jwt.MapClaims{"iss": "tides", "sub": user, "aud": "tides", "access": access,
			"exp": time.Now().Add(time.Minute).Unix(), "nbf": time.Now().Add(-time.Minute).Unix(), "iat": time.Now().Unix(), "jti": fmt.Sprint(rand.Uint64())})
		token.Header["x5c"] = [][]byte{certificate, own.Certificate[1]}
		text, err := token.SignedString(key)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"token": text, "expires_in": 60})
	}))
	server.TLS = &tls.Config{Certificates: []tls.Certificate{own}}
	server.StartTLS()
	t.Cleanup(server.Close)
	return server.URL
}

func (p *peer) client(o Options) *Client {
	o.Settings = func(string) Settings { return Settings{TLS: p.tls, Chunk: 0} }
	if o.Logins == nil {
		o.Logins = credential.Fixed{Place: p.host, Login: credential.Login{User: "harbour", Secret: peerSecret, Confirms: true}}
	}
	if o.Wait == 0 {
		o.Wait = 5 * time.Millisecond
	}
	return New(o)
}

func someBlob(seed byte, size int) (digest.Descriptor, Opener, []byte) {
	text := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{seed}).Read(text)
	desc := digest.Descriptor{MediaType: v1.MediaTypeImageLayerGzip, Digest: digest.FromBytes(text), Size: int64(size)}
	return desc, func(from int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text[from:])), nil }, text
}

// memory remembers uploads.
type memory map[string]string

func (m memory) TakeUpload(repository string, blob digest.Digest) Upload {
	return &remembered{m, repository + string(blob)}
}

type remembered struct {
	all memory
	key string
}

func (r *remembered) Address() string     { return r.all[r.key] }
func (r *remembered) Note(address string) { r.all[r.key] = address }
func (r *remembered) Release(finished bool) {
	if finished {
		delete(r.all, r.key)
	}
}

// TestPeers runs every operation of the client against the stand-in and against a registry that nobody here wrote, both with
// TLS and with tokens.
func TestPeers(t *testing.T) {
	for name, start := range map[string]func(*testing.T) *peer{"stand-in": ourPeer, "CNCF Distribution": theirPeer} {
		t.Run(name, func(t *testing.T) {
			p := start(t)
			for _, part := range []struct {
				name string
				run  func(*testing.T, *peer)
			}{{"login", peerLogin}, {"blobs", peerBlobs}, {"chunks", peerChunks}, {"broken lines", peerBroken}, {"a later run", peerLater},
				{"manifests and tags", peerManifests}, {"referrers", peerReferrers}, {"deletion", peerDeletion}} {
				t.Run(part.name, func(t *testing.T) { part.run(t, p) })
			}
		})
	}
}

func peerLogin(t *testing.T, p *peer) {
	asked, err := p.client(Options{}).Ping(t.Context(), p.host)
	require.NoError(t, err)
	require.True(t, asked)
	var answer *Error
	_, err = p.client(Options{Logins: credential.Fixed{Place: p.host, Login: credential.Login{User: "harbour", Secret: "wrong", Confirms: true}}}).Ping(t.Context(), p.host)
	require.ErrorAs(t, err, &answer)
	require.True(t, answer.Denied())
	_, err = p.client(Options{Logins: credential.Chain{}}).Repository(p.host, "tides/gauge").Tags(t.Context())
	require.ErrorAs(t, err, &answer)
	require.True(t, answer.Denied())
	require.NoError(t, p.client(Options{}).Repository(p.host, "tides/gauge").MayPush(t.Context()))
	untrusting := New(Options{Wait: time.Millisecond, Settings: func(string) Settings { return Settings{TLS: &tls.Config{}} }})
	_, err = untrusting.Ping(t.Context(), p.host)
	require.ErrorContains(t, err, "certificate")
	require.ErrorIs(t, err, ErrUnreachable)
}

func peerBlobs(t *testing.T, p *peer) {
	r := p.client(Options{}).Repository(p.host, "tides/gauge")
	desc, open, text := someBlob(1, 300_000)
	has := func(r *Repository, desc digest.Descriptor) bool {
		there, err := r.HasBlob(t.Context(), desc)
		require.NoError(t, err)
		return there
	}
	require.False(t, has(r, desc))
	require.NoError(t, r.PutBlob(t.Context(), desc, open))
	require.True(t, has(r, desc))
	in, err := r.Blob(t.Context(), desc)
	require.NoError(t, err)
	got, err := io.ReadAll(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	require.Equal(t, text, got)
	in, err = r.BlobFrom(t.Context(), desc, 123_456)
	require.NoError(t, err)
	got, err = io.ReadAll(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	require.Equal(t, text[123_456:], got)

	other := p.client(Options{}).Repository(p.host, "tides/bulletin")
	mounted, err := other.Mount(t.Context(), desc, "tides/gauge")
	require.NoError(t, err)
	require.True(t, mounted)
	require.True(t, has(other, desc))
	mounted, err = other.Mount(t.Context(), digest.Descriptor{Digest: digest.FromBytes([]byte("nowhere")), Size: 7}, "tides/gauge")
	require.NoError(t, err)
	require.False(t, mounted)

	empty, open, _ := someBlob(2, 0)
	require.NoError(t, r.PutBlob(t.Context(), empty, open))
	require.True(t, has(r, empty))
	wrong, _, _ := someBlob(3, 1000)
	_, open, _ = someBlob(4, 1000)
	var answer *Error
	require.ErrorAs(t, r.PutBlob(t.Context(), wrong, open), &answer)
	require.Equal(t, 400, answer.Status)
	require.False(t, has(r, wrong))
	_, err = r.Blob(t.Context(), wrong)
	require.ErrorAs(t, err, &answer)
	require.True(t, answer.NotFound())
}

func peerChunks(t *testing.T, p *peer) {
	c := p.client(Options{})
	c.o.Settings = func(string) Settings { return Settings{TLS: p.tls, Chunk: 256 << 10} }
	for seed, size := range []int{1, 256<<10 - 1, 256 << 10, 256<<10 + 1, 1_000_000} {
		desc, open, _ := someBlob(byte(10+seed), size)
		require.NoError(t, c.Repository(p.host, "tides/chunks").PutBlob(t.Context(), desc, open), size)
		there, err := c.Repository(p.host, "tides/chunks").HasBlob(t.Context(), desc)
		require.NoError(t, err)
		require.True(t, there, size)
	}
}

// peerBroken breaks the line in the middle of an upload and of a download: both go on, and little is sent twice.
func peerBroken(t *testing.T, p *peer) {
	r := p.client(Options{}).Repository(p.host, "tides/broken")
	const size = 24 << 20
	for seed, cut := range []int64{1 << 20, 8 << 20, 16 << 20, 23 << 20} {
		desc, open, text := someBlob(byte(30+seed), size)
		p.line.sent.Store(0)
		p.line.up.Store(cut)
		require.NoError(t, r.PutBlob(t.Context(), desc, open))
		require.Zero(t, p.line.up.Load(), "the line broke")
		require.Less(t, p.line.sent.Load(), int64(size*13/10), "cut after %d", cut)
		p.line.received.Store(0)
		p.line.down.Store(cut)
		in, err := r.Blob(t.Context(), desc)
		require.NoError(t, err)
		got, err := io.ReadAll(in)
		require.NoError(t, err)
		require.NoError(t, in.Close())
		require.Zero(t, p.line.down.Load(), "the line broke")
		require.Less(t, p.line.received.Load(), int64(size*13/10))
		require.True(t, bytes.Equal(text, got))
	}
}

// peerLater ends a client in the middle of an upload; another one goes on where it stood.
func peerLater(t *testing.T, p *peer) {
	const size = 24 << 20
	desc, open, _ := someBlob(50, size)
	uploads := memory{}
	ctx, cancel := context.WithCancel(t.Context())
	stopping := func(from int64) (io.ReadCloser, error) {
		in, err := open(from)
		return &stopper{in, 16 << 20, cancel}, err
	}
	require.ErrorIs(t, p.client(Options{Uploads: uploads}).Repository(p.host, "tides/later").PutBlob(ctx, desc, stopping), context.Canceled)
	time.Sleep(200 * time.Millisecond) // the registry notices
	p.line.sent.Store(0)
	r := p.client(Options{Uploads: uploads}).Repository(p.host, "tides/later")
	require.NoError(t, r.PutBlob(t.Context(), desc, open))
	require.Less(t, p.line.sent.Load(), int64(size*6/10), "what arrived is not sent again")
	there, err := r.HasBlob(t.Context(), desc)
	require.NoError(t, err)
	require.True(t, there)
	require.Empty(t, uploads, "what is finished is forgotten")
	other, open, _ := someBlob(51, size)
	uploads.TakeUpload(r.String(), other.Digest).Note("https://" + p.host + "/v2/tides/later/blobs/uploads/no-such-upload")
	require.NoError(t, r.PutBlob(t.Context(), other, open), "an upload that the registry has forgotten begins anew")
}

// stopper ends everything after some bytes.
type stopper struct {
	io.ReadCloser
	left   int
	cancel func()
}

func (s *stopper) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p)
	if s.left -= n; s.left < 0 {
		time.Sleep(100 * time.Millisecond)
		s.cancel()
	}
	return n, err
}

// artifact puts a manifest with an empty config, and gives its descriptor.
func artifact(t *testing.T, r *Repository, tag string, change func(m *v1.Manifest)) digest.Descriptor {
	require.NoError(t, r.PutBlob(t.Context(), v1.DescriptorEmptyJSON, func(from int64) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader([]byte("{}")[from:])), nil
	}))
	m := v1.Manifest{MediaType: v1.MediaTypeImageManifest, ArtifactType: "application/vnd.tideline.table", Config: v1.DescriptorEmptyJSON, Layers: []digest.Descriptor{v1.DescriptorEmptyJSON}}
	m.SchemaVersion = 2
	change(&m)
	body, err := json.Marshal(m)
	require.NoError(t, err)
	desc := digest.Descriptor{MediaType: m.MediaType, Digest: digest.FromBytes(body), Size: int64(len(body)), ArtifactType: m.ArtifactType, Annotations: m.Annotations}
	if tag == "" {
		tag = string(desc.Digest)
	}
	require.NoError(t, r.PutManifest(t.Context(), tag, m.MediaType, body))
	return desc
}

func peerManifests(t *testing.T, p *peer) {
	r := p.client(Options{}).Repository(p.host, "tides/manifests")
	accept := []string{v1.MediaTypeImageManifest, v1.MediaTypeImageIndex}
	one := artifact(t, r, "1.4.0", func(m *v1.Manifest) { m.Annotations = map[string]string{"tideline.height": "3.42"} })
	for i := range 120 { // more than a page of many registries
		artifact(t, r, fmt.Sprintf("build-%03d", i), func(*v1.Manifest) {})
	}
	tags, err := r.Tags(t.Context())
	require.NoError(t, err)
	require.Len(t, tags, 121)
	desc, body, err := r.Manifest(t.Context(), "1.4.0", accept)
	require.NoError(t, err)
	require.Equal(t, one.Digest, desc.Digest)
	require.Contains(t, string(body), "3.42")
	_, _, err = r.Manifest(t.Context(), string(one.Digest), accept)
	require.NoError(t, err)
	d, there, err := r.HasManifest(t.Context(), "1.4.0", accept)
	require.NoError(t, err)
	require.True(t, there)
	require.Equal(t, one.Digest, d)
	_, there, err = r.HasManifest(t.Context(), "1.5.0", accept)
	require.NoError(t, err)
	require.False(t, there)

	// An index within an index, with a field that nobody knows.
	nested := []byte(`{"schemaVersion":2,"mediaType":"` + v1.MediaTypeImageIndex + `","manifests":[` + encode(t, one) + `],"tideline":{"height":3.42}}`)
	require.NoError(t, r.PutManifest(t.Context(), string(digest.FromBytes(nested)), v1.MediaTypeImageIndex, nested))
	_, body, err = r.Manifest(t.Context(), string(digest.FromBytes(nested)), accept)
	require.NoError(t, err)
	require.Equal(t, nested, body)

	// Content is read by its SHA-512 digest where the registry can keep it.
	text := []byte("tide tables")
	long := digest.Descriptor{Digest: digest.Digest(fmt.Sprintf("sha512:%x", sha512.Sum512(text))), Size: int64(len(text))}
	err = r.PutBlob(t.Context(), long, func(from int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text[from:])), nil })
	if err == nil {
		in, err := r.Blob(t.Context(), long)
		require.NoError(t, err)
		got, err := io.ReadAll(in)
		require.NoError(t, err)
		require.Equal(t, text, got)
		in.Close()
	} else {
		require.NotContains(t, t.Name(), "stand-in", err)
	}
}

func encode(t *testing.T, v any) string {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}

func peerReferrers(t *testing.T, p *peer) {
	r := p.client(Options{}).Repository(p.host, "tides/referrers")
	subject := artifact(t, r, "1.4.0", func(*v1.Manifest) {})
	none, err := r.Referrers(t.Context(), subject.Digest, "")
	require.NoError(t, err)
	require.Empty(t, none)
	var want []digest.Digest
	for i, kind := range []string{"application/vnd.tideline.bill", "application/vnd.tideline.proof", "application/vnd.tideline.bill"} {
		one := artifact(t, r, "", func(m *v1.Manifest) {
			m.ArtifactType, m.Subject, m.Annotations = kind, &digest.Descriptor{MediaType: subject.MediaType, Digest: subject.Digest, Size: subject.Size}, map[string]string{"n": fmt.Sprint(i)}
		})
		want = append(want, one.Digest)
	}
	list, err := r.Referrers(t.Context(), subject.Digest, "")
	require.NoError(t, err)
	var got []digest.Digest
	for _, d := range list {
		got = append(got, d.Digest)
		require.NotEmpty(t, d.Annotations["n"])
	}
	require.ElementsMatch(t, want, got)
	list, err = r.Referrers(t.Context(), subject.Digest, "application/vnd.tideline.proof")
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, want[1], list[0].Digest)
}

func peerDeletion(t *testing.T, p *peer) {
	r := p.client(Options{}).Repository(p.host, "tides/deletion")
	one := artifact(t, r, "1.4.0", func(*v1.Manifest) {})
	artifact(t, r, "newest", func(*v1.Manifest) {})
	accept := []string{v1.MediaTypeImageManifest}
	require.NoError(t, r.Delete(t.Context(), "newest"))
	_, there, err := r.HasManifest(t.Context(), "newest", accept)
	require.NoError(t, err)
	require.False(t, there)
	_, there, err = r.HasManifest(t.Context(), "1.4.0", accept)
	require.NoError(t, err)
	require.True(t, there, "the other tag on the digest stays")
	require.NoError(t, r.Delete(t.Context(), string(one.Digest)))
	_, there, err = r.HasManifest(t.Context(), string(one.Digest), accept)
	require.NoError(t, err)
	require.False(t, there)
	require.NoError(t, r.DeleteBlob(t.Context(), v1.DescriptorEmptyJSON.Digest))
	var answer *Error
	require.ErrorAs(t, r.DeleteBlob(t.Context(), v1.DescriptorEmptyJSON.Digest), &answer)
	require.True(t, answer.NotFound())
}
