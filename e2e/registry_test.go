package e2e

import (
	"bufio"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

// TestConformance runs the official conformance program of the distribution-spec against the stand-in, with all that is on by
// default and what else the stand-in knows, on a folder and in memory.
func TestConformance(t *testing.T) {
	path := os.Getenv("IMBRICAT_TEST_CONFORMANCE")
	if path == "" && os.Getenv("CI") != "" {
		t.Fatal("IMBRICAT_TEST_CONFORMANCE is not set")
	}
	if path == "" {
		t.Skip("set IMBRICAT_TEST_CONFORMANCE to what scripts/conformance-program prints")
	}
	for name, c := range map[string]struct{ start, environment []string }{
		"default":        {[]string{"--dir", "registry"}, nil},
		"memory":         {[]string{"--memory"}, []string{"OCI_API_MANIFESTS_TAG_PARAM=true", "OCI_API_BLOBS_UPLOAD_CANCEL=true", "OCI_API_BLOBS_DIGEST_HEADER=true", "OCI_API_MANIFESTS_DIGEST_HEADER=true"}},
		"with tokens":    {[]string{"--memory", "--auth", "token", "--user", "harbour"}, []string{"OCI_USERNAME=harbour", "OCI_PASSWORD=s3cret-tide"}},
		"with passwords": {[]string{"--dir", "registry", "--user", "harbour"}, []string{"OCI_USERNAME=harbour", "OCI_PASSWORD=s3cret-tide"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			address, _ := standinOn(t, dir, c.start...)
			program := exec.Command(path)
			program.Dir = dir
			program.Env = append(append(os.Environ(), "OCI_REGISTRY="+address, "OCI_TLS=disabled", "OCI_VERSION=1.1"), c.environment...)
			out, err := program.CombinedOutput()
			require.NoError(t, err, "%s", out)
			text, err := os.ReadFile(filepath.Join(dir, "results", "junit.xml"))
			require.NoError(t, err)
			counts := regexp.MustCompile(`tests="(\d+)" .*?failures="(\d+)"`).FindSubmatch(text)
			require.NotNil(t, counts, "%s", text[:500])
			require.Regexp(t, `^[89]\d\d$|^\d{4,}$`, string(counts[1]), "so many tests ran")
			require.Equal(t, "0", string(counts[2]), "%s", out)
		})
	}
}

// standinOn starts a stand-in and gives its address and its process.
func standinOn(t *testing.T, dir string, args ...string) (string, *exec.Cmd) {
	c := exec.Command(program, append([]string{"standin", "start"}, args...)...)
	c.Dir = dir
	c.Env = append(os.Environ(), "IMBRICAT_STANDIN_SECRET=s3cret-tide", "XDG_CONFIG_HOME="+dir)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
	})
	address, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return strings.TrimSpace(address), c
}

// bigImage builds an image with layers of random bytes.
func bigImage(t *testing.T, registry string, layers, size int) *run {
	r := newRun(t)
	r.env = append(r.env, "REGISTRY="+registry)
	var recipe strings.Builder
	recipe.WriteString("imbricat: 1\nimages:\n  gauge:\n    base: none\n    platforms: [linux/amd64]\n    compression: none\n    steps:\n")
	block := make([]byte, size)
	for i := range layers {
		_, _ = rand.NewChaCha8([32]byte{byte(i), 9}).Read(block)
		r.write(fmt.Sprintf("data/%d.bin", i), string(block))
		fmt.Fprintf(&recipe, "      - copy: {from: data/%d.bin, to: /data/}\n", i)
	}
	recipe.WriteString("    publish: {main: {to: \"${env.REGISTRY}/tides/gauge\", tags: [\"1.4.0\", newest]}}\n")
	r.write("imbricat.yaml", recipe.String())
	r.ok("build", "--view", "none")
	return r
}

