package facts

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"imbricat/internal/content/tree"

	"github.com/stretchr/testify/require"
)

// statusOfGit is what git itself says of a work tree.
func statusOfGit(t *testing.T, dir string) (s status) {
	c := exec.Command("git", "-C", dir, "--no-optional-locks", "status", "--porcelain=v1", "-z", "--no-renames", "--untracked-files=all", "--ignore-submodules=none")
	c.Env = append(os.Environ(), "GIT_CONFIG_SYSTEM=/dev/null")
	out, err := c.Output()
	require.NoError(t, err)
	for line := range strings.SplitSeq(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		switch {
		case line == "":
		case line[:2] == "??":
			s.untracked = append(s.untracked, line[3:])
		default:
			s.changed = append(s.changed, line[3:])
		}
	}
	slices.Sort(s.changed)
	slices.Sort(s.untracked)
	s.untracked = slices.DeleteFunc(s.untracked, func(name string) bool { return slices.Contains(s.changed, name) })
	return s
}

// TestStatus: after random edits of a work tree it differs from the commit as git itself says.
func TestStatus(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(home, ".config"))
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".config/git"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".config/git/ignore"), []byte("*.swp\n"), 0o644))
	seen := map[string]int{}
	for seed := range uint64(25) {
		r := rand.New(rand.NewPCG(seed, 5))
		dir := t.TempDir()
		if seed%5 == 4 { // in a work tree of its own
			main := filepath.Join(t.TempDir(), "main")
			gitIn(t, t.TempDir(), "", "init", "-q", "-b", "trunk", main)
			commit(t, main, "2026-01-01T00:00:00Z", "first")
			dir = filepath.Join(dir, "beside")
			gitIn(t, main, "", "worktree", "add", "-q", dir)
		} else {
			gitIn(t, dir, "", "init", "-q", "-b", "trunk")
		}
		places := []string{"gauge", "tides.txt", "sea/north", "sea/south/run.sh", "sea/notes.tmp", "out/almanac", "out/deep/moon", "sea/keep.tmp", "link", "draft.swp"}
		for _, name := range places[:4+r.IntN(6)] {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644))
		}
		if r.IntN(2) == 0 {
			require.NoError(t, os.WriteFile(filepath.Join(dir, ".gitignore"), []byte("*.tmp\n/out/\n!keep.tmp\n"), 0o644))
		}
		if r.IntN(2) == 0 {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "sea/.gitignore"), []byte("!notes.tmp\nsouth/*\n"), 0o644))
		}
		gitIn(t, dir, "", "add", "-A", "-f")
		gitIn(t, dir, "2026-01-02T00:00:00Z", "commit", "-q", "-m", "tides")
		if r.IntN(2) == 0 {
			time.Sleep(15 * time.Millisecond) // so that what is edited is not as young as the index
			gitIn(t, dir, "", "update-index", "-q", "--refresh")
		}
		for round := range 14 {
			name := filepath.Join(dir, places[r.IntN(len(places))])
			what := []string{"edit", "longer", "touch", "chmod", "delete", "link", "folder", "add", "uncache", "meant", "commit", "gone", "behind", "reset", "soft"}[r.IntN(15)]
			seen[what]++
			switch what {
			case "edit", "longer":
				if old, err := os.ReadFile(name); err == nil && what == "edit" && len(old) > 0 {
					old[0]++
					_ = os.WriteFile(name, old, 0o644)
				} else {
					_ = os.MkdirAll(filepath.Dir(name), 0o755)
					_ = os.WriteFile(name, fmt.Append(old, round), 0o644)
				}
			case "touch":
				_ = os.Chtimes(name, time.Now(), time.Unix(1767225600, 0))
			case "chmod":
				_ = os.Chmod(name, 0o755)
			case "delete":
				_ = os.Remove(name)
			case "link":
				_ = os.Remove(name)
				_ = os.Symlink("gauge", name)
			case "folder":
				_ = os.Remove(name)
				_ = os.MkdirAll(name, 0o755)
				_ = os.WriteFile(filepath.Join(name, "inner"), nil, 0o644)
			case "add":
				gitIn(t, dir, "", "add", "-A")
			case "uncache":
				gitIn(t, dir, "", "rm", "-rq", "--cached", "--ignore-unmatch", "sea/south")
			case "meant":
				require.NoError(t, os.WriteFile(filepath.Join(dir, "meant"), nil, 0o644))
				gitIn(t, dir, "", "add", "-N", "meant")
			case "commit":
				gitIn(t, dir, "2026-01-03T00:00:00Z", "commit", "-qa", "--allow-empty", "-m", "more")
			case "gone":
				_ = os.RemoveAll(filepath.Dir(name) + "/deep")
			case "behind": // what is there by way of a link is not there
				if info, err := os.Lstat(filepath.Join(dir, "sea")); err != nil || !info.IsDir() {
					continue
				}
				_ = os.RemoveAll(filepath.Join(dir, "away"))
				if os.Rename(filepath.Join(dir, "sea"), filepath.Join(dir, "away")) == nil {
					_ = os.Symlink("away", filepath.Join(dir, "sea"))
				}
			case "soft": // the index is that of a commit, and not of this one
				gitIn(t, dir, "2026-01-04T00:00:00Z", "commit", "-qa", "--allow-empty", "-m", "taken back")
				gitIn(t, dir, "", "reset", "-q", "--soft", "HEAD~1")
			case "reset":
				gitIn(t, dir, "", "reset", "-q", "--hard")
			}
			g, err := openGit(dir)
			require.NoError(t, err)
			got, err := g.status()
			require.NoError(t, err)
			require.Equal(t, statusOfGit(t, dir), got, "seed %d, round %d, after %s of %s", seed, round, what, name)
		}
	}
	require.Len(t, seen, 15)
}

