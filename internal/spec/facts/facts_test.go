package facts

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/paths"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/recipe"
)

func gitIn(t *testing.T, dir, date string, args ...string) string {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	c := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=Tideline", "-c", "user.email=o@tideline.example"}, args...)...)
	c.Env = append(os.Environ(), "GIT_AUTHOR_DATE="+date, "GIT_COMMITTER_DATE="+date, "GIT_CONFIG_GLOBAL=/dev/null")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.TrimSpace(string(out))
}

func commit(t *testing.T, dir, date string, names ...string) {
	for _, name := range names {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(date), 0o644))
	}
	gitIn(t, dir, date, "add", "-A")
	gitIn(t, dir, date, "commit", "-q", "-m", date)
}

// TestNewestCommit: the newest commit that touched a path, over merges, subfolders and shallow clones.
func TestNewestCommit(t *testing.T) {
	dir := t.TempDir()
	gitIn(t, dir, "", "init", "-q", "-b", "trunk")
	commit(t, dir, "2026-01-01T00:00:00Z", "gauge/a", "almanac/a")
	commit(t, dir, "2026-01-02T00:00:00Z", "gauge/b")
	gitIn(t, dir, "", "checkout", "-q", "-b", "side")
	commit(t, dir, "2026-01-03T00:00:00Z", "almanac/b")
	gitIn(t, dir, "", "checkout", "-q", "trunk")
	commit(t, dir, "2026-01-04T00:00:00Z", "other")
	gitIn(t, dir, "2026-01-05T00:00:00Z", "merge", "-q", "--no-ff", "-m", "merge", "side")
	commit(t, dir, "2026-01-06T00:00:00Z", "last")
	newest := func(dir, prefix string) string {
		g, err := openGit(dir)
		require.NoError(t, err)
		newest, known, err := g.Newest(context.Background(), paths.Set{Has: func(path string) bool { return strings.HasPrefix(path, prefix) }})
		require.NoError(t, err)
		if !known {
			return "never"
		}
		return newest.When.Format("01-02")
	}
	for prefix, want := range map[string]string{"": "01-06", "gauge/": "01-02", "almanac/": "01-03", "other": "01-04", "gauge/a": "01-01", "nosuch": "01-06"} {
		require.Equal(t, want, newest(dir, prefix), prefix)
	}
	require.Equal(t, "01-02", newest(filepath.Join(dir, "gauge"), "b"), "paths are relative to the project folder")
	whole, err := openGit(dir)
	require.NoError(t, err)
	_, _, err = whole.Newest(context.Background(), paths.Set{Has: func(path string) bool { return path == "gauge/a" }, Below: []string{"gauge/a"}})
	require.NoError(t, err)
	require.False(t, whole.Guessed())
	require.False(t, whole.Shallow())
	shallow := filepath.Join(t.TempDir(), "shallow")
	gitIn(t, dir, "", "clone", "-q", "--depth", "1", "file://"+dir, shallow)
	require.Equal(t, "01-06", newest(shallow, "gauge/"), "the end of a shallow clone counts as having touched everything")
	cut, err := openGit(shallow)
	require.NoError(t, err)
	_, _, err = cut.Newest(context.Background(), paths.Set{Has: func(path string) bool { return path == "gauge/a" }, Below: []string{"gauge/a"}})
	require.NoError(t, err)
	require.True(t, cut.Guessed())
	require.True(t, cut.Shallow())
	require.Equal(t, "never", newest(t.TempDir(), ""))

	g, err := openGit(dir)
	require.NoError(t, err)
	dirty, err := g.Dirty()
	require.NoError(t, err)
	require.False(t, dirty)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new"), nil, 0o644))
	dirty, err = g.Dirty()
	require.NoError(t, err)
	require.True(t, dirty)
	// A work tree of its own beside the repository.
	gitIn(t, dir, "", "worktree", "add", "-q", dir+"-tree", "side")
	require.Equal(t, "01-03", newest(dir+"-tree", "almanac/"))
}

