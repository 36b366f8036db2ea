package e2e

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
)

const sharedRecipe = `imbricat: 1
silence: [moving-base]
images:
  base:
    base: none
    steps: [{copy: {from: bin, to: /bin}}, {copy: {from: etc, to: /etc}}]
    publish: {main: {to: "${env.REGISTRY}/tides/base", tags: [v1]}}
  gauge:
    base: "${env.REGISTRY}/tides/base:v1"
    steps:
      - copy: {from: src, to: /src, owner: keeper}
      - {run: {command: [/bin/busybox, sh, -c, "busybox mkdir /lib; for i in 1 2 3 4; do busybox dd if=/dev/urandom of=/lib/$i bs=100k count=4; done"]}, name: install}
      - {run: {command: [/bin/busybox, sh, -c, "busybox cat /src/main /lib/1 | busybox md5sum > /out"]}, name: compile}
      - {run: {command: [/bin/busybox, sh, -c, "busybox cat /src/pages > /pages"]}, name: pages}
    publish: {main: {to: "${env.REGISTRY}/tides/gauge", tags: [v1]}}
`

// shared is what a build tells of the shared cache.
type shared struct {
	Ran, Reused int
	Images      []struct{ Name, Digest string }
	Steps       []struct{ Place, Step, Outcome, Reason string }
	Shared      struct {
		Requests      int
		Read, Written int64
	}
	Warnings []struct{ Code, Text string }
}

func (r *run) shares(args ...string) shared {
	r.t.Helper()
	var s shared
	require.NoError(r.t, json.Unmarshal([]byte(r.ok(append([]string{"build", "gauge", "--format", "json", "--view", "none"}, args...)...)), &s))
	return s
}

func (s shared) outcome(step string) string {
	for _, one := range s.Steps {
		if one.Step == step {
			return one.Outcome
		}
	}
	return "no such step"
}

// counting is a front before a registry that counts what is asked, and may spoil answers.
type counting struct {
	*httptest.Server
	blobs atomic.Int64 // bytes of blobs that were pulled
	asked atomic.Int64
	spoil func(w http.ResponseWriter, r *http.Request) bool // whether it has answered
}

