package e2e

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// receipt is the part of a receipt that the tests look at.
type receipt struct {
	Outcome string
	Stopped struct {
		Part, Message string
		Exit          int
	}
	Images []struct {
		Name, Digest string
		Destinations []struct {
			Repository, Reference string
			Tags, Wanted          []string
			Sent, Skipped         int
		}
	}
}

// ship ships with a receipt and gives it with the exit code and standard error.
func (r *run) ship(args ...string) (receipt, int, string) {
	r.t.Helper()
	name := filepath.Join(r.dir, "receipt.json")
	require.NoError(r.t, os.RemoveAll(name))
	code, problems := r.exit(append([]string{"ship", "--receipt", name}, args...)...)
	return r.read(name), code, problems
}

// read reads a receipt and holds it to its schema.
func (r *run) read(name string) (got receipt) {
	r.t.Helper()
	if !filepath.IsAbs(name) {
		name = filepath.Join(r.dir, name)
	}
	text, err := os.ReadFile(name)
	require.NoError(r.t, err)
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(r.t, err)
	require.NoError(r.t, r.schema().Validate(document), string(text))
	require.NoError(r.t, json.Unmarshal(text, &got))
	return got
}

// schema is that of receipts, as the program prints it.
func (r *run) schema() *jsonschema.Schema { return r.schemaOf("receipt") }

func (r *run) schemaOf(what string) *jsonschema.Schema {
	text, err := jsonschema.UnmarshalJSON(strings.NewReader(r.ok("schema", what)))
	require.NoError(r.t, err)
	c := jsonschema.NewCompiler()
	require.NoError(r.t, c.AddResource("receipt.json", text))
	compiled, err := c.Compile("receipt.json")
	require.NoError(r.t, err)
	return compiled
}

func putsBlob(q *http.Request) bool {
	return q.Method == http.MethodPut && strings.Contains(q.URL.Path, "/blobs/")
}

func putsTag(q *http.Request) bool {
	return q.Method == http.MethodPut && strings.Contains(q.URL.Path, "/manifests/") && !strings.Contains(q.URL.Path, "/manifests/sha256:")
}

const threeDestinations = `imbricat: 1
images:
  gauge:
    base: none
    platforms: [linux/amd64]
    steps: [{write: {to: /etc/gauge, text: "3.42"}}]
    publish:
      first: {to: "${env.FIRST}/tides/first", tags: [a, b]}
      second: {to: "${env.OTHERS}/tides/second", tags: [a]}
      third: {to: "${env.OTHERS}/tides/third", tags: [a]}
`

// TestDestinationVanishes: of three destinations two vanish when the first has its tags. It is said which tags stand where, and
// shipping again writes the others and sends nothing.
func TestDestinationVanishes(t *testing.T) {
	first, others := front(t, localRegistry(t)), front(t, localRegistry(t))
	var gone atomic.Bool
	first.spoil = func(_ http.ResponseWriter, q *http.Request) bool {
		if putsTag(q) {
			gone.Store(true)
		}
		return false
	}
	others.spoil = func(http.ResponseWriter, *http.Request) bool {
		if gone.Load() {
			panic(http.ErrAbortHandler)
		}
		return false
	}
	r := newRun(t)
	r.env = append(r.env, "FIRST="+first.address(), "OTHERS="+others.address(), "IMBRICAT_PATIENCE=1s")
	r.write("imbricat.yaml", threeDestinations)
	got, code, problems := r.ship()
	require.Equal(t, 5, code, problems)
	require.Contains(t, problems, "the tags of 1 destination were written before")
	require.Equal(t, "failed", got.Outcome)
	require.Equal(t, "tags", got.Stopped.Part)
	require.Equal(t, 5, got.Stopped.Exit)
	to := got.Images[0].Destinations
	require.Len(t, to, 3)
	require.Equal(t, []string{"a", "b"}, to[0].Tags)
	for _, other := range to[1:] {
		require.Empty(t, other.Tags)
		require.Equal(t, []string{"a"}, other.Wanted)
		require.NotEmpty(t, other.Reference, "all content is there")
	}
	told := r.ok("show", filepath.Join(r.dir, "receipt.json"))
	require.Regexp(t, "✗ ship stopped at its part tags, exit code 5", told)
	require.Contains(t, told, "not written: a")

	gone.Store(false)
	first.spoil = nil
	got, code, problems = r.ship()
	require.Zero(t, code, problems)
	for _, to := range got.Images[0].Destinations {
		require.Equal(t, to.Wanted, to.Tags)
		require.Zero(t, to.Sent)
	}
	r.ok("verify", filepath.Join(r.dir, "receipt.json"), "--contents")
}