func TestNaturalOrder(t *testing.T) {
	tags := []string{"v1.10.0", "v1.9.0", "v1.9.0-rc.2", "v1.9.0-rc.10", "v1.09", "a", "2", "10", ""}
	sort.Slice(tags, func(i, j int) bool { return lessNatural(tags[i], tags[j]) })
	require.Equal(t, []string{"", "2", "10", "a", "v1.09", "v1.9.0", "v1.9.0-rc.2", "v1.9.0-rc.10", "v1.10.0"}, tags)
}

func TestScope(t *testing.T) {
	gather := func(facts string, given map[string]string, env ...string) (map[string]any, error) {
		r, err := recipe.Parse("r.yaml", []byte("imbricat: 1\nfacts: {"+facts+"}\nimages: {a: {base: none}}"))
		require.NoError(t, err)
		f, err := Gather(r, Options{Dir: t.TempDir(), Given: given, Now: func() time.Time { return time.Unix(1798848000, 0) }, Lookup: func(name string) (string, bool) {
			for _, pair := range env {
				if value, found := strings.CutPrefix(pair, name+"="); found {
					return value, true
				}
			}
			return "", false
		}})
		if err != nil {
			return nil, err
		}
		s, err := f.Scope("", platform.Platform{OS: "linux", Architecture: "arm64"})
		if err != nil {
			return nil, err
		}
		return s.Facts, nil
	}
	got, err := gather(`a: "${facts.b}!", b: "${env.X}", c: "${platform.architecture}", d: 1.10, e: "${1 + 1}"`, nil, "X=high")
	require.NoError(t, err)
	require.Equal(t, map[string]any{"a": "high!", "b": "high", "c": "arm64", "d": "1.10", "e": 2}, got)
	got, err = gather(`a: "${facts.b}!", b: "${env.X}"`, map[string]string{"b": "given"})
	require.NoError(t, err, "what is given by hand needs no environment")
	require.Equal(t, "given!", got["a"])
	got, err = gather(`a: "${date.iso} ${date.plain} ${date.minute} ${date.year}/${date.month}/${date.day}", b: "run-${run.number}", c: "${tag('a/b')}"`, nil, "SOURCE_DATE_EPOCH=1798761600", "IMBRICAT_RUN_NUMBER=7")
	require.NoError(t, err)
	require.Equal(t, map[string]any{"a": "2027-01-01 20270101 20270101-0000 2027/01/01", "b": "run-7", "c": "a-b"}, got)
	got, err = gather(`a: "${date.week}"`, nil, "SOURCE_DATE_EPOCH=1798761600")
	require.NoError(t, err)
	require.Equal(t, "2026-W53", got["a"], "the first of January 2027 lies in the last week of 2026, by ISO 8601")
	require.Equal(t, "20270102 2027-W01 20270104", func() string {
		sunday, monday := dateFields(time.Unix(1798848000, 0).UTC()), dateFields(time.Unix(1799020800, 0).UTC())
		return fmt.Sprint(sunday["plain"], " ", monday["week"], " ", monday["plain"])
	}())
	_, err = gather(`a: "${date.iso}${run.number}"`, nil)
	require.ErrorContains(t, err, "date.iso is not known here: the project folder has no commit, and SOURCE_DATE_EPOCH is not set")
	_, err = gather(`a: "${run.number}"`, nil)
	require.ErrorContains(t, err, "run.number is not known here: set IMBRICAT_RUN_NUMBER; or give a default")
	_, err = gather(`a: "${facts.b}", b: "${facts.a}"`, nil)
	require.ErrorContains(t, err, `the fact "a" needs itself: a needs b needs a`)
	_, err = gather(`a: "${env.X}"`, nil)
	require.ErrorContains(t, err, "r.yaml:2:13: the environment variable X is not set")
	_, err = gather(`version: "1"`, map[string]string{"versoin": "2"})
	require.EqualError(t, err, `the recipe has no fact "versoin": did you mean "version"?`)
	for _, epoch := range []string{"soon", "-1", "99999999999999"} {
		_, err = gather(`a: b`, nil, "SOURCE_DATE_EPOCH="+epoch)
		require.ErrorContains(t, err, "want whole seconds since 1970")
	}
}