func front(t *testing.T, address string) *counting {
	target, err := url.Parse("http://" + address)
	require.NoError(t, err)
	c := &counting{}
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.ModifyResponse = func(r *http.Response) error {
		c.asked.Add(1)
		if r.Request.Method == http.MethodGet && strings.Contains(r.Request.URL.Path, "/blobs/") && r.StatusCode == 200 {
			c.blobs.Add(r.ContentLength)
		}
		return nil
	}
	c.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if c.spoil == nil || !c.spoil(w, r) {
			proxy.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(c.Close)
	return c
}

func (c *counting) address() string { return strings.TrimPrefix(c.URL, "http://") }

// localRegistry starts the stand-in that ships with the program.
func localRegistry(t *testing.T) string {
	address, _ := standinOn(t, t.TempDir(), "--dir", "registry")
	return address
}

// sharedProject fills a run with what sharedRecipe builds.
func sharedProject(t *testing.T, registry string) *run {
	r := newRun(t)
	r.env = append(r.env, "REGISTRY="+registry)
	r.busybox()
	r.write("src/main", "3.42")
	r.write("src/pages", "january")
	// The name stands for root's number, so that an ordinary user can clear what is unpacked away.
	r.write("etc/passwd", "root:x:0:0::/root:/bin/sh\nkeeper:x:0:0::/home/keeper:/bin/sh\n")
	table := make([]byte, 200_000)
	_, _ = rand.Read(table)
	r.write("etc/tides", string(table))
	r.write("imbricat.yaml", sharedRecipe)
	return r
}

// elsewhere is the same project on a machine whose store is empty.
func (r *run) elsewhere() *run {
	other := *r
	other.env = append(append([]string{}, r.env...), "IMBRICAT_STORE="+r.t.TempDir()+"/store")
	return &other
}

// store is the run's store.
func (r *run) store() string {
	dir := ""
	for _, pair := range r.env {
		if value, is := strings.CutPrefix(pair, "IMBRICAT_STORE="); is {
			dir = value
		}
	}
	return dir
}

// TestTwoMachines: a second machine with an empty store does the work of what changed, and moves the bytes of that; with
// nothing changed it pulls no layer at all, and pushes the image all the same.
func TestTwoMachines(t *testing.T) {
	t.Run("stand-in", func(t *testing.T) { twoMachines(t, localRegistry(t)) })
	t.Run("independent registry", func(t *testing.T) { twoMachines(t, realRegistry(t, "")) })
}

func twoMachines(t *testing.T, address string) {
	c := front(t, address)
	first := sharedProject(t, c.address())
	first.ok("build", "base")
	first.ok("push", "base")
	for name, place := range map[string]string{"registry": c.address() + "/tides/cache", "folder": "./cache"} {
		t.Run(name, func(t *testing.T) {
			first.t = t
			made := first.shares("--share", place, "--fresh")
			require.Equal(t, 4, made.Ran)
			require.Greater(t, made.Shared.Written, int64(1_600_000))
			require.Less(t, made.Shared.Requests, 20)

			// Nothing changed: no layer moves, neither of the image nor of its base.
			same := first.elsewhere()
			pulled, asked := c.blobs.Load(), c.asked.Load()
			again := same.shares("--share", place, "--share-mode", "read")
			require.Equal(t, made.Images, again.Images)
			require.Zero(t, again.Ran)
			require.Equal(t, 4, again.Reused)
			require.LessOrEqual(t, again.Shared.Requests, 3, "look-ups are batched")
			require.Less(t, c.blobs.Load()-pulled, int64(60_000), "no layer is pulled")
			require.Less(t, c.asked.Load()-asked, int64(12))
			same.ok("push", "gauge")
			require.Contains(t, same.ok("store", "check"), "nothing wrong")
			unpacked, err := filepath.Glob(filepath.Join(same.store(), "imbricat/snapshots/*/*"))
			require.NoError(t, err)
			require.Empty(t, unpacked, "what is reused is not unpacked while nothing runs on it")
			if name == "registry" {
				require.Less(t, c.blobs.Load()-pulled, int64(60_000), "the registry takes layers over from itself")
			}
			// The image is whole for whoever opens it.
			require.Contains(t, same.ok("try", "gauge", "--", "/bin/busybox", "cat", "/pages"), "january")
			same.ok("copy", "gauge", "./gauge.tar")

			// One file changed: what read it runs, and the layers below that are brought.
			other := first.elsewhere()
			first.write("src/main", name)
			pulled = c.blobs.Load()
			changed := other.shares("--share", place)
			require.Equal(t, "ran", changed.outcome("compile"))
			require.Equal(t, "reused", changed.outcome("install"))
			require.Equal(t, "reused", changed.outcome("pages"))
			require.Equal(t, 2, changed.Ran, "the copy and what reads it")
			want := first.elsewhere().shares("--share", "none")
			require.Equal(t, "ran", want.outcome("install"))
			if name == "registry" {
				require.Less(t, changed.Shared.Read+c.blobs.Load()-pulled, int64(2*3_500_000))
			}
			unpacked, err = filepath.Glob(filepath.Join(other.store(), "imbricat/snapshots/*/*"))
			require.NoError(t, err)
			require.NotEmpty(t, unpacked)
			// What the second machine did serves the first.
			back := first.shares("--share", place)
			require.Equal(t, "reused", back.outcome("compile"))
			require.Equal(t, changed.Images, back.Images)
		})
	}
}

// TestPublishedLayersAreNotSentTwice: a cache beside the published images takes their layers over.
func TestPublishedLayersAreNotSentTwice(t *testing.T) {
	r := sharedProject(t, localRegistry(t))
	address := strings.TrimPrefix(r.env[len(r.env)-1], "REGISTRY=")
	r.ok("build", "base")
	r.ok("push", "base")
	r.shares()
	r.ok("push", "gauge")
	got := r.shares("--share", address+"/tides/cache")
	require.Empty(t, got.Warnings)
	require.Positive(t, got.Shared.Written)
	require.Less(t, got.Shared.Written, int64(60_000), "the records alone")
	require.Zero(t, r.elsewhere().shares("--share", address+"/tides/cache").Ran)
}

// TestSharedCacheNeverFails: a shared cache that is away, slow, full, of another kind or damaged fails no build, costs some
// seconds at most, and is said once.
func TestSharedCacheNeverFails(t *testing.T) {
	address := localRegistry(t)
	c := front(t, address)
	r := sharedProject(t, address)
	r.ok("build", "base")
	r.ok("push", "base")
	good := r.shares("--share", c.address()+"/tides/cache")
	require.Empty(t, good.Warnings)
	hang := func(w http.ResponseWriter, q *http.Request) bool {
		select {
		case <-q.Context().Done():
		case <-time.After(time.Minute):
		}
		return true
	}
	packs := func(answer func(w http.ResponseWriter)) func(http.ResponseWriter, *http.Request) bool {
		return func(w http.ResponseWriter, q *http.Request) bool {
			if q.Method != http.MethodGet || !strings.Contains(q.URL.Path, "/blobs/") {
				return false
			}
			answer(w)
			return true
		}
	}
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, closed.Close())
	r.write("readonly/file", "no layout")
	for what, one := range map[string]struct {
		place string
		spoil func(http.ResponseWriter, *http.Request) bool
	}{
		"away": {closed.Addr().String() + "/tides/cache", nil},
		"slow": {c.address() + "/tides/cache", hang},
		"stalled": {c.address() + "/tides/cache", packs(func(w http.ResponseWriter) {
			w.Header().Set("Content-Length", "100000")
			_, _ = w.Write([]byte("x"))
			w.(http.Flusher).Flush()
			time.Sleep(20 * time.Second)
		})},
		"damaged": {c.address() + "/tides/cache", packs(func(w http.ResponseWriter) { _, _ = w.Write(bytes.Repeat([]byte("tide"), 5000)) })},
		"gone":    {c.address() + "/tides/cache", packs(func(w http.ResponseWriter) { w.WriteHeader(404) })},
		"full": {c.address() + "/tides/full", func(w http.ResponseWriter, q *http.Request) bool {
			if q.Method == http.MethodGet || q.Method == http.MethodHead {
				return false
			}
			w.WriteHeader(507)
			return true
		}},
		"forbidden": {c.address() + "/tides/forbidden", func(w http.ResponseWriter, q *http.Request) bool {
			w.WriteHeader(403)
			return true
		}},
		"an image":     {address + "/tides/base:v1", nil},
		"no json":      {c.address() + "/tides/other", func(w http.ResponseWriter, q *http.Request) bool { fmt.Fprint(w, "tide tables"); return true }},
		"other things": {"./readonly", nil},
	} {
		t.Run(what, func(t *testing.T) {
			c.spoil = one.spoil
			defer func() { c.spoil = nil }()
			other := r.elsewhere()
			other.t = t
			began := time.Now()
			got := other.shares("--share", one.place)
			require.Less(t, time.Since(began), 30*time.Second)
			require.Equal(t, 4, got.Ran, "everything is built here")
			require.NotEmpty(t, got.Warnings)
			for _, w := range got.Warnings {
				require.Equal(t, "shared-cache", w.Code, w.Text)
			}
			require.LessOrEqual(t, len(got.Warnings), map[bool]int{true: 1, false: 2}[what == "away" || what == "slow" || what == "an image"], "it is said once")
			require.Contains(t, other.ok("store", "check"), "nothing wrong")
		})
	}

	// Layers that the cache promises and does not have are made here.
	other := r.elsewhere()
	r.write("src/main", "another")
	c.spoil = func(w http.ResponseWriter, q *http.Request) bool {
		if q.Method == http.MethodGet && strings.Contains(q.URL.Path, "/blobs/") && q.Header.Get("Range") == "" {
			// Packs are small; layers are not.
			if head, err := http.Head("http://" + address + q.URL.Path); err == nil && head.ContentLength > 300_000 {
				w.WriteHeader(404)
				return true
			}
		}
		return false
	}
	got := other.shares("--share", c.address()+"/tides/cache")
	require.Equal(t, "ran", got.outcome("install"), "its layer is gone, and compile needs it")
	require.Equal(t, "ran", got.outcome("compile"))
	require.NotEmpty(t, got.Warnings)

	// An image whose layers went away meanwhile cannot be pushed, which says what to do, and then can.
	c.spoil = nil
	r.write("src/main", "3.42")
	apart := r.elsewhere()
	require.Zero(t, apart.shares("--share", c.address()+"/tides/cache").Ran)
	c.spoil = func(w http.ResponseWriter, q *http.Request) bool {
		if gone := strings.Contains(q.URL.Path, "/tides/cache/blobs/sha256:"); gone {
			w.WriteHeader(404)
			return true
		}
		return false
	}
	code, problems := apart.exit("push", "gauge")
	require.Equal(t, 1, code, problems)
	require.Regexp(t, "build (or pull )?again", problems)
	require.NotZero(t, apart.shares("--share", "none").Ran)
	apart.ok("push", "gauge")

	// The environment, the recipe and the user's configuration name a cache too, and none turns it off.
	c.spoil = nil
	r.write("src/main", "3.42")
	for what, prepare := range map[string]func(o *run) []string{
		"environment": func(o *run) []string { o.env = append(o.env, "IMBRICAT_SHARE="+c.address()+"/tides/cache"); return nil },
		"recipe": func(o *run) []string {
			r.write("shared.yaml", sharedRecipe+"cache: {share: \"${env.REGISTRY}/tides/cache\", direction: read}\n")
			return []string{"--recipe", "shared.yaml"}
		},
		"configuration": func(o *run) []string {
			o.write("config/imbricat/config.yaml", "cache: {share: "+c.address()+"/tides/cache}\n")
			return nil
		},
	} {
		o := r.elsewhere()
		args := prepare(o)
		require.Zero(t, o.shares(args...).Ran, what)
		require.Equal(t, 4, r.elsewhere().shares(append(args, "--share", "none")...).Ran, what)
		require.NoError(t, os.RemoveAll(filepath.Join(r.dir, "config")))
	}
	o := r.elsewhere()
	o.write("config/imbricat/config.yaml", "cache: {shared: x}\n")
	code, problems = o.exit("build", "gauge")
	require.Equal(t, 2, code)
	require.Contains(t, problems, "config.yaml")
}

