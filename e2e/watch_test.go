package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// round is what watch tells of one.
type round struct {
	Round   int
	Changed []string
	Commit  bool
	Outcome string
	Error   string
	Again   bool
	Built   built
	Then    *struct{ Status int }
	Into    []struct {
		Name, Error          string
		Put, Removed, Behind []string
		Started              bool
	}
	Pushed []struct{ Digest string }
}

// watcher is a watch under way.
type watcher struct {
	*run
	c      *exec.Cmd
	rounds chan round
}

func (r *run) watch(args ...string) *watcher {
	w := &watcher{run: r, c: r.command(append([]string{"watch", "--format", "json"}, args...)...), rounds: make(chan round, 100)}
	out, err := w.c.StdoutPipe()
	require.NoError(r.t, err)
	w.c.Stderr = &strings.Builder{}
	require.NoError(r.t, w.c.Start())
	go func() {
		defer close(w.rounds)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			var one round
			if json.Unmarshal(lines.Bytes(), &one) == nil {
				w.rounds <- one
			}
		}
	}()
	r.t.Cleanup(func() { _ = w.c.Process.Kill() })
	return w
}

// next returns the next round for which wanted answers true.
func (w *watcher) next(wanted func(round) bool) round {
	w.t.Helper()
	var seen []round
	for limit := time.After(30 * time.Second); ; {
		select {
		case one, open := <-w.rounds:
			if !open {
				w.t.Fatalf("watch ended: %v; %+v", w.c.Stderr, seen)
			}
			if seen = append(seen, one); wanted(one) {
				return one
			}
		case <-limit:
			w.t.Fatalf("waited in vain; %v; %+v", w.c.Stderr, seen)
		}
	}
}

// open counts what the program has open.
func (w *watcher) open() int {
	list, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", w.c.Process.Pid))
	require.NoError(w.t, err)
	return len(list)
}

func (w *watcher) end() {
	require.NoError(w.t, w.c.Process.Signal(os.Interrupt))
	for range w.rounds {
	}
	_ = w.c.Wait()
	require.Equal(w.t, 130, w.c.ProcessState.ExitCode())
}

const watchRecipe = `imbricat: 1
facts: {level: '${file("level.json", "level")}'}
sources: {leave-out: [logs]}
images:
  gauge:
    base: none
    platforms: [linux/amd64]
    steps:
      - copy: {from: src, to: /srv, leave-out: ["*.tmp"]}
      - copy: {from: "tables/*.txt", to: /tables/}
    settings: {labels: {level: "${facts.level}"}}
    publish: {main: {to: "registry.tideline.example/gauge", tags: [newest]}}
`