// TestLog: every commit that touched a path, oldest first, over merges, subfolders and shallow clones; and what a commit has.
func TestLog(t *testing.T) {
	dir := t.TempDir()
	gitIn(t, dir, "", "init", "-q", "-b", "trunk")
	commit(t, dir, "2026-01-01T00:00:00Z", "gauge/a", "almanac/a")
	commit(t, dir, "2026-01-02T00:00:00Z", "gauge/b")
	gitIn(t, dir, "", "tag", "1.9.0")
	gitIn(t, dir, "", "tag", "-a", "-m", "ten", "1.10.0")
	gitIn(t, dir, "", "checkout", "-q", "-b", "side")
	commit(t, dir, "2026-01-03T00:00:00Z", "gauge/a", "almanac/b")
	gitIn(t, dir, "", "checkout", "-q", "trunk")
	commit(t, dir, "2026-01-04T00:00:00Z", "other")
	gitIn(t, dir, "2026-01-05T00:00:00Z", "merge", "-q", "--no-ff", "-m", "merge", "side")
	log := func(dir, prefix string, most int) (lines []string, shallow bool) {
		g, err := openGit(dir)
		require.NoError(t, err)
		commits, shallow, err := g.Log(context.Background(), most, func(path string) bool { return strings.HasPrefix(path, prefix) })
		require.NoError(t, err)
		for _, c := range commits {
			lines = append(lines, strings.TrimSpace(c.When.Format("01-02 ")+strings.Join(c.Paths, " ")+" "+c.Tag))
		}
		return lines, shallow
	}
	lines, shallow := log(dir, "gauge/", 99)
	require.Equal(t, []string{"01-01 gauge/a", "01-02 gauge/b 1.10.0", "01-03 gauge/a"}, lines, "the merge touched nothing itself")
	require.False(t, shallow)
	lines, _ = log(dir, "gauge/", 2)
	require.Equal(t, []string{"01-02 gauge/b 1.10.0", "01-03 gauge/a"}, lines)
	lines, _ = log(filepath.Join(dir, "almanac"), "", 99)
	require.Equal(t, []string{"01-01 a", "01-03 b"}, lines, "paths are relative to the project folder")
	clone := filepath.Join(t.TempDir(), "shallow")
	gitIn(t, dir, "", "clone", "-q", "--depth", "2", "file://"+dir, clone)
	lines, shallow = log(clone, "", 99)
	require.True(t, shallow)
	require.NotContains(t, strings.Join(lines, ","), "01-01", "what made everything is not there, and nothing else stands for it")

	g, err := openGit(dir)
	require.NoError(t, err)
	early, err := g.Resolve("1.9.0")
	require.NoError(t, err)
	blobs, err := g.Blobs(context.Background(), early, func(path string) bool { return path != "almanac/a" })
	require.NoError(t, err)
	require.Len(t, blobs, 2)
	require.Equal(t, int64(len("2026-01-01T00:00:00Z")), blobs["gauge/a"].Size)
	for commit, want := range map[string]bool{early: true, g.Commit: false} {
		before, err := g.IsAncestor(commit, early)
		require.NoError(t, err)
		require.Equal(t, want, before)
	}
	_, err = g.Resolve("nowhere")
	require.ErrorContains(t, err, `"nowhere" names no commit`)
}

// commitNotes is a memory of commits that counts what is kept.
type commitNotes struct {
	text []byte
	kept int
}

func (n *commitNotes) Memo(string) ([]byte, bool) { return n.text, n.text != nil }

func (n *commitNotes) PutMemo(_ string, text []byte) error {
	n.text, n.kept = text, n.kept+1
	return nil
}

