package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const slim = `imbricat: 1
images:
  slim:
    base: none
    steps:
      - copy: {from: bin, to: /bin}
      - run: {command: [/bin/busybox, sh, -c, "busybox --install -s /bin; mkdir -p /etc /srv /tmp; chmod 1777 /tmp; echo low > /srv/level; ln /srv/level /srv/twin"]}
      - enrol: {user: gauge, number: 1000}
    settings: {env: {STATION: north-pier}}
`

// bench is a run with an image slim, and a workbench pier on it.
func bench(t *testing.T) *run {
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", slim)
	r.ok("build")
	require.NoError(t, os.Remove(filepath.Join(r.dir, "imbricat.yaml")))
	require.Equal(t, "pier\n", r.ok("workbench", "open", "slim", "--name", "pier"))
	return r
}

// image is the digest of what a workbench holds.
func (r *run) image(name string) string {
	var shown struct{ Image string }
	require.NoError(r.t, json.Unmarshal([]byte(r.ok("workbench", "show", name, "--format", "json")), &shown))
	require.NotEmpty(r.t, shown.Image)
	return shown.Image
}

// digestOf builds the one image of a recipe in a folder, and returns its digest.
func (r *run) digestOf(dir string, more ...string) string {
	b := r.build(append([]string{"--dir", dir}, more...)...)
	require.Len(r.t, b.Images, 1)
	return b.Images[0].Digest
}

// says runs the program with something on its standard input.
func (r *run) says(in string, args ...string) (code int, out, problems string) {
	var outs, errs strings.Builder
	c := r.command(args...)
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(in), &outs, &errs
	_ = c.Run()
	return c.ProcessState.ExitCode(), outs.String(), errs.String()
}

