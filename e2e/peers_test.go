package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
)

// TestToolchainTree makes an image of the Go toolchain's own folder and has GNU tar read it back.
func TestToolchainTree(t *testing.T) {
	if testing.Short() {
		t.Skip("a tree of 15,000 files takes some seconds")
	}
	need(t, "tar")
	root := strings.TrimSpace(output(t, exec.Command("go", "env", "GOROOT")))
	r := newRun(t)
	recipe := filepath.Join(r.dir, "toolchain.yaml")
	require.NoError(t, os.WriteFile(recipe, []byte("imbricat: 1\nimages: {toolchain: {base: none, platforms: [linux/amd64], steps: [{copy: {from: ., to: /go}}]}}\n"), 0o644))
	r.ok("build", "--view", "none", "--dir", root, "--recipe", recipe)
	r.ok("copy", "--view", "none", "toolchain", "./toolchain.tar")
	require.Zero(t, r.build("--dir", root, "--recipe", recipe).Ran, "nothing changed, and something ran")

	layout, tree := filepath.Join(r.dir, "layout"), filepath.Join(r.dir, "tree")
	require.NoError(t, os.MkdirAll(layout, 0o755))
	require.NoError(t, os.MkdirAll(tree, 0o755))
	output(t, exec.Command("tar", "-xf", filepath.Join(r.dir, "toolchain.tar"), "-C", layout))
	for _, l := range manifestOf(t, r, "toolchain", "linux/amd64").Layers {
		output(t, exec.Command("tar", "-xpzf", layout+"/blobs/sha256/"+strings.TrimPrefix(l.Digest, "sha256:"), "-C", tree))
	}
	want, got := listing(t, root), listing(t, filepath.Join(tree, "go"))
	require.Greater(t, len(want), 10_000)
	require.Equal(t, want, got)
	output(t, exec.Command("diff", "-r", "--no-dereference", root, filepath.Join(tree, "go")))
}

// listing gives kind, mode and target of every path. Modes are as a copy gives them: free of the umask.
func listing(t *testing.T, root string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || path == root {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		owner := info.Mode().Perm() >> 6 & 7
		mode := owner<<6 | owner&5<<3 | owner&5
		target, _ := os.Readlink(path)
		all[strings.TrimPrefix(path, root)] = fmt.Sprintf("%s %o %s", info.Mode().Type(), mode, target)
		return nil
	}))
	return all
}

func output(t *testing.T, c *exec.Cmd) string {
	t.Helper()
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%v\n%s", c.Args, out)
	return string(out)
}

type manifest struct {
	Config struct{ Digest string }
	Layers []struct{ Digest string }
}

func manifestOf(t *testing.T, r *run, name, platform string) manifest {
	var m manifest
	require.NoError(t, json.Unmarshal([]byte(r.ok("show", name, "--platform", platform, "--raw")), &m))
	return m
}

const tideRecipe = `imbricat: 1
images:
  gauge:
    base: none
    platforms: [linux/amd64, linux/arm64]
    steps:
      - copy: {from: pages, to: /srv/pages}
      - write: {to: /etc/architecture, text: "${platform.architecture}\n"}
    publish:
      main: {to: "${env.REGISTRY}/tides/gauge", tags: ["1.4.0", newest]}
`