// TestWatch: a project that is edited at random, under watch: after each edit there is the image that a build makes, whether the system tells of
// changes or they are looked for.
func TestWatch(t *testing.T) {
	for name, args := range map[string][]string{"told by the system": nil, "looked for": {"--poll"}} {
		t.Run(name, func(t *testing.T) {
			r := newRun(t)
			r.write("imbricat.yaml", watchRecipe)
			r.write("level.json", `{"level": "1"}`)
			for n := range 300 {
				r.write(fmt.Sprintf("src/d%d/f%d", n%20, n), fmt.Sprint(n))
				r.write(fmt.Sprintf("tables/%d.txt", n%9), fmt.Sprint(n))
			}
			r.write("logs/today", "")
			r.git("init", "-q", "-b", "trunk")
			r.git("add", "-A")
			r.git("commit", "-qm", "first")
			other := *r
			other.env = append(append([]string{}, r.env...), "IMBRICAT_STORE="+filepath.Join(t.TempDir(), "other"))
			right := func(done round) bool {
				return done.Outcome == "done" && len(done.Built.Images) == 1 && done.Built.Images[0].Digest == other.build().Images[0].Digest
			}
			code, _, problems := r.says("", append([]string{"watch", "nosuch"}, args...)...)
			require.Equal(t, 2, code, problems)
			w := r.watch(args...)
			w.next(right)
			before := w.open()
			rnd := rand.New(rand.NewPCG(rand.Uint64(), 3))
			for n := range 20 {
				at := fmt.Sprintf("src/d%d/f%d", rnd.IntN(20), rnd.IntN(300))
				switch rnd.IntN(9) {
				case 0, 1:
					r.write(at, fmt.Sprint("edited ", n))
				case 2: // as editors do
					r.write("half", fmt.Sprint("renamed ", n))
					require.NoError(t, os.MkdirAll(filepath.Join(r.dir, filepath.Dir(at)), 0o755))
					require.NoError(t, os.Rename(filepath.Join(r.dir, "half"), filepath.Join(r.dir, at)))
				case 3:
					r.write(fmt.Sprintf("src/new%d/deep/f", n), "new")
				case 4:
					require.NoError(t, os.RemoveAll(filepath.Join(r.dir, fmt.Sprintf("src/d%d", rnd.IntN(20)))))
					r.write(at, "there all the same")
				case 5:
					r.write("level.json", fmt.Sprintf(`{"level": "%d"}`, n))
				case 6:
					r.write("imbricat.yaml", strings.Replace(watchRecipe, "/tables/", fmt.Sprintf("/tables%d/", n), 1))
				case 7:
					r.write(fmt.Sprintf("tables/%d.txt", n), "another")
				case 8:
					r.write(at, fmt.Sprint("committed ", n))
					r.git("add", "-A")
					r.git("commit", "-qm", "next")
				}
				w.next(right)
			}
			require.LessOrEqual(t, w.open(), before+2, "nothing stays open from round to round")
			r.write("src/d1/there", "whatever the edits left")
			w.next(right)
			// What the image does not depend on has nothing built.
			r.write("logs/today", "more")
			r.write("src/d1/x.tmp", "more")
			r.write("unrelated", "more")
			r.write("tables/x.md", "more")
			select {
			case one := <-w.rounds:
				t.Fatalf("%+v", one)
			case <-time.After(1500 * time.Millisecond):
			}
			// A mistake is told, and that it is right again.
			r.write("imbricat.yaml", strings.Replace(watchRecipe, "leave-out: [\"*.tmp\"]", "leave: x", 1))
			wrong := w.next(func(r round) bool { return r.Outcome == "failed" })
			require.Contains(t, wrong.Error, `unknown key "leave"`)
			require.Equal(t, []string{"imbricat.yaml"}, wrong.Changed)
			r.write("imbricat.yaml", watchRecipe)
			require.True(t, w.next(func(r round) bool { return r.Outcome == "done" }).Again)
			w.end()
		})
	}
}

// TestWatchEndsRounds: a newer change ends the command that is under way, and the command behind a build with all that it started.
func TestWatchEndsRounds(t *testing.T) {
	r := newRun(t)
	r.busybox()
	r.write("src/level", "slow")
	r.write("imbricat.yaml", `imbricat: 1
images:
  gauge:
    base: none
    steps:
      - copy: {from: bin, to: /bin}
      - link: {at: /bin/sh, target: busybox}
      - copy: {from: src, to: /srv}
      - run: |
          case $(/bin/busybox cat /srv/level) in slow) /bin/busybox sleep 300;; esac
          /bin/busybox cp /srv/level /level
`)
	w := r.watch("--then", `cat "$RECEIPT" > then.json; echo $$ > then.pid; if grep -q behind src/level; then sleep 300 & echo $! > sleep.pid; wait; fi`)
	time.Sleep(time.Second)
	r.write("src/level", "behind")
	require.Equal(t, "interrupted", w.next(func(round) bool { return true }).Outcome)
	wait(t, "the command behind the build", func() bool { _, err := os.Stat(filepath.Join(r.dir, "sleep.pid")); return err == nil })
	text, err := os.ReadFile(filepath.Join(r.dir, "sleep.pid"))
	require.NoError(t, err)
	r.write("src/level", "quick")
	ended := w.next(func(r round) bool { return r.Round == 2 })
	require.Equal(t, "interrupted", ended.Outcome)
	require.Equal(t, []string{"src/level"}, ended.Changed)
	done := w.next(func(r round) bool { return r.Outcome == "done" })
	require.Zero(t, done.Then.Status)
	require.Equal(t, 1, done.Built.Ran-1, "the copy and the command")
	var pid int
	_, err = fmt.Sscan(string(text), &pid)
	require.NoError(t, err)
	wait(t, "its process to end", func() bool { return syscall.Kill(pid, 0) == syscall.ESRCH })
	kept, err := os.ReadFile(filepath.Join(r.dir, "then.json"))
	require.NoError(t, err)
	require.Contains(t, string(kept), done.Built.Images[0].Digest)
	w.end()
}