// TestStatusOfOthers: repositories within this one, merges that are not done, modes that do not count, patterns of one's own.
func TestStatusOfOthers(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", "")
	library, dir := t.TempDir(), t.TempDir()
	gitIn(t, library, "", "init", "-q", "-b", "trunk")
	commit(t, library, "2026-01-01T00:00:00Z", "astro.c")
	gitIn(t, dir, "", "init", "-q", "-b", "trunk")
	commit(t, dir, "2026-01-01T00:00:00Z", "tides", "run.sh")
	gitIn(t, dir, "", "-c", "protocol.file.allow=always", "submodule", "--quiet", "add", library, "astro")
	gitIn(t, dir, "2026-01-02T00:00:00Z", "commit", "-qm", "astro")
	is := func(want status, say string) {
		t.Helper()
		g, err := openGit(dir)
		require.NoError(t, err)
		got, err := g.status()
		require.NoError(t, err)
		require.Equal(t, want, got, say)
		require.Equal(t, statusOfGit(t, dir), got, "git: %s", say)
	}
	inner := filepath.Join(dir, "astro")
	is(status{}, "as it was committed")
	require.NoError(t, os.WriteFile(filepath.Join(inner, "moon.c"), nil, 0o644))
	is(status{changed: []string{"astro"}}, "a new file in the other repository")
	commit(t, inner, "2026-01-03T00:00:00Z", "moon.c")
	is(status{changed: []string{"astro"}}, "another commit of it")
	gitIn(t, dir, "", "submodule", "--quiet", "deinit", "-f", "astro")
	is(status{}, "it was never brought")
	require.NoError(t, os.Remove(inner))
	is(status{changed: []string{"astro"}}, "it is gone")
	gitIn(t, dir, "", "reset", "-q", "--hard")

	require.NoError(t, os.Chmod(filepath.Join(dir, "run.sh"), 0o755))
	is(status{changed: []string{"run.sh"}}, "a mode")
	gitIn(t, dir, "", "config", "core.fileMode", "false")
	is(status{}, "modes do not count")
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".git/info/exclude"), []byte("/mine\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "patterns"), []byte("patterns\n/mine*\n"), 0o644))
	gitIn(t, dir, "", "config", "core.excludesFile", filepath.Join(dir, "patterns"))
	for _, name := range []string{"mine", "mine too", "new\nline"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	is(status{untracked: []string{"new\nline"}}, "patterns of one's own")
	require.NoError(t, os.Remove(filepath.Join(dir, "new\nline")))

	for i, branch := range []string{"north", "south"} {
		gitIn(t, dir, "", "checkout", "-q", "-b", branch, "trunk")
		commit(t, dir, fmt.Sprintf("2026-01-0%dT00:00:00Z", 4+i), "tides")
	}
	require.Error(t, exec.Command("git", "-C", dir, "-c", "user.name=T", "-c", "user.email=t@tideline.example", "merge", "-q", "north").Run())
	is(status{changed: []string{"tides"}}, "a merge that is not done")
	// What was written as late as the index is read, whatever its times say.
	gitIn(t, dir, "", "reset", "-q", "--hard")
	is(status{}, "taken back")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides"), []byte("2026-01-05T00:00:01Z"), 0o644))
	late := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "tides"), late, late))
	source, err := tree.OpenSource(dir, tree.SourceOptions{})
	require.NoError(t, err)
	defer source.Close()
	survey, err := source.Pick("tides", tree.PickOptions{})
	require.NoError(t, err)
	stat := survey.Picked[0].Stat
	g, err := openGit(dir)
	require.NoError(t, err)
	idx, err := g.repo.Storer.Index()
	require.NoError(t, err)
	e, err := idx.Entry("tides")
	require.NoError(t, err)
	e.ModifiedAt, e.CreatedAt, e.Size, e.Inode = late, time.Unix(0, stat.Change), uint32(stat.Size), uint32(stat.Inode)
	require.NoError(t, g.repo.Storer.SetIndex(idx))
	got, err := g.status()
	require.NoError(t, err)
	require.Equal(t, status{changed: []string{"tides"}}, got)
	// Without an index all that the commit has is gone from it.
	require.NoError(t, os.Remove(filepath.Join(dir, ".git/index")))
	dirty, err := g.Dirty()
	require.NoError(t, err)
	require.True(t, dirty)
}
