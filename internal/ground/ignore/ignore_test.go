package ignore

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestMatchAll(t *testing.T) {
	cases := []struct {
		patterns, path string
		folder, out    bool
	}{
		{"*.log", "a/b/tide.log", false, true},
		{"*.log\n!keep.log", "a/keep.log", false, false},
		{"/tmp/", "tmp", true, true},
		{"/tmp/", "tmp", false, false},
		{"/tmp/", "a/tmp", true, false},
		{"tmp/\n!tmp/x", "tmp/x", false, true},
		{"pages/**", "pages", true, false},
		{"pages/**", "pages/a/b", false, true},
		{"a/**/z", "a/z", false, true},
		{"a/**/z", "a/b/c/z", false, true},
		{"**/z", "z", false, true},
		{`\!odd`, "!odd", false, true},
		{"[a-c]x", "bx", false, true},
		{"[!a-c]x", "bx", false, false},
		{"a?c", "a/c", false, false},
		{"trail  ", "trail", false, true},
		{`keep\ `, "keep ", false, true},
		{"[abc", "[abc", false, false},
		{"# note", "# note", false, false},
	}
	for _, c := range cases {
		require.Equal(t, c.out, New(Lines(c.patterns)...).MatchAll(c.path, c.folder), "%q on %q", c.patterns, c.path)
	}
}

func TestWithIsRelativeToItsFolder(t *testing.T) {
	m := New("*.o").With("gauge", "/out", "!keep.o")
	require.True(t, m.MatchAll("gauge/out", true))
	require.False(t, m.MatchAll("out", true))
	require.False(t, m.MatchAll("gauge/keep.o", false))
	require.True(t, m.MatchAll("keep.o", false))
}

var gluedStars = regexp.MustCompile(`([^/!])\*{2,}(/|$)`)

// TestAgreesWithGit holds random patterns and paths against git's own answer.
func TestAgreesWithGit(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	dir := t.TempDir()
	require.NoError(t, exec.Command("git", "-C", dir, "init", "-q").Run())
	piece := rapid.SampledFrom([]string{"a", "b", "ab", "*", "**", "?", "/", "/", "[ab]", "[!a]", "[a-]", "[]b]", "!", "#", ".", `\a`, `\*`, " ", "*.a", "-", "[[:alpha:]]", "[+-9]"})
	part := rapid.SampledFrom([]string{"a", "b", "ab", "ba", "a.a", "b.a", "]", "-", "#a", "!b", "a b", "5"})
	rapid.Check(t, func(r *rapid.T) {
		var lines []string
		for range rapid.IntRange(1, 4).Draw(r, "lines") {
			line := strings.Join(rapid.SliceOfN(piece, 1, 6).Draw(r, "pattern"), "")
			// Git takes the stars of "a**/b" for an element of their own, against its documentation.
			lines = append(lines, gluedStars.ReplaceAllString(line, "$1*$2"))
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".gitignore"), []byte(strings.Join(lines, "\n")+"\n"), 0o644))
		var paths []string
		for range 12 {
			paths = append(paths, strings.Join(rapid.SliceOfN(part, 1, 4).Draw(r, "path"), "/"))
		}
		check := exec.Command("git", "-C", dir, "-c", "core.excludesFile=/dev/null", "check-ignore", "--no-index", "--stdin", "-z", "-v", "-n")
		check.Stdin = strings.NewReader(strings.Join(paths, "\x00") + "\x00")
		answer, _ := check.Output()
		fields := strings.Split(string(answer), "\x00")
		require.GreaterOrEqual(t, len(fields), 4*len(paths))
		matcher := New(lines...)
		for i, path := range paths {
			pattern := fields[4*i+2]
			want := pattern != "" && !strings.HasPrefix(pattern, "!")
			require.Equal(t, want, matcher.MatchAll(path, false), "patterns %q, path %q, git matched %q", lines, path, pattern)
		}
	})
}