// TestWorkbenchRecipe: what a workbench holds is what the recipe makes that it prints, in another store and folder too.
func TestWorkbenchRecipe(t *testing.T) {
	r := bench(t)
	do := func(args ...string) string { return r.ok(append([]string{"workbench"}, args...)...) }
	r.write("pages/public/index.html", "tides\n")
	r.write("pages/a[1].txt", "${a}\n")
	require.NoError(t, os.Link(filepath.Join(r.dir, "pages/public/index.html"), filepath.Join(r.dir, "pages/public/twin.html")))
	require.NoError(t, os.Symlink("index.html", filepath.Join(r.dir, "pages/public/first.html")))
	require.NoError(t, os.Chmod(filepath.Join(r.dir, "pages/public/index.html"), 0o755))

	require.Equal(t, "made\n", do("exec", "pier", "--line", "mkdir /srv/made && echo $LEVEL > /srv/made/f && echo made", "--env", "LEVEL=high ${x}", "--no-network"))
	do("exec", "pier", "--user", "gauge", "--working-dir", "/tmp", "--", "sh", "-c", "pwd > /tmp/mine")
	do("put", "pier", "pages/public", "/srv/pages")
	do("put", "pier", "pages/a[1].txt", "/srv/", "--owner", "gauge", "--mode", "0640")
	do("take", "pier", "slim", "/bin/busybox", "/opt/")
	do("set", "pier", "entrypoint=[/bin/sh, -c]", "user=1000:1000", "env.PAGE=${HOME}", "labels.dev.tideline.note=low", "ports=[8080]")
	do("set", "pier", "user=gauge", "env.STATION=")
	code, _, problems := r.says("rm -r /srv/made; echo x > /srv/level; mkdir /srv/made; echo y > /srv/made/g; ln /srv/made/g /srv/made/h; rm /bin/tac; mkdir /bin/tac; chmod 700 /tmp; chown 7:8 /srv; exit 3\n", "workbench", "shell", "pier", "--user", "0")
	require.Equal(t, 3, code, problems)
	do("exec", "pier", "--line", "cat /srv/made/h > /srv/last; rm /srv/twin")
	r.write("pages/public/index.html", "other\n")
	do("put", "pier", "pages/public/index.html", "/srv/pages/")
	held := r.image("pier")

	do("recipe", "pier", "--into", "whole")
	require.Equal(t, held, r.digestOf("whole"))
	other := newRun(t)
	r.ok("copy", "slim", "./slim.tar")
	other.ok("copy", filepath.Join(r.dir, "slim.tar"), "slim")
	output(t, exec.Command("cp", "-a", filepath.Join(r.dir, "whole"), other.dir))
	require.Equal(t, held, other.digestOf("whole"), "in a store that knows nothing of it")

	// As it was before the last file and the shell, the recipe itself is all that is needed.
	do("undo", "pier", "3")
	r.write("pages/public/index.html", "tides\n")
	require.NoError(t, os.Chmod(filepath.Join(r.dir, "pages/public/index.html"), 0o755))
	r.write("imbricat.yaml", do("recipe", "pier"))
	require.Equal(t, r.image("pier"), r.digestOf("."))
	require.Equal(t, r.image("pier"), r.digestOf(".", "--fresh"))

	do("seal", "pier", "sealed:1")
	require.Contains(t, r.ok("store", "list", "--whole"), r.image("pier"))
	do("drop", "pier")
	require.Contains(t, do("list"), "no workbench")
	require.Contains(t, r.ok("try", "sealed:1", "--user", "0", "--", "cat", "/srv/made/f"), "high ${x}")
	left, err := filepath.Glob(filepath.Join(r.dir, "store/imbricat/workbenches/*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// TestWorkbenchChanges: what was changed is told; what fails or changes nothing is no act; mistakes are told before anything is done.
func TestWorkbenchChanges(t *testing.T) {
	r := bench(t)
	code, out, errs := r.says("rm /srv/twin; echo high > /srv/level; chmod 750 /etc; mkdir -p /srv/new/deep; ln -s deep /srv/new/link\n", "workbench", "shell", "pier")
	require.Equal(t, 0, code, errs)
	require.Contains(t, out, "pier 1")
	var list []struct{ Path, Change, Kind, Mode string }
	require.NoError(t, json.Unmarshal([]byte(r.ok("workbench", "changes", "pier", "--format", "json")), &list))
	var all []string
	for _, c := range list {
		all = append(all, fmt.Sprint(c.Change, " ", c.Kind, " ", c.Mode, " ", c.Path))
	}
	require.Equal(t, []string{"changed folder 0750 /etc", "changed file 0644 /srv/level", "new folder 0755 /srv/new", "new folder 0755 /srv/new/deep",
		"new link 0777 /srv/new/link", "gone file 0644 /srv/twin"}, all)

	_, _, errs = r.says("", "workbench", "shell", "pier", "--user", "nobody")
	require.Contains(t, errs, `pier: /etc/passwd of the image has no "nobody"`)
	// What fails, or changes nothing, is no act.
	code, out, errs = r.says("", "workbench", "exec", "pier", "--line", "echo half > /srv/half; echo told; exit 9")
	require.Equal(t, 9, code)
	require.Equal(t, "told\n", out)
	require.Contains(t, errs, "left nothing")
	code, _, errs = r.says("", "workbench", "exec", "pier", "--", "cat", "/srv/level")
	require.Equal(t, 0, code)
	require.Contains(t, errs, "changed nothing, and is no act")
	require.NotContains(t, r.ok("workbench", "show", "pier"), "half")
	uuid := []string{"workbench", "exec", "pier", "--", "cat", "/proc/sys/kernel/random/uuid"}
	first, second := r.ok(uuid...), r.ok(uuid...)
	require.NotEqual(t, first, second, "it runs each time")
	require.Len(t, second, len(first))
	for _, wrong := range [][]string{{"exec", "pier"}, {"exec", "pier", "--line", "ls", "--", "ls"}, {"put", "pier", "nothing", "/x"}, {"put", "pier", "bin", "relative"}, {"put", "pier", "store", "/x"},
		{"put", "pier", "store/imbricat", "/x"}, {"set", "pier", "colour=red"}, {"set", "pier", "entrypoint=[unclosed"}, {"set", "pier", "ports=http"}, {"set", "pier", "user"}, {"undo", "pier", "2"}, {"undo", "pier", "0"}, {"show", "peer"}, {"open", "slim", "--name", "pier"}, {"open", "slim", "--name", "A/b"},
		{"seal", "pier", "a/b"}, {"take", "pier", "slim", "/bin"}, {"recipe", "pier", "--into", "bin"}, {"drop", "../imbricat"}} {
		code, _, errs := r.says("", append([]string{"workbench"}, wrong...)...)
		require.Equal(t, 2, code, "%q: %s", wrong, errs)
		require.NotContains(t, errs, "imbricat.yaml:", "nobody sees that recipe")
		require.NotContains(t, errs, "does not exist in", "%q", wrong)
	}
	require.Contains(t, r.ok("workbench", "list"), "1 act")
	// A doubt is told once, without a place in a recipe that nobody sees.
	_, _, errs = r.says("", "workbench", "set", "pier", "entrypoint=[nosuch]")
	require.Contains(t, errs, "[missing-program]")
	require.NotContains(t, errs, "imbricat.yaml:")
	require.NotContains(t, errs, "|")
	_, _, errs = r.says("", "workbench", "set", "pier", "env.STATION=south")
	require.NotContains(t, errs, "missing-program")
}

// TestWorkbenchStays: what commands left that never leave the same again stays through trimming, and through undoing what came later.
func TestWorkbenchStays(t *testing.T) {
	r := bench(t)
	r.write("word", "low\n")
	r.git("init", "-q", "-b", "trunk") // in which the store lies by chance
	r.git("add", "word")
	r.git("commit", "-qm", "first")
	r.ok("workbench", "exec", "pier", "--line", "cat /proc/sys/kernel/random/uuid > /srv/once")
	require.NotContains(t, r.ok("show", "--raw", "--platform", "linux/"+runtime.GOARCH, r.image("pier")), "image.revision")
	r.ok("workbench", "exec", "pier", "--line", "cat /srv/once /proc/sys/kernel/random/uuid > /srv/twice")
	before := r.image("pier")
	r.ok("store", "drop", "slim")
	r.ok("workbench", "put", "pier", "word", "/srv/")
	r.ok("store", "trim", "--keep", "0s")
	var size struct{ Workbenches int }
	require.NoError(t, json.Unmarshal([]byte(r.ok("store", "size", "--format", "json")), &size))
	require.Positive(t, size.Workbenches)
	_, _, errs := r.says("", "workbench", "undo", "pier")
	require.NotContains(t, errs, "had to run again")
	require.Equal(t, before, r.image("pier"))
	r.ok("store", "check")
	// Files that were changed in there make no other image.
	r.ok("workbench", "put", "pier", "word", "/srv/")
	r.write("store/imbricat/workbenches/pier/files/4/word", "changed\n")
	code, _, problems := r.says("", "workbench", "set", "pier", "user=gauge")
	require.Equal(t, 1, code)
	require.Contains(t, problems, "the files of act 4")
	r.ok("workbench", "undo", "pier")
	require.Equal(t, before, r.image("pier"))
	// Where a record is damaged the command runs again, and that is told.
	found, err := filepath.Glob(filepath.Join(r.dir, "store/imbricat/workbenches/pier/runs/*"))
	require.NoError(t, err)
	require.Len(t, found, 2)
	for _, one := range found {
		require.NoError(t, os.WriteFile(one, []byte("{}"), 0o600))
	}
	r.ok("store", "trim", "--keep", "0s")
	_, _, errs = r.says("", "workbench", "set", "pier", "user=gauge")
	require.Contains(t, errs, "had to run again")
}

// TestWorkbenchTogether: several who work at one bench wait for each other.
func TestWorkbenchTogether(t *testing.T) {
	r := bench(t)
	var all sync.WaitGroup
	for i := range 6 {
		r.write(fmt.Sprintf("f%d", i), fmt.Sprint(i))
		all.Go(func() {
			c := r.command("workbench", "put", "pier", fmt.Sprintf("f%d", i), "/srv/")
			out, err := c.CombinedOutput()
			if err != nil {
				t.Errorf("%v: %s", err, out)
			}
		})
	}
	all.Wait()
	for i := range 6 {
		require.Equal(t, fmt.Sprint(i), r.ok("workbench", "exec", "pier", "--", "cat", fmt.Sprintf("/srv/f%d", i)))
	}
}

// TestWorkbenchKilled: whenever it is killed, what was done before is there, the recipe makes what it holds, and the next act works.
func TestWorkbenchKilled(t *testing.T) {
	r := bench(t)
	r.write("word", "low\n")
	random := rand.New(rand.NewPCG(1, 2))
	for i := range 25 {
		args := [][]string{{"exec", "pier", "--line", fmt.Sprintf("echo %d > /srv/at", i)}, {"put", "pier", "word", fmt.Sprintf("/srv/%d", i)},
			{"undo", "pier"}, {"set", "pier", fmt.Sprintf("env.ROUND=%d", i)}, {"open", "slim", "--name", fmt.Sprintf("other-%d", i)}}[random.IntN(5)]
		c := r.command(append([]string{"workbench"}, args...)...)
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(random.IntN(60)) * time.Millisecond)
		_ = c.Process.Kill()
		_ = c.Wait()
	}
	r.ok("workbench", "put", "pier", "word", "/srv/end")
	r.ok("workbench", "recipe", "pier", "--into", "whole")
	require.Equal(t, r.image("pier"), r.digestOf("whole"))
	require.Equal(t, "low\n", r.ok("workbench", "exec", "pier", "--", "cat", "/srv/end"))
	r.ok("store", "check")
	r.ok("workbench", "list")
}

// TestWorkbenchAtFailure: what a step left whose command failed can be looked at and mended, and what is done there is the step's new lines.
func TestWorkbenchAtFailure(t *testing.T) {
	r := bench(t)
	recipe := `imbricat: 1
secrets: {mark: {env: MARK}}
stages:
  tables:
    base: {reference: slim}
    steps:
      - write: {to: /src/input, text: "7\n"}
%s
images:
  bulletin:
    base: {reference: slim}
    steps: [{take: {from: tables, paths: /src, to: /srv/src}}]
`
	r.write("imbricat.yaml", fmt.Sprintf(recipe, `      - run: [echo one > one, cat missing > two, cat two > three]
        working-dir: /src
        user: "0"
        env: {GOAL: tides}
        network: false`))
	code, out, errs := r.says("", "workbench", "open", "--at-failure", "bulletin", "--name", "broken")
	require.Equal(t, 0, code, errs)
	require.Equal(t, "broken\n", out)
	require.Contains(t, errs, "can't open 'missing'")
	require.Contains(t, r.ok("workbench", "recipe", "broken"), "- cat missing > two\n", "the step as it was")
	require.Equal(t, "one\n", r.ok("workbench", "exec", "broken", "--", "cat", "one", "two"), "it is in the step's folder, with what the command left")
	r.ok("workbench", "exec", "broken", "--line", "echo $GOAL > missing")
	r.ok("workbench", "exec", "broken", "--", "sh", "-c", "cat missing > two")
	r.ok("workbench", "exec", "broken", "--line", "cat two > three")
	step := r.ok("workbench", "recipe", "broken")
	require.Contains(t, step, "In place of tables:2")
	r.write("imbricat.yaml", fmt.Sprintf(recipe, "      "+strings.ReplaceAll(strings.TrimSpace(step), "\n", "\n      ")))
	r.ok("build")
	require.Equal(t, "one\ntides\ntides\n", r.ok("try", "bulletin", "--", "cat", "/srv/src/one", "/srv/src/missing", "/srv/src/three"))

	// What ran in place of a program is programs.
	r.write("imbricat.yaml", fmt.Sprintf(recipe, "      - {run: {command: [cat, /src/none]}, fresh-tmp: true}"))
	code, _, errs = r.says("", "workbench", "open", "--at-failure", "tables", "--name", "program")
	require.Equal(t, 0, code, errs)
	require.Contains(t, r.ok("workbench", "recipe", "program"), "- run: {command: [cat, /src/none]}\n  fresh-tmp: true\n")
	r.ok("workbench", "exec", "program", "--", "touch", "/src/none")
	r.ok("workbench", "exec", "program", "--", "cp", "/src/none", "/src/some")
	require.Contains(t, r.ok("workbench", "recipe", "program"), "- run: {command: [touch, /src/none]}\n  fresh-tmp: true\n- run: {command: [cp, /src/none, /src/some]}\n  fresh-tmp: true\n")
	require.NotContains(t, r.ok("workbench", "recipe", "program"), "[cat")
	r.write("imbricat.yaml", fmt.Sprintf(recipe, "      - run: 'true'"))

	code, _, errs = r.says("", "workbench", "open", "--at-failure", "bulletin")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "nothing failed")
	code, _, _ = r.says("", "workbench", "open", "--at-failure", "nothing")
	require.Equal(t, 2, code)
}

// TestWorkbenchTerminal: what a person types in a shell there is kept, however the shell ends.
func TestWorkbenchTerminal(t *testing.T) {
	r := bench(t)
	c := r.command("workbench", "shell", "pier")
	typed, shown := onTerminal(t, c, 30, 100)
	waitFor(t, shown, "# ")
	typed("echo typed > /srv/typed; stty size\n")
	waitFor(t, shown, "30 100")
	typed("sleep 100\n")
	time.Sleep(300 * time.Millisecond)
	typed("\x03")
	typed("echo still $((40 + 2)); exit 5\n")
	waitFor(t, shown, "still 42")
	waitFor(t, shown, " 1  shell /bin/sh: 1 file, 6 B")
	_ = c.Wait()
	require.Equal(t, 5, c.ProcessState.ExitCode())
	require.Equal(t, "typed\n", r.ok("workbench", "exec", "pier", "--", "cat", "/srv/typed"))
}