// TestJoinHalfTagged: a join that loses the registry between two tags says which one stands.
func TestJoinHalfTagged(t *testing.T) {
	c := front(t, localRegistry(t))
	r := bigImage(t, c.address(), 1, 100)
	r.env = append(r.env, "IMBRICAT_PATIENCE=1s")
	c.spoil = func(_ http.ResponseWriter, q *http.Request) bool {
		if strings.HasSuffix(q.URL.Path, "/manifests/b") && q.Method == http.MethodPut {
			panic(http.ErrAbortHandler)
		}
		return false
	}
	code, problems := r.exit("join", c.address()+"/tides/joined:a", "gauge", "--tag", "b", "--receipt", "receipt.json")
	require.Equal(t, 5, code, problems)
	require.Contains(t, problems, `written before: ["a"]`)
	got := r.read("receipt.json")
	require.Equal(t, "tags", got.Stopped.Part)
	require.Equal(t, []string{"a"}, got.Images[0].Destinations[0].Tags)
	require.Equal(t, []string{"a", "b"}, got.Images[0].Destinations[0].Wanted)
	c.spoil = nil
	r.ok("join", c.address()+"/tides/joined:a", "gauge", "--tag", "b")
}

// TestTokenExpires: tokens that the client may renew are renewed in the middle; one that it was given ends the run, with no tag
// written, and the next run with a new one sends only what is missing.
func TestTokenExpires(t *testing.T) {
	dir := t.TempDir()
	address, _ := standinOn(t, dir, "--dir", "registry", "--auth", "token", "--user", "harbour")
	asked, err := http.Get("http://" + address + "/v2/")
	require.NoError(t, err)
	require.NoError(t, asked.Body.Close())
	c := front(t, address)
	var expired sync.Map // each path's token is taken for expired once
	c.spoil = func(w http.ResponseWriter, q *http.Request) bool {
		if _, again := expired.LoadOrStore(q.Method+q.URL.Path, true); again || !strings.Contains(q.URL.Path, "/blobs/") {
			return false
		}
		w.Header().Set("WWW-Authenticate", asked.Header.Get("WWW-Authenticate"))
		w.WriteHeader(http.StatusUnauthorized)
		return true
	}
	r := bigImage(t, c.address(), 6, 1000)
	r.env = append(r.env, "IMBRICAT_REGISTRY="+c.address(), "IMBRICAT_USER=harbour", "IMBRICAT_SECRET=s3cret-tide", "IMBRICAT_ISSUER=http://"+address)
	got, code, problems := r.ship("--without", "tags")
	require.Zero(t, code, problems)
	require.Equal(t, 7, got.Images[0].Destinations[0].Sent)

	c = front(t, localRegistry(t))
	r = bigImage(t, c.address(), 6, 1000)
	r.env = append(r.env, "IMBRICAT_REGISTRY="+c.address(), "IMBRICAT_TOKEN=of-this-run")
	var stored atomic.Int32
	c.spoil = func(w http.ResponseWriter, q *http.Request) bool {
		if putsBlob(q) {
			stored.Add(1)
		}
		if stored.Load() <= 3 {
			return false
		}
		time.Sleep(500 * time.Millisecond) // so that those before are over
		w.Header().Set("WWW-Authenticate", "Basic")
		w.WriteHeader(http.StatusUnauthorized)
		return true
	}
	got, code, problems = r.ship()
	require.Equal(t, 4, code, problems)
	require.Equal(t, "push", got.Stopped.Part)
	require.Contains(t, problems, "no tag was written; running it again goes on from there")
	require.NotContains(t, problems, "of-this-run")
	require.Empty(t, got.Images[0].Destinations[0].Tags)
	require.Empty(t, got.Images[0].Destinations[0].Reference)
	before := got.Images[0].Destinations[0].Sent
	require.NotZero(t, before)
	c.spoil = nil
	got, code, problems = r.ship()
	require.Zero(t, code, problems)
	to := got.Images[0].Destinations[0]
	require.Equal(t, []string{"1.4.0", "newest"}, to.Tags)
	require.Equal(t, 7, to.Sent+to.Skipped)
	require.GreaterOrEqual(t, to.Skipped, before)
}