// TestKilledPush kills a push in the middle of a large layer, and the registry as well: the next push sends only what had not
// arrived, whether or not the registry was killed too.
func TestKilledPush(t *testing.T) {
	for _, killRegistry := range []bool{false, true} {
		dir := t.TempDir()
		address, server := standinOn(t, dir, "--dir", "registry", "--faults", "bandwidth=40MB")
		target, err := url.Parse("http://" + address)
		require.NoError(t, err)
		var sent atomic.Int64
		proxy := httputil.NewSingleHostReverseProxy(target)
		front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			q.Body = &sentReader{q.Body, &sent}
			proxy.ServeHTTP(w, q)
		}))
		t.Cleanup(front.Close)
		const size = 32 << 20
		r := bigImage(t, strings.TrimPrefix(front.URL, "http://"), 2, size)
		c := r.command("push", "--view", "none")
		require.NoError(t, c.Start())
		wait(t, "some of the layers arrived", func() bool { return sent.Load() > size })
		require.NoError(t, c.Process.Kill())
		_ = c.Wait()
		if killRegistry {
			require.NoError(t, server.Process.Kill())
			_ = server.Wait()
			again, _ := standinOn(t, dir, "--dir", "registry", "--listen", address)
			require.Equal(t, address, again)
		}
		time.Sleep(300 * time.Millisecond)
		before := sent.Swap(0)
		require.Contains(t, r.ok("push"), "sent 2 blobs")
		require.Less(t, before+sent.Load(), int64(2*size*13/10), "what arrived is not sent again: %d had been sent", before)
		sent.Store(0)
		require.Contains(t, r.ok("push"), "sent 0 blobs")
		require.Zero(t, sent.Load())
		other := newRun(t)
		other.ok("pull", address+"/tides/gauge:1.4.0")
		other.ok("store", "check")
	}
}

type sentReader struct {
	body interface {
		Read([]byte) (int, error)
		Close() error
	}
	n *atomic.Int64
}

func (s *sentReader) Read(p []byte) (int, error) {
	n, err := s.body.Read(p)
	s.n.Add(int64(n))
	return n, err
}

func (s *sentReader) Close() error { return s.body.Close() }

// TestFewRequests: a push of what is there asks for its tags alone, and is told so.
func TestFewRequests(t *testing.T) {
	address := localRegistry(t)
	c := front(t, address)
	r := bigImage(t, c.address(), 6, 100)
	r.ok("push")
	c.asked.Store(0)
	require.Contains(t, r.ok("push"), "sent 0 blobs")
	require.LessOrEqual(t, c.asked.Load(), int64(3))
}

// TestNoTagBeforeContent: with two destinations, of which one does not take content, no tag is written anywhere.
func TestNoTagBeforeContent(t *testing.T) {
	address := localRegistry(t)
	c := front(t, address)
	c.spoil = func(w http.ResponseWriter, q *http.Request) bool {
		if q.Method == http.MethodPut && strings.Contains(q.URL.Path, "/tides/second/blobs/") {
			w.WriteHeader(http.StatusForbidden)
			return true
		}
		return false
	}
	r := newRun(t)
	r.write("imbricat.yaml", `imbricat: 1
images:
  gauge:
    base: none
    platforms: [linux/amd64]
    steps: [{write: {to: /etc/gauge, text: "3.42"}}]
    publish:
      first: {to: "`+address+`/tides/first", tags: [a]}
      second: {to: "`+c.address()+`/tides/second", tags: [a]}
`)
	r.ok("build")
	code, problems := r.exit("push")
	require.Equal(t, 4, code)
	require.Regexp(t, "of 2 blobs are at .*tides/second .*no tag was written", problems)
	require.Contains(t, r.ok("tags", address+"/tides/first"), "has no tags")
	c.spoil = nil
	r.ok("push")
	require.Contains(t, r.ok("tags", address+"/tides/first"), "linux/amd64")
}

// TestMirror: what is pulled comes from the mirror as long as it works, and from home after that; verified both times.
func TestMirror(t *testing.T) {
	home, copies := localRegistry(t), localRegistry(t)
	mirror := front(t, copies)
	r := bigImage(t, home, 3, 400_000)
	r.ok("push")
	r.ok("copy", home+"/tides/gauge:1.4.0", copies+"/mirrored/tides/gauge:1.4.0")
	pull := func(want string) int64 {
		mirror.blobs.Store(0)
		o := newRun(t)
		o.write("config/imbricat/config.yaml", fmt.Sprintf("registries:\n  %s:\n    mirrors: [%s/mirrored]\n    parallel: 1\n", home, mirror.address()))
		o.env = append(o.env, "XDG_CONFIG_HOME="+filepath.Join(o.dir, "config"))
		o.ok("pull", home+"/tides/gauge:1.4.0")
		require.Contains(t, o.ok("store", "check"), "nothing wrong")
		return mirror.blobs.Load()
	}
	require.Greater(t, pull("all"), int64(1_200_000))
	asked := 0
	mirror.spoil = func(w http.ResponseWriter, q *http.Request) bool {
		if asked++; asked < 4 {
			return false
		}
		panic(http.ErrAbortHandler)
	}
	require.Less(t, pull("some"), int64(900_000))
	mirror.spoil = func(w http.ResponseWriter, q *http.Request) bool {
		w.WriteHeader(http.StatusUnauthorized)
		return true
	}
	require.Zero(t, pull("none"))
}