// TestOutputIsNoInput: what a shell sends into a file of the project is not taken in by what it comes from, unless a copy names it.
func TestOutputIsNoInput(t *testing.T) {
	r := newRun(t)
	r.write("src/level", "3.42")
	r.write("imbricat.yaml", "imbricat: 1\nimages:\n  gauge: {base: none, steps: [{copy: {from: ., to: /srv, leave-out: [store, data, config]}}]}\n")
	want := r.build().Images[0].Digest
	for range 2 {
		log, err := os.Create(filepath.Join(r.dir, "src/log"))
		require.NoError(t, err)
		c := r.command("build", "--view", "lines")
		c.Stdout, c.Stderr = log, log
		require.NoError(t, c.Run())
		require.NoError(t, log.Close())
	}
	// The name is on the image that was built last.
	require.Contains(t, r.ok("show", "gauge"), want[len("sha256:"):][:12])
	require.NotEqual(t, want, r.build().Images[0].Digest, "the file is there like any other now")
}

// TestWatchInto: a command that runs sees each file that a copy alone carries, as the image has it; where a later command made something of
// one it is told, and started again where that is asked for.
func TestWatchInto(t *testing.T) {
	r := newRun(t)
	r.busybox()
	address, _ := standinOn(t, t.TempDir(), "--dir", "registry")
	r.write("imbricat.yaml", `imbricat: 1
images:
  gauge:
    base: none
    steps:
      - copy: {from: bin, to: /bin}
      - run: {command: [/bin/busybox, sh, -c, "busybox --install -s /bin"]}
      - copy: {from: pages, to: /srv/pages, owner: "7:8"}
      - copy: {from: tables, to: /srv/tables}
      - run: cat /srv/tables/all > /srv/made
    settings: {entrypoint: [sh, -c, 'while :; do now=$(cd /srv; find pages tables -type f | while read f; do echo "$f $(cat $f) $(stat -c %a $f)"; done); [ "$now" = "$last" ] || { echo ==; echo "$now"; last=$now; }; sleep 0.05; done']}
    publish: {main: {to: "`+address+`/tides/gauge", tags: [newest]}}
`)
	for n := range 12 {
		r.write(fmt.Sprintf("pages/d%d/f%d", n%3, n), fmt.Sprint(n))
	}
	r.write("tables/all", "1")
	r.write("tables/unread", "1")
	r.ok("build")
	r.ok("try", "gauge", "--background", "--name", "running")
	process := r.tried()[0].Process
	// What the command sees it prints, whenever that changes.
	sees := func() map[string]string {
		told := strings.Split(r.ok("try", "logs", "running"), "==") // it may have printed nothing yet
		seen := map[string]string{}
		for line := range strings.Lines(told[len(told)-1]) {
			if name, text, found := strings.Cut(strings.TrimSpace(line), " "); found {
				seen[name] = text
			}
		}
		return seen
	}
	has := func() map[string]string { // the project, with the modes that a copy gives
		seen := map[string]string{}
		for _, name := range []string{"pages", "tables"} {
			root := filepath.Join(r.dir, name)
			require.NoError(t, filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error {
				if err != nil || !d.Type().IsRegular() {
					return err
				}
				text, err := os.ReadFile(p)
				info, _ := d.Info()
				mode := "644"
				if info.Mode()&0o100 != 0 {
					mode = "755"
				}
				below, _ := filepath.Rel(root, p)
				seen[name+"/"+below] = string(text) + " " + mode
				return err
			}))
		}
		return seen
	}
	w := r.watch("--into", "running", "--push")
	first := w.next(func(done round) bool { return done.Outcome == "done" })
	require.Empty(t, first.Into)
	require.Len(t, first.Pushed, 1)
	require.Equal(t, first.Built.Images[0].Digest, first.Pushed[0].Digest)
	rnd := rand.New(rand.NewPCG(rand.Uint64(), 5))
	for n := range 15 {
		at := filepath.Join(r.dir, fmt.Sprintf("pages/d%d/f%d", rnd.IntN(3), rnd.IntN(12)))
		switch rnd.IntN(4) {
		case 0:
			_ = os.Remove(at)
		case 1:
			r.write("half", fmt.Sprint("renamed ", n))
			require.NoError(t, os.Rename(filepath.Join(r.dir, "half"), at))
		case 2:
			r.write(fmt.Sprintf("pages/new%d/deep/f", n), "new")
			_ = os.Chmod(at, 0o755)
		}
		r.write("tables/unread", fmt.Sprint(n))
		wait(t, "it sees the same", func() bool { return fmt.Sprint(sees()) == fmt.Sprint(has()) })
	}
	// What a later command looked at is not put there.
	r.write("tables/all", "2")
	told := w.next(func(done round) bool {
		return done.Outcome == "done" && len(done.Into) > 0 && len(done.Into[0].Behind) > 0
	})
	require.Equal(t, []string{"/srv/made", "/srv/tables/all"}, told.Into[0].Behind)
	require.Equal(t, "1 644", sees()["tables/all"])
	w.end()

	w = r.watch("--restart", "running")
	told = w.next(func(done round) bool { return done.Outcome == "done" && len(done.Into) > 0 })
	require.True(t, told.Into[0].Started)
	require.Equal(t, "running", r.tried()[0].State)
	require.NotEqual(t, process, r.tried()[0].Process)
	process = r.tried()[0].Process
	wait(t, "it sees the same", func() bool { return fmt.Sprint(sees()) == fmt.Sprint(has()) })
	r.write("other", "no part of it")
	w.end()
	require.Equal(t, process, r.tried()[0].Process)
	r.ok("try", "stop", "running")
	w = r.watch("--into", "running")
	require.Contains(t, w.next(func(done round) bool { return len(done.Into) > 0 }).Into[0].Error, "nothing is named")
	w.end()
}

