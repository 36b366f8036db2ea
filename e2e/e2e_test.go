// Package e2e drives the built program as its users do: on files in a temporary folder, against real registries on this
// machine, and with independent programs that read what it makes.
package e2e

import (
	"bufio"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"imbricat/internal/ground/notice"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
	v1 "go.opentelemetry.io/proto/otlp/trace/v1"
	"golang.org/x/sys/unix"
	"google.golang.org/protobuf/encoding/protojson"
)

// program is the built imbricat.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "imbricat-e2e-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "imbricat")
	build := exec.Command("go", "build", "-trimpath", "-o", program, "../cmd/imbricat")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// lookAtSources has a kept result of these tests count for this program alone: go test keeps results for the files that tests
// looked at.
var lookAtSources = sync.OnceFunc(func() {
	for _, folder := range []string{"../cmd", "../internal", "../demo", "../go.mod"} {
		_ = filepath.WalkDir(folder, func(path string, _ fs.DirEntry, _ error) error {
			_, err := os.Stat(path)
			return err
		})
	}
})

// need skips a test on a laptop that lacks a program; in continuous integration nothing is skipped.
func need(t interface {
	Fatalf(string, ...any)
	Skipf(string, ...any)
}, name string) string {
	path, err := exec.LookPath(name)
	if err == nil {
		return path
	}
	if os.Getenv("CI") != "" {
		t.Fatalf("%s is not installed", name)
	}
	t.Skipf("%s is not installed", name)
	return ""
}

func TestScripts(t *testing.T) {
	for _, name := range []string{"git", "tar", "gzip", "xz", "bzip2", "zstd"} {
		need(t, name)
	}
	testscript.Run(t, params("testdata", nil))
}

// params are those of every folder of scripts; who, where it is not nil, is the user as whom exits runs programs.
func params(dir string, who *syscall.Credential) testscript.Params {
	lookAtSources()
	return testscript.Params{
		Dir: dir,
		Setup: func(e *testscript.Env) error {
			home := filepath.Join(e.WorkDir, "home")
			for _, pair := range [][2]string{
				{"HOME", home}, {"XDG_CONFIG_HOME", filepath.Join(home, "config")}, {"XDG_DATA_HOME", filepath.Join(home, "data")},
				{"IMBRICAT_STORE", filepath.Join(e.WorkDir, "store")}, {"TZ", "UTC"},
				{"GIT_AUTHOR_NAME", "Tideline"}, {"GIT_AUTHOR_EMAIL", "observatory@tideline.example"},
				{"GIT_COMMITTER_NAME", "Tideline"}, {"GIT_COMMITTER_EMAIL", "observatory@tideline.example"},
				{"GIT_CONFIG_GLOBAL", "/dev/null"},
			} {
				e.Setenv(pair[0], pair[1])
			}
			e.Setenv("PATH", filepath.Dir(program)+":"+os.Getenv("PATH"))
			e.Values["user"] = who
			if err := os.MkdirAll(home, 0o755); err != nil || who == nil {
				return err
			}
			return handOver(e.WorkDir, who)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits, "standin": startStandin, "stopstandin": stopStandin, "field": field, "layers": layers, "flip": flip, "under": under,
			"serve": serve, "attribute": attribute, "busybox": fillBusybox, "freeport": freePort, "receiver": receiver, "proxy": proxy, "collector": traceCollector,
		},
		Condition: func(name string) (bool, error) {
			if name == "root" {
				return os.Getuid() == 0 && who == nil, nil
			}
			return false, fmt.Errorf("unknown condition %q", name)
		},
	}
}