// signing makes a key in the form that tools write: the private one for the environment, the public one for the settings.
func signing(t *testing.T) (private, public string) {
	pub, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	private = base64.StdEncoding.EncodeToString(raw)
	raw, err = x509.MarshalPKIXPublicKey(pub)
	require.NoError(t, err)
	return private, base64.StdEncoding.EncodeToString(raw)
}

// TestPoisonedCache: entries of strangers are not believed where a place is limited to signers; a layer that is not what the
// cache said is noticed when it is opened, also by another process; and a place can be forgotten.
func TestPoisonedCache(t *testing.T) {
	const recipe = `imbricat: 1
images:
  gauge:
    base: none
    steps: [{copy: {from: src, to: /src}}]
`
	release := newRun(t)
	release.write("imbricat.yaml", recipe)
	release.write("src/main", "3.42")
	right := release.shares().Images[0].Digest
	cache := filepath.Join(release.dir, "cache")

	// A stranger builds something else, and writes it into the cache under the names of the right thing.
	stranger := release.elsewhere()
	stranger.write("src/main", "6.66")
	stranger.ok("build", "gauge", "--share", cache, "--view", "none")
	wrong := layerOf(t, stranger, "gauge")
	stranger.write("src/main", "3.42")
	stranger.env = append(stranger.env, "IMBRICAT_STORE="+t.TempDir()+"/store")
	stranger.ok("build", "gauge", "--share", cache, "--view", "none")
	good := layerOf(t, stranger, "gauge")
	poison(t, cache, good, wrong)

	// What is only stacked is believed; whoever opens it notices, whichever process that is.
	victim := release.elsewhere()
	built := victim.shares("--share", cache)
	require.NotEqual(t, right, built.Images[0].Digest, "the attack works at all")
	out := filepath.Join(t.TempDir(), "out")
	code, text := victim.exit("copy", "gauge", out)
	require.Equal(t, 1, code, text)
	require.Contains(t, text, "is not what "+cache+" said")
	require.Contains(t, text, "imbricat store forget")
	said := victim.ok("store", "forget", cache)
	require.Contains(t, said, "forgot "+cache)
	require.Contains(t, said, "gauge holds a layer from there: build it again")
	require.Contains(t, victim.ok("store", "forget", cache), "nothing in the store came from")
	require.Equal(t, right, victim.shares().Images[0].Digest)
	victim.ok("copy", "gauge", out)

	// Where the place is limited to signers the stranger's entries are none, and the release's are.
	private, public := signing(t)
	believer := release.elsewhere()
	believer.write("config/imbricat/config.yaml", "trust:\n  "+cache+": ["+public+"]\n")
	believer.env = append(believer.env, "XDG_CONFIG_HOME="+filepath.Join(believer.dir, "config"), "IMBRICAT_SIGNING_KEY="+private)
	first := believer.shares("--share", cache)
	require.Equal(t, right, first.Images[0].Digest)
	require.Equal(t, 1, first.Ran)
	again := believer.elsewhere().shares("--share", cache)
	require.Equal(t, right, again.Images[0].Digest)
	require.Equal(t, 1, again.Reused, "what it signed itself is believed")
	believer.env = append(believer.env, "IMBRICAT_SIGNING_KEY=tide")
	code, text = believer.exit("build", "gauge", "--share", cache)
	require.Equal(t, 2, code)
	require.Contains(t, text, "IMBRICAT_SIGNING_KEY")
	require.NotContains(t, text, "tide ")
	believer.write("config/imbricat/config.yaml", "trust:\n  "+cache+": [tide]\n")
	code, text = believer.exit("build", "gauge", "--share", cache)
	require.Equal(t, 2, code)
	require.Contains(t, text, "is not a public ed25519 key")
}

