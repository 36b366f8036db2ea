package changes

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/paths"
)

// project is a folder that a test changes and watches.
type project struct {
	*testing.T
	dir string
	w   *Watcher
	r   *rand.Rand

	marks int
}

func watched(t *testing.T, poll bool, scope Scope) *project {
	p := &project{T: t, dir: t.TempDir(), r: rand.New(rand.NewPCG(rand.Uint64(), 7))}
	for _, dir := range []string{"src/a/b", "src/skipped", "other/c", "stop"} {
		require.NoError(t, os.MkdirAll(p.at(dir), 0o755))
	}
	var err error
	p.w, err = Open(p.dir, Options{Poll: poll, Interval: 5 * time.Millisecond, Quiet: time.Millisecond, Longest: 50 * time.Millisecond})
	require.NoError(t, err)
	t.Cleanup(p.w.Close)
	p.aim(scope)
	return p
}

func (p *project) aim(scope Scope) bool { return p.w.Aim(scope) }

func (p *project) at(name string) string { return filepath.Join(p.dir, name) }

func (p *project) write(name, text string) {
	require.NoError(p, os.WriteFile(p.at(name), []byte(text), 0o644))
}

// until returns all that changes until a new file is there, so that what was done before it is told.
func (p *project) until() (all Changed) {
	times := 1
	if p.looks() {
		times = 2 // what is looked at first may have changed while the rest was looked at
	}
	for range times {
		p.marks++
		name := fmt.Sprint("stop/", p.marks)
		require.NoError(p, os.MkdirAll(p.at("stop"), 0o755))
		p.write(name, "")
		for found := false; !found; {
			ctx, cancel := context.WithTimeout(p.Context(), 20*time.Second)
			c, err := p.w.Next(ctx)
			cancel()
			require.NoError(p, err)
			require.False(p, c.None())
			all, found = all.And(c), c.All || slices.Contains(c.Paths, name)
		}
	}
	return all
}

// looks reports whether files are looked at again and again.
func (p *project) looks() bool {
	p.w.mutex.Lock()
	defer p.w.mutex.Unlock()
	return p.w.system == nil
}

// below is a scope of what lies in some folders, but for some names.
func below(dirs ...string) Scope {
	return Scope{Files: paths.Set{Below: dirs, Has: func(p string) bool {
		return !strings.Contains(p, "skipped") && slices.ContainsFunc(dirs, func(dir string) bool { return p == dir || within(p, dir) })
	}}, Skip: func(dir string) bool { return strings.Contains(dir, "skipped") }}
}

// state is what stands in the files of a scope.
func (p *project) state(scope Scope) map[string]string {
	all := map[string]string{}
	_ = filepath.WalkDir(p.dir, func(name string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(p.dir, name)
		if err == nil && scope.Files.Has(rel) {
			info, err := e.Info()
			require.NoError(p, err)
			text, _ := os.ReadFile(name)
			all[rel] = info.Mode().String() + string(text)
		}
		return nil
	})
	return all
}

// change does something to a random path.
func (p *project) change() {
	dirs := []string{"src", "src/a", "src/a/b", "src/skipped", "src/new", "src/new/deep", "other", "other/c"}
	pick := func() string { return dirs[p.r.IntN(len(dirs))] }
	file := func() string { return p.at(pick() + "/" + string(rune('k'+p.r.IntN(4)))) }
	switch p.r.IntN(8) {
	case 0, 1:
		_ = os.WriteFile(file(), []byte(fmt.Sprint(p.r.Int())), 0o644)
	case 2: // as editors do
		one, name := p.at(fmt.Sprintf("tmp-%d", p.r.Int())), file()
		p.write(filepath.Base(one), fmt.Sprint(p.r.Int()))
		_ = os.Rename(one, name)
		_ = os.Remove(one)
	case 3:
		_ = os.Remove(file())
	case 4:
		dir := p.at(pick())
		_ = os.MkdirAll(dir, 0o755)
		_ = os.WriteFile(dir+"/k", []byte("new"), 0o644)
	case 5:
		_ = os.RemoveAll(p.at(pick()))
	case 6:
		_ = os.Rename(p.at(pick()), p.at(pick()))
	case 7:
		_ = os.Chmod(file(), 0o600|fs.FileMode(p.r.IntN(8)))
	}
}

// TestNothingIsMissed: whatever is done to a folder, each file of the scope that is other than before is told, by itself or by a folder that it
// lies in; and of what lies outside nothing is.
func TestNothingIsMissed(t *testing.T) {
	byName := below("src", "stop")
	byName.Files.Has = func(p string) bool { // of folders nothing is known
		return within(p, "stop") || within(p, "src") && strings.Contains("klmn", filepath.Base(p)) && !strings.Contains(p, "skipped")
	}
	for name, one := range map[string]struct {
		poll  bool
		scope Scope
	}{"told by the system": {false, below("src", "stop")}, "looked for": {true, below("src", "stop")}, "told, by name": {false, byName}, "looked for, by name": {true, byName}} {
		t.Run(name, func(t *testing.T) {
			scope := one.scope
			p := watched(t, one.poll, scope)
			p.until()
			before := p.state(scope)
			for round := range 150 {
				for range 1 + p.r.IntN(4) {
					p.change()
				}
				c := p.until()
				now := p.state(scope)
				require.False(t, c.All)
				for file := range union(before, now) {
					told := slices.ContainsFunc(c.Paths, func(one string) bool { return one == file || within(file, one) })
					require.True(t, before[file] == now[file] || told, "round %d: %s changed from %q to %q, told: %q", round, file, before[file], now[file], c.Paths)
				}
				for _, one := range c.Paths {
					require.True(t, scope.Files.Has(one) || one == "src" || within(one, "src") && !strings.Contains("klmn", filepath.Base(one)), "%s", one) // a folder that went, too
				}
				before = now
			}
		})
	}
}

