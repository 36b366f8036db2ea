package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const reuseToolsRecipe = `imbricat: 1
silence: [set-uid, world-writable]
images:
  tools:
    base: debian:latest
    steps:
      - {run: ["apt-get update -q", "apt-get install -y -q --no-install-recommends tcc libc6-dev"], env: {DEBIAN_FRONTEND: noninteractive}}
      - write: {to: /etc/station, text: "Tideline"}
      - write: {to: /etc/unread, text: "nobody looks"}
`

// debianTools puts a base with a compiler, a package manager and a shell into a run's store.
func debianTools(t *testing.T, r *run) {
	dir := bases(t)
	r.write("debian/imbricat.yaml", debianRecipe)
	output(t, exec.Command("cp", "--reflink=auto", filepath.Join(dir, "debian.tar"), filepath.Join(r.dir, "debian")))
	r.write("tools/imbricat.yaml", reuseToolsRecipe)
	r.ok("build", "--dir", "debian")
	r.ok("store", "name", "debian", "debian:latest")
	r.ok("build", "--dir", "tools")
	r.ok("store", "name", "tools", "tools:latest")
}

// told are the outcomes and reasons of a build's steps by their places, and the line of its base steps.
type told struct {
	Steps []struct{ Unit, Place, Step, Outcome, Reason string }
}

func (r *run) outcomes(args ...string) told {
	var out told
	require.NoError(r.t, json.Unmarshal([]byte(r.ok(append([]string{"build", "--format", "json", "--view", "none"}, args...)...)), &out))
	return out
}

func (o told) of(step string) (outcome, reason string) {
	for _, s := range o.Steps {
		if s.Place == step {
			return s.Outcome, s.Reason
		}
	}
	return "", "no such step"
}

// The commands of the naive repository, as the table of docs/reuse.md names them.
var naiveCommands = []struct{ place, name string }{
	{"gauge-built:2", "gauge: install"}, {"gauge-built:3", "gauge: compile"}, {"bulletin-built:2", "bulletin: install"},
	{"bulletin-built:3", "bulletin: check"}, {"almanac:2", "almanac: render"},
}