// TestReferrersTravel: copying with --referrers takes along what refers to an image and to its platforms, and what refers to
// that; to a registry that keeps no such lists as well.
func TestReferrersTravel(t *testing.T) {
	from, to := localRegistry(t), realRegistry(t, "")
	r := bigImage(t, from, 1, 1000)
	r.ok("push")
	var image struct {
		Digest    string
		Platforms []struct{ Digest string }
	}
	unmarshal(t, r.ok("show", from+"/tides/gauge:1.4.0", "--format", "json"), &image)
	put := func(subject, kind string) string {
		empty := `{"mediaType":"application/vnd.oci.empty.v1+json","digest":"sha256:44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a","size":2}`
		post(t, "POST", "http://"+from+"/v2/tides/gauge/blobs/uploads/?digest=sha256:44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a", "", "{}")
		body := `{"schemaVersion":2,"mediaType":"application/vnd.oci.image.manifest.v1+json","artifactType":"` + kind + `","config":` + empty + `,"layers":[` + empty + `],"subject":{"mediaType":"application/vnd.oci.image.index.v1+json","digest":"` + subject + `","size":1}}`
		return post(t, "PUT", "http://"+from+"/v2/tides/gauge/manifests/"+sha256Of(body), "application/vnd.oci.image.manifest.v1+json", body)
	}
	bill := put(image.Digest, "application/vnd.tideline.bill")
	put(image.Platforms[0].Digest, "application/vnd.tideline.proof")
	put(bill, "application/vnd.tideline.proof")
	r.ok("copy", from+"/tides/gauge:1.4.0", to+"/tides/plain:1")
	require.NotContains(t, r.ok("tags", to+"/tides/plain"), "sha256-")
	r.ok("copy", "--referrers", from+"/tides/gauge:1.4.0", to+"/tides/gauge:1")
	for _, subject := range []string{image.Digest, image.Platforms[0].Digest, bill} {
		resp, err := http.Get("http://" + to + "/v2/tides/gauge/manifests/" + strings.Replace(subject, ":", "-", 1))
		require.NoError(t, err)
		resp.Body.Close()
		require.Equal(t, 200, resp.StatusCode, "what refers to %s is listed under the fallback tag", subject)
	}
	// A rule that takes the image takes those lists along, and one that keeps it keeps them.
	require.Contains(t, r.ok("tags", "keep", to+"/tides/gauge", "--pattern", "1"), "deleted 0 tags and 0 digests")
	code, _ := r.exit("copy", "--referrers", from+"/tides/gauge:1.4.0", "./layout")
	require.Equal(t, 2, code)
}

func post(t *testing.T, method, address, mediaType, body string) string {
	q, err := http.NewRequest(method, address, strings.NewReader(body))
	require.NoError(t, err)
	q.Header.Set("Content-Type", mediaType)
	resp, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	resp.Body.Close()
	require.Equal(t, 201, resp.StatusCode)
	return sha256Of(body)
}

func sha256Of(text string) string { return fmt.Sprintf("sha256:%x", sha256.Sum256([]byte(text))) }

func unmarshal(t *testing.T, text string, into any) {
	require.NoError(t, json.Unmarshal([]byte(text), into))
}

// TestTwoPushes: two processes that push the same image from one store at once do not get into each other's uploads.
func TestTwoPushes(t *testing.T) {
	address, _ := standinOn(t, t.TempDir(), "--memory", "--faults", "bandwidth=20MB")
	r := bigImage(t, address, 2, 8<<20)
	var both errgroup.Group
	for range 2 {
		c := r.command("push", "--view", "none")
		both.Go(func() error {
			out, err := c.CombinedOutput()
			if err != nil {
				return fmt.Errorf("%w: %s", err, out)
			}
			return nil
		})
	}
	require.NoError(t, both.Wait())
	other := newRun(t)
	other.ok("pull", address+"/tides/gauge:1.4.0")
	require.Contains(t, other.ok("store", "check"), "nothing wrong")
}