// TestShipInterrupted: an interrupted run writes no tag, and its receipt tells where it was.
func TestShipInterrupted(t *testing.T) {
	c := front(t, localRegistry(t))
	r := bigImage(t, c.address(), 2, 1000)
	var reached atomic.Bool
	held := make(chan struct{})
	t.Cleanup(func() { close(held) })
	c.spoil = func(_ http.ResponseWriter, q *http.Request) bool {
		if putsBlob(q) {
			reached.Store(true)
			<-held
		}
		return false
	}
	p := r.command("ship", "--receipt", "receipt.json", "--events", "events.jsonl")
	require.NoError(t, p.Start())
	wait(t, "the push began", reached.Load)
	require.NoError(t, p.Process.Signal(unix.SIGINT))
	_ = p.Wait()
	require.Equal(t, 130, p.ProcessState.ExitCode())
	got := r.read("receipt.json")
	require.Equal(t, "interrupted", got.Outcome)
	require.Equal(t, "push", got.Stopped.Part)
	require.Empty(t, got.Images[0].Destinations[0].Tags)
	events, err := os.ReadFile(filepath.Join(r.dir, "events.jsonl"))
	require.NoError(t, err)
	require.Contains(t, string(events), `"event":"ended","exit":130`)
}

// TestRightsFirst: whoever may not push learns it before anything is built, with the registry's own words.
func TestRightsFirst(t *testing.T) {
	dir := t.TempDir()
	address, _ := standinOn(t, dir, "--dir", "registry", "--auth", "basic", "--user", "harbour")
	r := newRun(t)
	r.env = append(r.env, "FIRST="+address, "OTHERS="+address)
	r.write("imbricat.yaml", threeDestinations)
	got, code, problems := r.ship()
	require.Equal(t, 4, code, problems)
	require.Equal(t, "destinations", got.Stopped.Part)
	require.Contains(t, problems, "tides/first cannot be pushed to")
	require.NotContains(t, problems, "gauge:1")
	r.env = append(r.env, "IMBRICAT_REGISTRY="+address, "IMBRICAT_USER=harbour", "IMBRICAT_SECRET=wr0ng-tide")
	_, code, problems = r.ship()
	require.Equal(t, 4, code, problems)
	require.NotContains(t, problems, "wr0ng-tide")
	r.env = append(r.env, "IMBRICAT_SECRET=s3cret-tide")
	got, code, problems = r.ship()
	require.Zero(t, code, problems)
	require.Equal(t, "done", got.Outcome)

	// A login that is kept serves until it is forgotten, which a run does at its end, whatever happened.
	r.env = append(r.env, "IMBRICAT_REGISTRY=", "IMBRICAT_SECRET=", "IMBRICAT_USER=")
	login := r.command("login", address, "--user", "harbour")
	login.Stdin = strings.NewReader("s3cret-tide")
	out, err := login.CombinedOutput()
	require.NoError(t, err, string(out))
	_, code, problems = r.ship()
	require.Zero(t, code, problems)
	r.write("failing.yaml", strings.Replace(threeDestinations, "    publish:", "    checks: [{forbid: /etc/gauge}]\n    publish:", 1))
	_, code, problems = r.ship("--recipe", "failing.yaml")
	require.Equal(t, 3, code, problems)
	_, code, problems = r.ship("--logout", "--recipe", "failing.yaml")
	require.Equal(t, 3, code, problems)
	_, code, _ = r.ship()
	require.Equal(t, 4, code)
}