// TestWatchScreen: on a terminal the last ten rounds stay, without what builds and commands printed in between.
func TestWatchScreen(t *testing.T) {
	r := newRun(t)
	r.write("imbricat.yaml", "imbricat: 1\nimages:\n  gauge:\n    base: none\n    steps: [{copy: {from: src, to: /srv}}]\n")
	r.write("src/f", "0")
	c := r.command("watch", "--then", "echo noise")
	c.Env = slices.DeleteFunc(slices.Clone(c.Env), func(pair string) bool { return strings.HasPrefix(pair, "CI=") })
	_, shown := onTerminal(t, c, 40, 120)
	screen := func() string {
		screens := strings.Split(shown(), "\x1b[2J")
		return screens[len(screens)-1]
	}
	wait(t, "it builds", func() bool { return strings.Contains(screen(), "then:") })
	for n := range 12 {
		name := fmt.Sprintf("src/round%d-", n)
		r.write(name, "x")
		wait(t, name, func() bool {
			_, after, found := strings.Cut(screen(), name)
			return found && strings.Contains(after, "then:")
		})
	}
	last := screen()
	require.Equal(t, 10, strings.Count(last, "changed:"), last)
	require.Contains(t, last, "src/round2-")
	require.NotContains(t, last, "src/round1-")
	require.Equal(t, 1, strings.Count(last, "noise"), "of the last command alone")
	require.Contains(t, last, "watching")
}