// exits CODE PROGRAM ARGS…: runs a program and demands its exit code. Output is in the files out and err.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	if args[1] == "imbricat" {
		args[1] = program
	}
	c := exec.Command(args[1], args[2:]...)
	c.Dir = ts.MkAbs(".")
	c.Env = environ(ts)
	var out, problems strings.Builder
	c.Stdout, c.Stderr = &out, &problems
	if stdin := ts.Getenv("STDIN"); stdin != "" {
		c.Stdin = strings.NewReader(stdin)
	}
	if who, _ := ts.Value("user").(*syscall.Credential); who != nil {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	}
	_ = c.Run()
	ts.Check(os.WriteFile(ts.MkAbs("out"), []byte(out.String()), 0o644))
	ts.Check(os.WriteFile(ts.MkAbs("err"), []byte(problems.String()), 0o644))
	if got := c.ProcessState.ExitCode(); got != want {
		ts.Fatalf("exit code %d instead of %d\n%s%s", got, want, out.String(), problems.String())
	}
}

// environ is the script's environment, as far as these tests set it.
func environ(ts *testscript.TestScript) []string {
	var list []string
	for _, name := range []string{"HOME", "PATH", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "IMBRICAT_STORE", "TZ", "REGISTRY", "FILES", "IMBRICAT_SECRET", "IMBRICAT_REGISTRY", "IMBRICAT_USER", "IMBRICAT_TOKEN",
		"IMBRICAT_DIR", "IMBRICAT_FORMAT", "IMBRICAT_SANDBOX", "IMBRICAT_VIEW", "IMBRICAT_BRANCH", "IMBRICAT_RUN_NUMBER", "IMBRICAT_PATIENCE", "TOKEN", "PORT", "SOURCE_DATE_EPOCH", "GOMAXPROCS", "STATION", "TMPDIR", "IMBRICAT_STANDIN_SECRET",
		"GIT_AUTHOR_NAME", "GIT_AUTHOR_EMAIL", "GIT_COMMITTER_NAME", "GIT_COMMITTER_EMAIL", "GIT_AUTHOR_DATE", "GIT_COMMITTER_DATE", "GIT_CONFIG_GLOBAL", "RECEIVER", "OTHER", "HARBOUR_KEY", "IMBRICAT_ANNOTATE", "HTTP_PROXY", "HTTPS_PROXY", "OTEL_EXPORTER_OTLP_ENDPOINT", "OTEL_SERVICE_NAME"} {
		if value := ts.Getenv(name); value != "" {
			list = append(list, name+"="+value)
		}
	}
	return list
}

// standin [USER SECRET] [OPTION…]: starts a stand-in registry; its address is in $REGISTRY, its folder is registry/.
func startStandin(ts *testscript.TestScript, neg bool, args []string) {
	line := []string{"standin", "start", "--dir", ts.MkAbs("registry")}
	c := exec.Command(program)
	c.Env = environ(ts)
	if len(args) >= 2 && !strings.HasPrefix(args[0], "-") {
		line = append(line, "--user", args[0])
		c.Env = append(c.Env, "IMBRICAT_STANDIN_SECRET="+args[1])
		args = args[2:]
	}
	c.Args = append(append(c.Args, line...), args...)
	out, err := c.StdoutPipe()
	ts.Check(err)
	ts.Check(c.Start())
	stop := sync.OnceFunc(func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		if err := c.Wait(); err != nil {
			ts.Logf("the stand-in did not end well: %v", err)
		}
	})
	ts.Defer(stop)
	standins.Store(ts.MkAbs("registry"), stop)
	address, err := bufio.NewReader(out).ReadString('\n')
	ts.Check(err)
	ts.Setenv("REGISTRY", strings.TrimSpace(address))
}

// receiver NAME KEY STATUS…: takes notices at $NAME and keeps each as N.json in the folder NAME/, with its headers in N.headers, once its
// signature is right; what is not signed so is kept as N.unsigned. It answers with each status in turn, and with the last one from then on.
func receiver(ts *testscript.TestScript, neg bool, args []string) {
	dir, key, answers := ts.MkAbs(args[0]), []byte(args[1]), args[2:]
	ts.Check(os.MkdirAll(dir, 0o777))
	var mutex sync.Mutex
	n := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		defer mutex.Unlock()
		body, _ := io.ReadAll(r.Body)
		name := filepath.Join(dir, strconv.Itoa(n))
		suffix := ".json"
		if notice.Verify(key, r.Header, body, time.Now(), time.Minute) != nil {
			suffix = ".unsigned"
		}
		headers, _ := json.Marshal(r.Header)
		_, _ = os.WriteFile(name+".headers", headers, 0o666), os.WriteFile(name+suffix, body, 0o666)
		status, _ := strconv.Atoi(answers[min(n, len(answers)-1)])
		w.WriteHeader(status)
		n++
	}))
	ts.Defer(server.Close)
	ts.Setenv(args[0], server.URL+"/told?token=in-the-query")
}

