package format

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestFormat: blanks move, and nothing else: comments, order, quotes, texts of several lines and one empty line stay.
func TestFormat(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"levels", "a:\n    b:\n        c: 1\n", "a:\n  b:\n    c: 1\n"},
		{"lists", "a:\n- b\n-   c:  1\n    d: 2\n", "a:\n  - b\n  - c: 1\n    d: 2\n"},
		{"deep lists", "a:\n  -   - x\n      -  y\n", "a:\n  - - x\n    - y\n"},
		{"colons", "a:    1\nb:  {c:  d}\n\"e f\":   2\n", "a: 1\nb: {c:  d}\n\"e f\": 2\n"},
		{"ends", "a: 1   \n\n\n\nb: 2\t\n\n\n", "a: 1\n\nb: 2\n"},
		{"line ends", "a: 1\r\nb: 2\r\n", "a: 1\nb: 2\n"},
		{"comments", "# first\na:\n    # of b\n    b: 1   # behind\n    # last of a\n# of c\nc: 2\n", "# first\na:\n  # of b\n  b: 1   # behind\n  # last of a\n# of c\nc: 2\n"},
		{"a comment in a list", "a:\n# of b\n- b\n", "a:\n  # of b\n  - b\n"},
		{"texts", "a:\n    b: |\n        one\n\n\n          two  \n    c: >-\n        three\n", "a:\n  b: |\n      one\n\n\n        two  \n  c: >-\n      three\n"},
		{"texts of a list", "a:\n- |\n  one\n- b: |\n    two\n", "a:\n  - |\n    one\n  - b: |\n      two\n"},
		{"folded quotes", "a:\n    b: \"one\n      two\"\n    c: 1\n", "a:\n  b: \"one\n    two\"\n  c: 1\n"},
		{"flow over lines", "a:\n    b: [1,\n        2]\n    c: {d: 1,\n      e: 2}\n", "a:\n  b: [1,\n      2]\n  c: {d: 1,\n    e: 2}\n"},
		{"anchors", "a:   &x\n    b: 1\nc:\n    <<: *x\n    d: *x\n", "a: &x\n  b: 1\nc:\n  <<: *x\n  d: *x\n"},
		{"values below", "a:\n      one\nb:\n    -\n        c: 1\n", "a:\n  one\nb:\n  -\n    c: 1\n"},
		{"a hash in a text", "a:\n    b: |\n        # no comment\n        x\n", "a:\n  b: |\n      # no comment\n      x\n"},
		{"anchors of what is included", "a:\n    b:   *c\nd: [*c, *e]\n", "a:\n  b: *c\nd: [*c, *e]\n"},
		{"nothing", "", ""},
		{"comments alone", "# a\n", "# a\n"},
	} {
		got, err := Format([]byte(c.text))
		require.NoError(t, err, c.name)
		require.Equal(t, c.want, string(got), c.name)
		again, err := Format(got)
		require.NoError(t, err)
		require.Equal(t, c.want, string(again), c.name)
	}
	for _, wrong := range []string{"a: [", "a: 1\n---\nb: 2\n", "a:\n\tb: 1\n"} {
		_, err := Format([]byte(wrong))
		require.Error(t, err, wrong)
	}
}

// recipes are all that the project has.
func recipes(t *testing.T) (all []string) {
	for _, pattern := range []string{"../../../docs/recipes/*.yaml", "../../../demo/tideline/*.yaml", "../../../e2e/testdata/*.txtar", "../../../e2e/testdata/run/*.txtar"} {
		names, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, name := range names {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			if strings.HasSuffix(name, ".yaml") {
				all = append(all, string(text))
				continue
			}
			for _, f := range txtar.Parse(text).Files {
				if strings.HasSuffix(f.Name, ".yaml") {
					all = append(all, string(f.Data))
				}
			}
		}
	}
	require.Greater(t, len(all), 50)
	return all
}

// TestMeaningStays: of every recipe of the project, with its blanks disturbed, the form has the same values in the same order with the same
// comments, is its own form, and does not depend on how the blanks were.
func TestMeaningStays(t *testing.T) {
	all := recipes(t)
	formed := 0
	for _, text := range all {
		if _, err := parse([]byte(text)); err != nil {
			continue // a test of mistakes
		}
		got, err := Format([]byte(text))
		require.NoError(t, err, text)
		formed++
		again, err := Format(got)
		require.NoError(t, err)
		require.Equal(t, string(got), string(again))
		require.Equal(t, bare(text), bare(string(got)), "something else than blanks changed")
	}
	require.Greater(t, formed, 50)
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SampledFrom(all).Draw(t, "recipe")
		by := rapid.IntRange(1, 4).Draw(t, "blanks of a level")
		before, err := parse([]byte(text))
		if err != nil || before == nil {
			return
		}
		form, err := Format([]byte(text))
		require.NoError(t, err)
		var wide []string
		for line := range strings.Lines(string(form)) {
			wide = append(wide, strings.Repeat(" ", blanks(line)/indent*by+blanks(line)%indent)+strings.TrimLeft(line, " "))
		}
		other := strings.Join(wide, "")
		after, err := parse([]byte(other))
		if err != nil || after == nil || !same(before, after, 0) {
			return // the blanks counted
		}
		got, err := Format([]byte(other))
		require.NoError(t, err, other)
		now, err := parse(got)
		require.NoError(t, err)
		require.True(t, same(before, now, 0))
	})
}

var anyBlanks = regexp.MustCompile(`[ \t\r\n]+`)

// bare is a text without blanks.
func bare(text string) string { return anyBlanks.ReplaceAllString(text, "") }

// FuzzFormat: whatever the text is, its form has the same values and is its own form, or there is none.
func FuzzFormat(f *testing.F) {
	f.Add([]byte("a:\n    b: |2\n          x\n    # c\n-   d\n"))
	f.Add([]byte("? a\n:   b\n"))
	f.Add([]byte("a: &x\n  - *x\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		got, err := Format(text)
		if err != nil || len(got) == 0 {
			return
		}
		before, err := parse([]byte(strings.ReplaceAll(string(text), "\r\n", "\n")))
		require.NoError(t, err)
		after, err := parse(got)
		require.NoError(t, err)
		if before != nil {
			require.True(t, same(before, after, 0))
		}
		again, err := Format(got)
		require.NoError(t, err, "%q", got)
		require.Equal(t, string(got), string(again))
	})
}