// TestIndependentRegistry pushes to and pulls from a registry that nobody here wrote.
func TestIndependentRegistry(t *testing.T) {
	address := realRegistry(t, "")
	r := newRun(t)
	r.env = append(r.env, "REGISTRY="+address)
	r.write("imbricat.yaml", tideRecipe)
	r.write("pages/index.html", "<h1>Almanac</h1>")
	b := r.build()
	digest := b.Images[0].Digest
	require.Contains(t, r.ok("push"), "sent 5 blobs")
	require.Contains(t, r.ok("push"), "sent 0 blobs")
	require.Contains(t, r.ok("tags", address+"/tides/gauge", "--whole"), digest)

	// The moving tag goes to what is newer, and not back; what is old goes by a rule.
	r.write("pages/index.html", "<h1>Almanac, second edition</h1>")
	r.env = append(r.env, "SOURCE_DATE_EPOCH=1798761600")
	require.NotEqual(t, digest, r.build().Images[0].Digest)
	require.Contains(t, r.ok("push"), "sent 3 blobs")
	r.env = append(r.env, "SOURCE_DATE_EPOCH=1767225600")
	r.build()
	code, problems := r.exit("push")
	require.Equal(t, 4, code, problems)
	require.Contains(t, problems, "it is from 2027-01-01")
	r.ok("push", "--force")
	// An image of which nobody knows when it was made is not older than any, and no rule takes it for old.
	r.env = r.env[:len(r.env)-2]
	r.build()
	r.ok("push")
	require.Contains(t, r.ok("tags", "keep", address+"/tides/gauge", "--younger", "1h", "--dry-run"), "would delete 0 tags")
	r.ok("copy", address+"/tides/gauge@"+digest, address+"/tides/gauge:newest")

	other := newRun(t)
	other.ok("pull", address+"/tides/gauge:newest")
	other.ok("pull", address+"/tides/gauge@"+digest, "exact")
	list := other.ok("store", "list", "--format", "json")
	require.Equal(t, 2, strings.Count(list, digest), list)
	other.ok("store", "check")
	other.ok("copy", "exact", address+"/tides/copied:a")
	other.ok("copy", address+"/tides/copied:a", "./copied.tar")
	require.Contains(t, other.ok("show", "./copied.tar", "--format", "json"), digest)
}

// TestIndependentLogin logs in to, pushes to and logs out of a registry that asks for Basic authentication.
func TestIndependentLogin(t *testing.T) {
	const secret = "s3cret-tide"
	address := realRegistry(t, secret)
	r := newRun(t)
	r.env = append(r.env, "REGISTRY="+address)
	r.write("imbricat.yaml", tideRecipe)
	r.write("pages/index.html", "<h1>Almanac</h1>")
	r.build()
	with := func(stdin string, args ...string) (int, string) {
		c := r.command(args...)
		c.Stdin = strings.NewReader(stdin)
		out, _ := c.CombinedOutput()
		require.NotContains(t, string(out), secret)
		return c.ProcessState.ExitCode(), string(out)
	}
	for _, c := range []struct {
		code  int
		stdin string
		args  []string
		says  string
	}{
		{4, "", []string{"push"}, "(401)"},
		{4, "wrong", []string{"login", address, "--user", "harbour"}, "(401)"},
		{0, secret + "\n", []string{"login", address, "--user", "harbour"}, "logged in"},
		{0, "", []string{"push"}, "sent 5 blobs"},
		{0, "", []string{"tags", address + "/tides/gauge"}, "newest"},
		{0, "", []string{"logout", address}, "removed"},
		{4, "", []string{"tags", address + "/tides/gauge"}, "(401)"},
	} {
		code, out := with(c.stdin, c.args...)
		require.Equal(t, c.code, code, "%v\n%s", c.args, out)
		require.Contains(t, out, c.says)
	}
}

// realRegistry starts the CNCF Distribution registry on a free port. With a secret it asks for the login of harbour.
func realRegistry(t *testing.T, secret string) string {
	address, _, _ := realRegistryAt(t, secret)
	return address
}

// realRegistryAt is realRegistry, with its program, and the configuration that it was started with.
func realRegistryAt(t *testing.T, secret string) (address, program, config string) {
	path := os.Getenv("IMBRICAT_TEST_REGISTRY")
	if path == "" && os.Getenv("CI") != "" {
		t.Fatal("IMBRICAT_TEST_REGISTRY is not set")
	}
	if path == "" {
		t.Skip("set IMBRICAT_TEST_REGISTRY to what scripts/real-registry prints")
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = listener.Addr().String()
	listener.Close()
	dir := t.TempDir()
	config = filepath.Join(dir, "config.yml")
	text := fmt.Sprintf("version: 0.1\nlog: {level: error}\nstorage: {filesystem: {rootdirectory: %s}, delete: {enabled: true}}\nhttp: {addr: %q}\n", dir, address)
	if secret != "" {
		hash, err := bcrypt.GenerateFromPassword([]byte(secret), bcrypt.MinCost)
		require.NoError(t, err)
		users := filepath.Join(dir, "users")
		require.NoError(t, os.WriteFile(users, []byte("harbour:"+string(hash)+"\n"), 0o600))
		text += fmt.Sprintf("auth: {htpasswd: {realm: tides, path: %s}}\n", users)
	}
	require.NoError(t, os.WriteFile(config, []byte(text), 0o644))
	c := exec.Command(path, "serve", config)
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
	})
	wait(t, "the registry answers", func() bool {
		resp, err := http.Get("http://" + address + "/v2/")
		if err == nil {
			resp.Body.Close()
		}
		return err == nil
	})
	return address, path, config
}