func union(one, other map[string]string) map[string]bool {
	all := map[string]bool{}
	for name := range one {
		all[name] = true
	}
	for name := range other {
		all[name] = true
	}
	return all
}

// TestAim: a scope that grows says so, tells of what is in it from then on, and no more of what it lacks.
func TestAim(t *testing.T) {
	for name, poll := range map[string]bool{"told by the system": false, "looked for": true} {
		t.Run(name, func(t *testing.T) {
			p := watched(t, poll, below("src", "stop"))
			p.until()
			p.write("other/c/x", "1")
			require.NotContains(t, p.until().Paths, "other/c/x")
			require.True(t, p.aim(below("other", "stop")))
			require.False(t, p.aim(below("other", "stop")))
			p.write("other/c/x", "2")
			p.write("src/x", "2")
			c := p.until()
			require.Contains(t, c.Paths, "other/c/x")
			require.NotContains(t, c.Paths, "src/x")
			// A file that is named and not there yet, in folders that are not.
			require.False(t, p.aim(below("far/away/file", "stop")))
			require.NoError(t, os.MkdirAll(p.at("far/away"), 0o755))
			p.write("far/away/file", "1")
			require.Contains(t, p.until().Paths, "far/away/file")
		})
	}
}

// TestMark: what happens in another folder counts where the mark is another one then.
func TestMark(t *testing.T) {
	for name, poll := range map[string]bool{"told by the system": false, "looked for": true} {
		t.Run(name, func(t *testing.T) {
			beside := t.TempDir()
			var mark atomic.Int64
			scope := below("src", "stop")
			scope.Beside, scope.Mark = []string{beside}, func() string { return fmt.Sprint(mark.Load()) }
			p := watched(t, poll, scope)
			require.NoError(t, os.WriteFile(filepath.Join(beside, "HEAD"), []byte("x"), 0o644))
			require.False(t, p.until().Mark)
			mark.Add(1)
			require.NoError(t, os.WriteFile(filepath.Join(beside, "HEAD"), []byte("y"), 0o644))
			require.True(t, p.until().Mark)
			require.False(t, p.until().Mark)
			mark.Add(1)
			p.aim(scope) // finds it too
			require.True(t, p.until().Mark)
		})
	}
}

// TestTooMuch: more than the system keeps for those who do not listen is told as everything, and nothing is missed after.
func TestTooMuch(t *testing.T) {
	p := watched(t, false, below("src", "stop"))
	if p.looks() {
		t.Skip("the system tells nothing of this folder")
	}
	p.w.aiming.Lock()
	require.NoError(t, os.Mkdir(p.at("src/held"), 0o755)) // the next one to be looked at, which waits
	for n := range 40_000 {
		if err := os.Mkdir(p.at(fmt.Sprintf("src/a/%d", n%50)), 0o755); err != nil {
			require.NoError(t, os.Remove(p.at(fmt.Sprintf("src/a/%d", n%50))))
		}
	}
	require.NoError(t, os.MkdirAll(p.at("src/late/deep"), 0o755))
	p.w.aiming.Unlock()
	for all := (Changed{}); !all.All; {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		c, err := p.w.Next(ctx)
		cancel()
		require.NoError(t, err)
		all = all.And(c)
	}
	p.write("src/late/deep/file", "1")
	require.Contains(t, p.until().Paths, "src/late/deep/file")
}

// TestGivesUp: where the system tells of no more folders, these are looked at.
func TestGivesUp(t *testing.T) {
	var why atomic.Value
	p := watched(t, false, below("src", "stop"))
	p.w.mutex.Lock()
	p.w.o.Say = func(text string) { why.Store(text) }
	p.w.mutex.Unlock()
	require.NoError(t, p.w.system.Close()) // it takes no folder any more, as when there are too many
	p.aim(below("src", "other", "stop"))
	require.NotEmpty(t, why.Load())
	require.True(t, p.until().All)
	p.write("other/c/x", "1")
	require.Contains(t, p.until().Paths, "other/c/x")
}

// TestRootGone: a folder that goes away is watched again when it is back.
func TestRootGone(t *testing.T) {
	p := watched(t, false, below("src", "stop"))
	p.until()
	require.NoError(t, os.Rename(p.dir, p.dir+"-old"))
	require.Eventually(t, p.looks, 10*time.Second, time.Millisecond)
	require.NoError(t, os.Mkdir(p.dir, 0o755))
	p.until()
	p.write("stop/file", "")
	require.Contains(t, p.until().Paths, "stop/file")
}

// TestNextWaits: what goes on for a while is told at once, and what never ends after the longest time.
func TestNextWaits(t *testing.T) {
	p := watched(t, false, below("src"))
	p.w.o.Quiet, p.w.o.Longest = time.Hour, 400*time.Millisecond // it is never quiet
	began := time.Now()
	stop := make(chan struct{})
	go func() {
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
				_ = os.WriteFile(p.at(fmt.Sprintf("src/%d", n%5)), nil, 0o644)
			}
		}
	}()
	c, err := p.w.Next(t.Context())
	close(stop)
	require.NoError(t, err)
	require.NotEmpty(t, c.Paths)
	require.GreaterOrEqual(t, time.Since(began), 400*time.Millisecond)
}