// proxy DIR: has programs take a proxy that lets them reach https:// and http://index.tideline.example, which have the files of DIR, and
// nothing else. It is the one way out of the machine, as in many offices.
func proxy(ts *testscript.TestScript, neg bool, args []string) {
	files := http.FileServer(http.Dir(ts.MkAbs(args[0])))
	sealed := httptest.NewTLSServer(files)
	ts.Defer(sealed.Close)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodConnect && r.Host == "index.tideline.example:443":
			there, err := net.Dial("tcp", sealed.Listener.Addr().String())
			if err != nil {
				return
			}
			defer there.Close()
			here, _, err := http.NewResponseController(w).Hijack()
			if err != nil {
				return
			}
			defer here.Close()
			_, _ = io.WriteString(here, "HTTP/1.1 200 OK\r\n\r\n")
			go func() {
				_, _ = io.Copy(there, here) // until an end is closed
				_ = there.(*net.TCPConn).CloseWrite()
			}()
			_, _ = io.Copy(here, there)
		case r.URL.Host == "index.tideline.example":
			files.ServeHTTP(w, r)
		default:
			w.WriteHeader(http.StatusBadGateway)
		}
	}))
	ts.Defer(server.Close)
	ts.Setenv("HTTP_PROXY", server.URL)
	ts.Setenv("HTTPS_PROXY", server.URL)
}

// collector NAME: takes traces, as OTEL_EXPORTER_OTLP_ENDPOINT says, and keeps each as N.json in the folder NAME/. What the published schema
// does not know is refused.
func traceCollector(ts *testscript.TestScript, neg bool, args []string) {
	dir := ts.MkAbs(args[0])
	ts.Check(os.MkdirAll(dir, 0o777))
	var mutex sync.Mutex
	n := 0
	ids := regexp.MustCompile(`"(traceId|spanId|parentSpanId)":"([0-9a-f]+)"`) // which JSON of protocol buffers has as base64 otherwise
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		defer mutex.Unlock()
		text, _ := io.ReadAll(r.Body)
		var request v1.TracesData
		read := ids.ReplaceAllFunc(text, func(one []byte) []byte {
			parts := ids.FindSubmatch(one)
			raw, _ := hex.DecodeString(string(parts[2]))
			return []byte(`"` + string(parts[1]) + `":"` + base64.StdEncoding.EncodeToString(raw) + `"`)
		})
		if err := protojson.Unmarshal(read, &request); err != nil || r.URL.Path != "/v1/traces" || r.Method != http.MethodPost || r.Header.Get("Content-Type") != "application/json" {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		_ = os.WriteFile(filepath.Join(dir, strconv.Itoa(n)+".json"), text, 0o666)
		n++
		_, _ = io.WriteString(w, "{}")
	}))
	ts.Defer(server.Close)
	ts.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", server.URL)
}

// standins are the running stand-ins' ends, by their folders.
var standins sync.Map

// stopstandin: ends the stand-in that was started in the script's first folder.
func stopStandin(ts *testscript.TestScript, neg bool, args []string) {
	stop, running := standins.Load(filepath.Join(ts.Getenv("WORK"), "registry"))
	if !running {
		ts.Fatalf("no stand-in runs")
	}
	stop.(func())()
}