// TestRuntimeRunsBundle runs an exported bundle with an independent runtime.
func TestRuntimeRunsBundle(t *testing.T) {
	busybox := need(t, "busybox")
	if os.Getuid() != 0 || runtime.GOOS != "linux" {
		t.Skip("the runtime needs root here")
	}
	need(t, "tar")
	r := newRun(t)
	output(t, exec.Command("cp", busybox, filepath.Join(r.dir, "busybox")))
	r.write("imbricat.yaml", fmt.Sprintf(`imbricat: 1
images:
  gauge:
    base: none
    platforms: [linux/%s]
    steps:
      - copy: {from: busybox, to: /bin/busybox}
      - link: {at: /bin/sh, target: busybox}
      - write: {to: /etc/gauge.conf, text: "3.42 m above datum\n"}
      - copy: {from: mounts, to: /}
    settings: {entrypoint: [/bin/sh, -c], command: ["busybox cat /etc/gauge.conf"], env: {PATH: /bin}, working-dir: /etc}
`, runtime.GOARCH))
	for _, dir := range []string{"proc", "dev", "sys"} {
		require.NoError(t, os.MkdirAll(filepath.Join(r.dir, "mounts", dir), 0o755))
	}
	r.build()
	bundle := filepath.Join(r.dir, "bundle")
	r.ok("try", "gauge", "--export-bundle", bundle)
	// Which of the two works depends on how the machine's control groups are mounted.
	var refusals []string
	for _, name := range []string{"runc", "crun"} {
		c := exec.Command(need(t, name), "--root", filepath.Join(r.dir, "state-"+name), "run", "--bundle", bundle, "gauge-"+strconv.Itoa(os.Getpid()))
		out, err := c.CombinedOutput()
		if err == nil {
			require.Equal(t, "3.42 m above datum\n", string(out))
			return
		}
		require.NotRegexp(t, "(?i)unknown version|version specified", string(out), "the bundle names a version that every runtime knows")
		refusals = append(refusals, name+": "+string(out))
	}
	t.Fatal("no runtime runs the bundle\n" + strings.Join(refusals, "\n"))
}

// largeProject fills a folder with files that take a while to pack.
func largeProject(t *testing.T, r *run) {
	r.write("imbricat.yaml", strings.Replace(tideRecipe, "    publish:\n      main: {to: \"${env.REGISTRY}/tides/gauge\", tags: [\"1.4.0\", newest]}\n", "", 1))
	random := rand.NewChaCha8([32]byte{7})
	block := make([]byte, 1<<20)
	for i := range 48 {
		_, _ = random.Read(block)
		for j := range block {
			block[j] &= 0x3f // so that compression has work to do
		}
		r.write(fmt.Sprintf("pages/%02d.bin", i), string(block))
	}
}

// unfinished lists what killed or interrupted processes left in the store.
func unfinished(t *testing.T, r *run) []string {
	var left []string
	_ = filepath.WalkDir(filepath.Join(r.dir, "store"), func(path string, d os.DirEntry, err error) error {
		if err == nil && strings.HasPrefix(d.Name(), ".new-") {
			left = append(left, path)
		}
		return nil
	})
	return left
}