// TestNaiveTideline builds a repository whose images all take everything in first, with a real compiler and a real package
// manager, and edits it in every way: what runs again, and the reason it gives, is what is written here. The table in
// docs/reuse.md is what came out.
func TestNaiveTideline(t *testing.T) {
	r := newRun(t)
	debianTools(t, r)
	output(t, exec.Command("cp", "-r", "../docs/tideline", filepath.Join(r.dir, "project")))
	at := func(name string) string { return filepath.Join(r.dir, "project", name) }
	change := func(name, old, new string) {
		text, err := os.ReadFile(at(name))
		require.NoError(t, err)
		require.Contains(t, string(text), old)
		r.write("project/"+name, strings.Replace(string(text), old, new, 1))
	}
	first := r.outcomes("--dir", "project")
	for _, c := range naiveCommands {
		outcome, reason := first.of(c.place)
		require.Equal(t, "ran", outcome, c.place)
		require.Equal(t, "first time", reason, c.place)
	}
	table := []string{"| edit | " + strings.Join(names(), " | ") + " |", "|---" + strings.Repeat("|---", len(naiveCommands)) + "|"}
	for _, e := range []struct {
		what   string
		edit   func()
		reason map[string]string // of what runs again; a pattern
	}{
		{"nothing", func() {}, nil},
		{"a source of gauge", func() { change("gauge/gauge.c", "return 0", "return  0") },
			map[string]string{"gauge-built:3": `^/src/gauge/gauge\.c changed \(copy \. to /src\)$`}},
		{"a header that two share", func() { change("common/astro/moon.h", "14.77", "14.765") },
			map[string]string{"gauge-built:3": `^/src/common/astro/moon\.h changed`, "almanac:2": `^/src/common/astro/moon\.h changed`}},
		{"a file is touched", func() { output(t, exec.Command("touch", at("gauge/gauge.c"), at("bulletin/hourly.sh"))) }, nil},
		{"a source becomes executable", func() { require.NoError(t, os.Chmod(at("gauge/level.h"), 0o755)) },
			map[string]string{"gauge-built:3": `^mode, owner or time of /src/gauge/level\.h changed`}},
		{"a file beside the sources", func() { r.write("project/gauge/notes.txt", "calm") }, nil},
		{"another script, where scripts are listed", func() { r.write("project/bulletin/daily.sh", "echo daily\n") },
			map[string]string{"bulletin-built:3": `^the listing of /src/bulletin gained daily\.sh \(copy \. to /src\)`}},
		{"a script is renamed", func() { require.NoError(t, os.Rename(at("bulletin/daily.sh"), at("bulletin/weekly.sh"))) },
			map[string]string{"bulletin-built:3": `/src/bulletin/daily\.sh vanished, and \d+ more$`}},
		{"the README is renamed", func() { require.NoError(t, os.Rename(at("README.md"), at("READ"))) }, nil},
		{"one more package of bulletin", func() { r.write("project/bulletin/packages", "less patch\n") },
			map[string]string{"bulletin-built:2": `^/src/bulletin/packages changed \(copy \. to /src\)$`}},
		{"a comment in the recipe", func() { change("imbricat.yaml", "images:", "# what is shipped\nimages:") }, nil},
		{"two steps change places", func() {
			text, err := os.ReadFile(at("imbricat.yaml"))
			require.NoError(t, err)
			lines := strings.Split(string(text), "\n")
			i := slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, "working-dir: /src/bulletin, env:") })
			lines[i], lines[i+1] = lines[i+1], lines[i]
			r.write("project/imbricat.yaml", strings.Join(lines, "\n"))
		}, nil},
		{"a command", func() { change("imbricat.yaml", "tcc -I../common -o", "tcc -g -I../common -o") },
			map[string]string{"gauge-built:3": `^the command changed: "tcc -g -I\.\./common -o /out-gauge gauge\.c" was "tcc -I`}},
		{"a variable of the environment", func() { change("imbricat.yaml", "2027", "2028") },
			map[string]string{"almanac:2": `^the environment YEAR changed$`}},
		{"the base, where nobody reads", func() {
			r.write("tools/imbricat.yaml", strings.Replace(reuseToolsRecipe, "nobody looks", "nobody cares", 1))
			r.ok("build", "--dir", "tools")
			r.ok("store", "name", "tools", "tools:latest")
		}, nil},
		{"the base, where one reads", func() {
			r.write("tools/imbricat.yaml", strings.Replace(reuseToolsRecipe, `"Tideline"`, `"Tideline, north"`, 1))
			r.ok("build", "--dir", "tools")
			r.ok("store", "name", "tools", "tools:latest")
		}, map[string]string{"almanac:2": `^/etc/station changed \(base tools:latest\)$`}},
		{"the link of a tool", func() {
			change("imbricat.yaml", "      - copy: {from: ., to: /src}\n      - {run: [\"tcc", "      - copy: {from: ., to: /src}\n      - link: {at: /usr/local/bin/tcc, target: /usr/bin/tcc}\n      - {run: [\"tcc")
		}, map[string]string{"almanac:3": `^/usr/local/bin/tcc appeared \(link`}},
	} {
		e.edit()
		predicted := r.ok("plan", "--dir", "project", "--format", "json", "--view", "none")
		got := r.outcomes("--dir", "project")
		row := []string{e.what}
		for _, c := range naiveCommands {
			place := moved(got, c.place, c.name)
			outcome, reason := got.of(place)
			want, runs := e.reason[place]
			if cell := map[bool]string{true: "**ran**", false: "reused"}[outcome == "ran"]; true {
				row = append(row, cell)
			}
			require.Equal(t, runs, outcome == "ran", "%s: %s: %s, %s", e.what, c.name, outcome, reason)
			if runs {
				require.Regexp(t, regexp.MustCompile(want), reason, "%s: %s", e.what, c.name)
				text, err := json.Marshal(reason)
				require.NoError(t, err)
				require.Contains(t, predicted, string(text), "plan tells another reason than build")
			}
		}
		table = append(table, "| "+strings.Join(row, " | ")+" |")
	}
	text, err := os.ReadFile("../docs/reuse.md")
	require.NoError(t, err)
	made := strings.Join(table, "\n")
	if os.Getenv("IMBRICAT_TEST_UPDATE") != "" {
		begin, end := strings.Index(string(text), "| edit |"), strings.Index(string(text), "\n\nThe table is made")
		require.NoError(t, os.WriteFile("../docs/reuse.md", []byte(string(text)[:begin]+made+string(text)[end:]), 0o644))
		return
	}
	require.Contains(t, string(text), made, "docs/reuse.md has another table: IMBRICAT_TEST_UPDATE=1 writes it anew")
}

func names() (list []string) {
	for _, c := range naiveCommands {
		list = append(list, c.name)
	}
	return list
}

// moved finds the place of a command by its name, after steps changed places.
func moved(o told, place, name string) string {
	unit, _, _ := strings.Cut(place, ":")
	_, step, _ := strings.Cut(name, ": ")
	for _, s := range o.Steps {
		if s.Unit == unit && s.Step == step {
			return s.Place
		}
	}
	return fmt.Sprint(place, " is gone")
}