// field FILE PATH [VALUE]: demands a value in a JSON file, or sets $VALUE to it. PATH is like images.0.digest.
func field(ts *testscript.TestScript, neg bool, args []string) {
	var value any
	ts.Check(json.Unmarshal([]byte(ts.ReadFile(args[0])), &value))
	for _, key := range strings.Split(args[1], "/") {
		switch v := value.(type) {
		case map[string]any:
			value = v[key]
		case []any:
			if key == "len" {
				value = len(v)
				continue
			}
			n, err := strconv.Atoi(key)
			ts.Check(err)
			if n >= len(v) {
				ts.Fatalf("%s: the list at %q has %d items", args[0], key, len(v))
			}
			value = v[n]
		default:
			ts.Fatalf("%s has nothing at %s", args[0], args[1])
		}
	}
	got := fmt.Sprint(value)
	if len(args) == 2 {
		ts.Setenv("VALUE", got)
	} else if (got == args[2]) == neg {
		ts.Fatalf("%s: %s is %q, want %q (negated: %t)", args[0], args[1], got, args[2], neg)
	}
}

// layers NAME PLATFORM: lists the layers of an image in the store with GNU tar into the file out, unpacks them into the
// folder root/, deletions applied, and copies the image to the layout layout/.
func layers(ts *testscript.TestScript, neg bool, args []string) {
	ts.Check(os.RemoveAll(ts.MkAbs("layout")))
	ts.Check(os.RemoveAll(ts.MkAbs("root")))
	ts.Check(os.MkdirAll(ts.MkAbs("root"), 0o755))
	ts.Check(ts.Exec("imbricat", "copy", args[0], ts.MkAbs("layout"), "--view", "none"))
	ts.Check(ts.Exec("imbricat", "show", args[0], "--platform", args[1], "--raw"))
	var manifest struct {
		Layers []struct{ Digest, MediaType string }
	}
	ts.Check(json.Unmarshal([]byte(ts.ReadFile("stdout")), &manifest))
	var listing strings.Builder
	for _, l := range manifest.Layers {
		blob := ts.MkAbs("layout/blobs/sha256/" + strings.TrimPrefix(l.Digest, "sha256:"))
		list, err := exec.Command("tar", "--numeric-owner", "--utc", "-tvf", blob).CombinedOutput()
		listing.Write(list)
		ts.Check(err)
		names, err := exec.Command("tar", "-tf", blob).Output()
		ts.Check(err)
		for name := range strings.Lines(string(names)) {
			if hidden, mark := strings.CutPrefix(filepath.Base(strings.TrimSpace(name)), ".wh."); mark {
				ts.Check(os.RemoveAll(filepath.Join(ts.MkAbs("root"), filepath.Dir(name), hidden)))
			}
		}
		out, err := exec.Command("tar", "--numeric-owner", "--exclude=.wh.*", "--xattrs", "--xattrs-include=*", "-xpf", blob, "-C", ts.MkAbs("root")).CombinedOutput()
		if err != nil {
			ts.Fatalf("GNU tar refuses a layer: %s", out)
		}
		checker := map[string]string{"gzip": "gzip", "zstd": "zstd"}[l.MediaType[strings.LastIndexByte(l.MediaType, '+')+1:]]
		if checker != "" {
			c := exec.Command(checker, "--test")
			c.Stdin, err = os.Open(blob)
			ts.Check(err)
			if out, err := c.CombinedOutput(); err != nil {
				ts.Fatalf("%s refuses a layer: %s", checker, out)
			}
		}
	}
	ts.Check(os.WriteFile(ts.MkAbs("out"), []byte(listing.String()), 0o644))
}

// serve DIR: serves a folder's files over HTTP; the address is in $FILES. The path /flaky/… answers 503 the first time.
func serve(ts *testscript.TestScript, neg bool, args []string) {
	files := http.FileServer(http.Dir(ts.MkAbs(args[0])))
	var asked atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if rest, flaky := strings.CutPrefix(r.URL.Path, "/flaky"); flaky {
			if r.URL.Path = rest; asked.Add(1) == 1 {
				w.WriteHeader(http.StatusServiceUnavailable)
				return
			}
		}
		files.ServeHTTP(w, r)
	}))
	ts.Defer(server.Close)
	ts.Setenv("FILES", server.URL)
}

// attribute FILE NAME HEX: sets an extended attribute.
func attribute(ts *testscript.TestScript, neg bool, args []string) {
	value, err := hex.DecodeString(args[2])
	ts.Check(err)
	ts.Check(unix.Setxattr(ts.MkAbs(args[0]), args[1], value, 0))
}