func TestInterruptLeavesNothingHalfWritten(t *testing.T) {
	r := newRun(t)
	largeProject(t, r)
	c := r.command("build", "--view", "lines")
	var problems strings.Builder
	c.Stderr = &problems
	require.NoError(t, c.Start())
	wait(t, "packing has begun", func() bool { return len(unfinished(t, r)) > 0 })
	time.Sleep(50 * time.Millisecond)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	_ = c.Wait()
	require.Equal(t, 130, c.ProcessState.ExitCode(), problems.String())
	require.Contains(t, problems.String(), "interrupted")
	require.Empty(t, unfinished(t, r))
	require.NotContains(t, r.ok("store", "list"), "gauge")
	r.ok("store", "check")
	require.Positive(t, r.build().Ran, "the layer that was cut off must be packed now")
}

// TestKillsLoseNothingFinished kills two builds that share a store 120 times, at random moments, while the store is
// trimmed beside them: nothing is ever wrong in the store, what was named stays whole, and finished work is reused.
func TestKillsLoseNothingFinished(t *testing.T) {
	r := newRun(t)
	first, end := seeds(t, 60)
	random := rand.New(rand.NewPCG(first, 2))
	content := make([]byte, 100<<10)
	for i := range 40 {
		for j := range content {
			content[j] = byte(random.IntN(64))
		}
		r.write(fmt.Sprintf("pages/%02d", i), string(content))
	}
	r.write("imbricat.yaml", "imbricat: 1\nimages:\n  gauge: {base: none, platforms: [linux/amd64], steps: [{copy: {from: pages, to: /a}}, {write: {to: /b, text: b}}]}\n"+
		"  other: {base: none, compression: zstd, platforms: [linux/amd64], steps: [{copy: {from: pages, to: /a}}]}\n")
	whole := r.build()
	took := time.Duration(0)
	rounds := int(end - first)
	for round := range rounds {
		r.write("pages/round.txt", strconv.Itoa(round))
		var builds sync.WaitGroup
		began := time.Now()
		for range 2 {
			c := r.command("build", "--view", "none")
			require.NoError(t, c.Start())
			patience := time.Duration(random.Int64N(int64(took) + int64(80*time.Millisecond)))
			builds.Go(func() {
				timer := time.AfterFunc(patience, func() { _ = c.Process.Kill() })
				_ = c.Wait()
				timer.Stop()
			})
		}
		if round%3 == 0 {
			r.ok("store", "trim", "--unused-for", "0s")
		}
		builds.Wait()
		if round%10 == 9 {
			require.Contains(t, r.ok("store", "check"), "nothing wrong")
			r.build()
			took = time.Since(began)
			require.Zero(t, r.build().Ran, "finished work is reused")
		}
	}
	require.NoError(t, os.Remove(filepath.Join(r.dir, "pages/round.txt")))
	require.Equal(t, whole.Images, r.build().Images)
	require.Contains(t, r.ok("store", "check"), "nothing wrong")
	require.Empty(t, unfinishedLeases(t, r), "the leases of the dead are gone")
	t.Logf("held: %d builds, killed at any moment", 2*rounds)
}

// unfinishedLeases trims once more and lists the leases that are left.
func unfinishedLeases(t *testing.T, r *run) []string {
	r.ok("store", "trim")
	left, err := filepath.Glob(filepath.Join(r.dir, "store/imbricat/leases/*"))
	require.NoError(t, err)
	return left
}

// TestProcessesShareAStore builds different images into one new store at once: every name must be there afterwards.
func TestProcessesShareAStore(t *testing.T) {
	r := newRun(t)
	var group sync.WaitGroup
	const processes = 8
	for i := range processes {
		name := fmt.Sprintf("station-%d", i)
		r.write(name+"/imbricat.yaml", fmt.Sprintf("imbricat: 1\nimages: {%s: {base: none, platforms: [linux/amd64], steps: [{write: {to: /same, text: same}}, {write: {to: /own, text: %s}}]}}\n", name, name))
		group.Go(func() {
			out, err := r.command("build", "--view", "none", "--dir", filepath.Join(r.dir, name)).CombinedOutput()
			assert.NoError(t, err, string(out))
		})
	}
	group.Wait()
	list := r.ok("store", "list")
	for i := range processes {
		require.Contains(t, list, fmt.Sprintf("station-%d", i))
	}
	require.Contains(t, r.ok("store", "check"), "nothing wrong")
}