// layerOf gives the digest of the one layer of an image in a run's store.
func layerOf(t *testing.T, r *run, name string) string {
	layers := manifestOf(t, r, name, "linux/"+runtime.GOARCH).Layers
	require.Len(t, layers, 1)
	return layers[0].Digest
}

// poison rewrites every pack of a cache in a folder so that the record of one layer names another.
func poison(t *testing.T, cache string, good, wrong string) {
	t.Helper()
	read := func(d string) []byte {
		text, err := os.ReadFile(filepath.Join(cache, "blobs", "sha256", strings.TrimPrefix(d, "sha256:")))
		require.NoError(t, err)
		return text
	}
	put := func(text []byte) string {
		d := sha256Of(string(text))
		require.NoError(t, os.WriteFile(filepath.Join(cache, "blobs", "sha256", strings.TrimPrefix(d, "sha256:")), text, 0o644))
		return d
	}
	document := func(text []byte) map[string]any {
		d := map[string]any{}
		require.NoError(t, json.Unmarshal(text, &d))
		return d
	}
	encode := func(d any) []byte {
		text, err := json.Marshal(d)
		require.NoError(t, err)
		return text
	}
	text, err := os.ReadFile(filepath.Join(cache, "index.json"))
	require.NoError(t, err)
	index := document(text)
	top := index["manifests"].([]any)[0].(map[string]any)
	manifest := document(read(top["digest"].(string)))
	z, err := zstd.NewReader(nil)
	require.NoError(t, err)
	defer z.Close()
	w, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	var lie map[string]any // of the wrong layer
	type named struct{ desc, pack map[string]any }
	var packs []named
	for _, one := range manifest["layers"].([]any) {
		desc := one.(map[string]any)
		if !strings.Contains(desc["mediaType"].(string), "pack") {
			continue
		}
		text, err := z.DecodeAll(read(desc["digest"].(string)), nil)
		require.NoError(t, err)
		packs = append(packs, named{desc, document(text)})
		for _, one := range packs[len(packs)-1].pack["layers"].([]any) {
			if record := one.(map[string]any); record["layer"].(map[string]any)["digest"] == wrong {
				lie = record
			}
		}
	}
	require.NotNil(t, lie)
	for _, p := range packs {
		for _, one := range p.pack["layers"].([]any) {
			if record := one.(map[string]any); record["layer"].(map[string]any)["digest"] == good {
				record["layer"], record["diffID"] = lie["layer"], lie["diffID"]
			}
		}
		packed := w.EncodeAll(encode(p.pack), nil)
		p.desc["digest"], p.desc["size"] = put(packed), len(packed)
	}
	body := encode(manifest)
	top["digest"], top["size"] = put(body), len(body)
	require.NoError(t, os.WriteFile(filepath.Join(cache, "index.json"), encode(index), 0o644))
}