// flip FILE: changes one byte in the middle of a file.
func flip(ts *testscript.TestScript, neg bool, args []string) {
	path := ts.MkAbs(args[0])
	content, err := os.ReadFile(path)
	ts.Check(err)
	content[len(content)/2] ^= 0x40
	ts.Check(os.Chmod(path, 0o644))
	ts.Check(os.WriteFile(path, content, 0o644))
}

// under UMASK PROGRAM ARGS…: runs a program with another umask.
func under(ts *testscript.TestScript, neg bool, args []string) {
	ts.Check(ts.Exec("sh", append([]string{"-c", `umask "$0"; exec "$@"`}, args...)...))
}

// run is one run of the program in a folder of its own.
type run struct {
	t   *testing.T
	dir string
	env []string
	who *syscall.Credential // as whom programs run; nil: as this user
}

func newRun(t *testing.T) *run {
	lookAtSources()
	dir := t.TempDir()
	r := &run{t: t, dir: dir, env: append(os.Environ(), "IMBRICAT_STORE="+filepath.Join(dir, "store"), "HOME="+dir,
		"XDG_CONFIG_HOME="+filepath.Join(dir, "config"), "XDG_DATA_HOME="+filepath.Join(dir, "data"), "IMBRICAT_DIR="+dir)}
	if os.Getuid() != 0 {
		t.Cleanup(func() { // what belongs to ids that only a user namespace may act as
			if _, err := os.Stat(filepath.Join(dir, "store", "imbricat", "snapshots")); err == nil {
				_, _ = r.exit("store", "trim", "--unused-for", "0s")
			}
		})
	}
	return r
}

func (r *run) command(args ...string) *exec.Cmd {
	c := exec.Command(program, args...)
	c.Dir, c.Env = r.dir, r.env
	if r.who != nil {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: r.who}
	}
	return c
}

// ok runs the program, demands success and gives its standard output.
func (r *run) ok(args ...string) string {
	r.t.Helper()
	var out, problems strings.Builder
	c := r.command(args...)
	c.Stdout, c.Stderr = &out, &problems
	err := c.Run()
	require.NoError(r.t, err, "imbricat %v\n%s%s", args, out.String(), problems.String())
	return out.String()
}

// stderr is ok, but gives what was written to standard error.
func (r *run) stderr(args ...string) string {
	r.t.Helper()
	code, problems := r.exit(args...)
	require.Zero(r.t, code, "imbricat %v\n%s", args, problems)
	return problems
}

// exit runs the program and gives its exit code and what it wrote to standard error.
func (r *run) exit(args ...string) (int, string) {
	var problems strings.Builder
	c := r.command(args...)
	c.Stderr = &problems
	_ = c.Run()
	return c.ProcessState.ExitCode(), problems.String()
}

// busybox puts the machine's static busybox at bin/busybox.
func (r *run) busybox() {
	need(r.t, "busybox")
	text, err := os.ReadFile("/bin/busybox")
	require.NoError(r.t, err)
	r.write("bin/busybox", string(text))
	require.NoError(r.t, os.Chmod(filepath.Join(r.dir, "bin/busybox"), 0o755))
}

func (r *run) write(name, content string) {
	path := filepath.Join(r.dir, name)
	require.NoError(r.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(r.t, os.WriteFile(path, []byte(content), 0o644))
}

// built is the part of a build's JSON that the tests look at.
type built struct {
	Images []struct {
		Name, Digest string
		Platforms    []struct{ Platform, Digest string }
	}
	Steps       []struct{ Unit, Platform, Step, Outcome, Reason string }
	Ran, Reused int
}

func (r *run) build(args ...string) built {
	r.t.Helper()
	var b built
	require.NoError(r.t, json.Unmarshal([]byte(r.ok(append([]string{"build", "--format", "json", "--view", "none"}, args...)...)), &b))
	return b
}

// wait polls until a condition holds.
func wait(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for range 500 {
		if holds() {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatalf("waited in vain: %s", what)
}