// TestRememberedCommits: history tells the same whether commits were remembered, are met anew, or what was remembered is damaged, over
// branches, merges and shallow clones; and what was remembered is not worked out again.
func TestRememberedCommits(t *testing.T) {
	dir := t.TempDir()
	gitIn(t, dir, "", "init", "-q", "-b", "trunk")
	day := func(n int) string { return fmt.Sprintf("2026-01-%02dT00:00:00Z", n) }
	for n := range 12 {
		if n%4 == 1 {
			gitIn(t, dir, "", "checkout", "-q", "-b", fmt.Sprint("side-", n))
		}
		commit(t, dir, day(2*n+1), fmt.Sprintf("gauge/%d", n%5), fmt.Sprintf("almanac/low \"%d\"", n%3))
		if n%4 == 3 {
			gitIn(t, dir, "", "checkout", "-q", "trunk")
			commit(t, dir, day(2*n+2), "trunk")
			gitIn(t, dir, day(2*n+3), "merge", "-q", "--no-ff", "-m", "merge", fmt.Sprint("side-", n-2))
		}
	}
	shallow := filepath.Join(t.TempDir(), "shallow")
	gitIn(t, dir, "", "clone", "-q", "--depth", "4", "file://"+dir, shallow)
	tell := func(dir string, notes CommitMemory) string {
		g, err := openGit(dir)
		require.NoError(t, err)
		if notes != nil {
			g.RememberCommits(notes)
		}
		var out strings.Builder
		for _, below := range []string{"", "gauge/", "almanac/", "trunk", "nothing"} {
			touches := func(path string) bool { return strings.HasPrefix(path, below) }
			commits, cut, err := g.Log(t.Context(), 7, touches)
			require.NoError(t, err)
			newest, known, err := g.Newest(t.Context(), paths.Set{Has: touches})
			require.NoError(t, err)
			if in, is := strings.CutSuffix(below, "/"); is {
				searched, _, err := g.Newest(t.Context(), paths.Set{Has: touches, Below: []string{"nowhere", in}})
				require.NoError(t, err)
				require.Equal(t, newest, searched)
			}
			fmt.Fprintf(&out, "%s: %q %t, %s %t %t\n", below, commits, cut, newest, known, g.Guessed())
		}
		times, err := g.Times(t.Context())
		require.NoError(t, err)
		fmt.Fprint(&out, times)
		return out.String()
	}
	notes := &commitNotes{}
	for _, folder := range []string{dir, filepath.Join(dir, "gauge"), shallow} {
		want := tell(folder, nil)
		require.Contains(t, want, "2026-01-")
		require.Equal(t, want, tell(folder, notes), folder)
		kept := notes.kept
		require.Equal(t, want, tell(folder, notes), folder)
		require.Equal(t, kept, notes.kept, "nothing new was learnt")
	}
	// A merge of two branches that changed different files differs from each of them, though no file does from both.
	merge := filepath.Join(t.TempDir(), "merge")
	require.NoError(t, os.Mkdir(merge, 0o755))
	gitIn(t, merge, "", "init", "-q", "-b", "trunk")
	commit(t, merge, day(1), "first")
	gitIn(t, merge, "", "checkout", "-q", "-b", "side")
	commit(t, merge, day(2), "gauge/a")
	gitIn(t, merge, "", "checkout", "-q", "trunk")
	commit(t, merge, day(3), "gauge/b")
	gitIn(t, merge, day(4), "merge", "-q", "--no-ff", "-m", "merge", "side")
	commit(t, merge, day(5), "almanac")
	for range 2 {
		g, err := openGit(merge)
		require.NoError(t, err)
		g.RememberCommits(notes)
		newest := func(below string) string {
			newest, _, err := g.Newest(t.Context(), paths.Set{Has: func(path string) bool { return strings.HasPrefix(path, below) }})
			require.NoError(t, err)
			return newest.When.Format("02")
		}
		require.Equal(t, []string{"04", "02", "03", "01", "05"}, []string{newest("gauge/"), newest("gauge/a"), newest("gauge/b"), newest("first"), newest("")})
		commits, _, err := g.Log(t.Context(), 10, func(path string) bool { return strings.HasPrefix(path, "gauge/") })
		require.NoError(t, err)
		require.Len(t, commits, 2, "no path is the merge's own")
	}
	whole := notes.text
	for _, damaged := range []string{"", "imbricat commits 0\n", commitsHead + "x 1\n", commitsHead + "\t\"a\"\n", commitsHead + "\n", string(whole) + "\tx\n", string(whole) + strings.Repeat("0", 40) + " soon\n"} {
		require.Equal(t, tell(dir, nil), tell(dir, &commitNotes{text: []byte(damaged)}), damaged)
	}
	require.Empty(t, decodeCommits(string(whole)+"\tx\n"))
}