// TestFreshCheckout: on a machine that got its store from elsewhere and its sources from version control, files that are as
// version control left them are not read; those that changed since are, whatever their times say.
func TestFreshCheckout(t *testing.T) {
	need(t, "git")
	strace := need(t, "strace")
	r := newRun(t)
	r.env = append(r.env, "GIT_CONFIG_NOSYSTEM=1")
	git := func(dir string, args ...string) {
		c := exec.Command("git", append([]string{"-c", "user.name=Tideline", "-c", "user.email=tide@tideline.example", "-C", dir}, args...)...)
		c.Env = r.env
		output(t, c)
	}
	r.write("origin/imbricat.yaml", "imbricat: 1\nsources: {leave-out: [/untracked]}\nimages: {gauge: {base: none, steps: [{copy: {from: ., to: /src}}]}}\n")
	for _, name := range []string{"one", "two", "three"} {
		r.write("origin/"+name, strings.Repeat(name, 1000))
	}
	time.Sleep(50 * time.Millisecond) // more than a tick: what is as young as the index proves nothing
	git(r.dir+"/origin", "init", "-q")
	git(r.dir+"/origin", "add", "-A")
	git(r.dir+"/origin", "commit", "-qm", "tides")
	read := func(dir string) (names []string, digest string) {
		time.Sleep(2100 * time.Millisecond) // younger files are never remembered
		c := exec.Command(strace, "-f", "-qq", "-e", "trace=openat", "-o", filepath.Join(r.dir, "strace"), program, "build", "--view", "none", "--format", "json", "--dir", dir)
		c.Env = r.env
		out, err := c.Output()
		require.NoError(t, err, string(out))
		text, err := os.ReadFile(filepath.Join(r.dir, "strace"))
		require.NoError(t, err)
		for _, name := range []string{"one", "two", "three"} {
			if strings.Contains(string(text), `, "`+name+`", O_RDONLY`) {
				names = append(names, name)
			}
		}
		var b built
		require.NoError(t, json.Unmarshal(out, &b))
		return names, b.Images[0].Digest
	}
	names, first := read(filepath.Join(r.dir, "origin"))
	require.Len(t, names, 3)
	clone := func(name string) string {
		git(r.dir, "clone", "-q", r.dir+"/origin", r.dir+"/"+name)
		time.Sleep(50 * time.Millisecond)
		git(r.dir+"/"+name, "status")
		return filepath.Join(r.dir, name)
	}
	dir := clone("checkout")
	names, again := read(dir)
	require.Empty(t, names, "version control vouches for all of them")
	require.Equal(t, first, again)

	dir = clone("edited")
	info, err := os.Stat(dir + "/two")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/two", []byte(strings.Repeat("owt", 1000)), 0o644))
	require.NoError(t, os.Chtimes(dir+"/two", info.ModTime(), info.ModTime()))
	names, edited := read(dir)
	require.Contains(t, names, "two", "its size and its time are as they were")
	require.NotEqual(t, first, edited)

	// Where bytes are converted on checkout the objects prove nothing.
	dir = clone("converted")
	require.NoError(t, os.WriteFile(dir+"/.git/info/attributes", []byte("* text=auto\n"), 0o644))
	names, _ = read(dir)
	require.Len(t, names, 3)
}

// TestStaleObjects: a tool that compares times is blind in a kept folder, since sources have one constant time; comparing
// contents helps, and so does an age that a result may have.
func TestStaleObjects(t *testing.T) {
	r := newRun(t)
	r.busybox()
	r.write("src/gauge", "3.42")
	recipe := func(test, more string) {
		r.write("imbricat.yaml", `imbricat: 1
images:
  gauge:
    base: none
    steps:
      - copy: {from: bin, to: /bin}
      - copy: {from: src, to: /src}
      - {run: {command: [/bin/busybox, sh, -c, "if `+test+`; then busybox cp /src/gauge /kept/object; fi; busybox cp /kept/object /out"]}, kept: [{name: objects, at: /kept}]`+more+`}
    settings: {entrypoint: [/bin/busybox, cat, /out]}
`)
	}
	byTime, byContent := "[ ! -e /kept/object -o /src/gauge -nt /kept/object ]", "! busybox cmp -s /src/gauge /kept/object"
	recipe(byTime, "")
	r.ok("build")
	require.Equal(t, "3.42", r.ok("try", "gauge"))
	r.write("src/gauge", "3.57")
	require.Equal(t, "ran", r.outcomes().Steps[2].Outcome, "the step itself is never fooled")
	require.Equal(t, "3.42", r.ok("try", "gauge"), "the tool is: an object is newer than any source")
	recipe(byContent, "")
	r.ok("build")
	require.Equal(t, "3.57", r.ok("try", "gauge"))
	recipe(byContent, ", expires: 1s")
	r.ok("build")
	time.Sleep(1100 * time.Millisecond)
	outcome, reason := r.outcomes().of("gauge:3")
	require.Equal(t, "ran", outcome)
	require.Equal(t, "its result is older than 1s", reason)
}
