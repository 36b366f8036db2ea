package engine

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/count"
	"imbricat/internal/spec/division"
)

var update = flag.Bool("update", false, "write what is counted now as what is wanted")

// TestCounts: how much a build opens, hashes, composes, divides, packs and syncs, for some builds, is as testdata/counts.txt says. A number
// that rises is work which is done twice: look for it before you run `go test -run TestCounts -update`.
func TestCounts(t *testing.T) {
	s := newSite(t)
	s.later = time.Hour
	for n := range 24 {
		s.write(fmt.Sprintf("data/d%d/f%02d", n%4, n), strings.Repeat(fmt.Sprint("high water ", n, "\n"), 40_000))
	}
	for n := range 20 {
		s.write(fmt.Sprintf("pages/%d", n), strings.Repeat("low water\n", n+1))
	}
	recipe := func(more string) string {
		return "imbricat: 1\nstages:\n  tables: {base: none, steps: [{copy: {from: pages, to: /p}}]}\nimages:\n" +
			"  gauge: {base: none, platforms: [linux/amd64, linux/arm64], steps: [{copy: {from: data, to: /d}}, {take: {from: tables, path: /p, to: /q}}" + more + "]}\n" +
			"  almanac: {base: {stage: tables}, platforms: [linux/amd64], steps: [{write: {to: /a, text: a}}]}\n"
	}
	rules, err := division.New([][]string{{"/"}, {"/d/d0/", "/d/d1/"}, {"/q/"}})
	require.NoError(t, err)
	var table strings.Builder
	counted := func(name string, act func()) {
		before := count.Counts()
		act()
		fmt.Fprintf(&table, "%s\n", name)
		for i, c := range count.Counts() {
			if n := c.N - before[i].N; n != 0 {
				fmt.Fprintf(&table, "  %-28s %d\n", c.Name, n)
			}
		}
	}
	build := func(name, text string) {
		counted(name, func() {
			_, err := s.build(text)
			require.NoError(t, err)
		})
	}
	build("first build", recipe(""))
	build("nothing changed", recipe(""))
	s.write("data/d1/f05", strings.Repeat("high water 5 \n", 40_000))
	build("one file of a large copy changed", recipe(""))
	s.write("data/d2/new", strings.Repeat("high water", 10))
	build("one file came", recipe(""))
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(s.dir, "pages/3"), past, past))
	build("a file was touched", recipe(""))
	s.write("pages/3", "low")
	build("one file of a stage changed", recipe(""))
	build("a step came", recipe(", {write: {to: /w, text: w}}"))
	build("nothing changed then", recipe(", {write: {to: /w, text: w}}"))
	s.divisions = map[string]*division.Rules{"gauge": rules}
	build("a lock came", recipe(""))
	build("nothing changed with a lock", recipe(""))
	s.divisions = nil
	build("the lock went", recipe(""))
	memos, err := filepath.Glob(filepath.Join(s.store.Dir(), "imbricat/memo/files-*"))
	require.NoError(t, err)
	require.Len(t, memos, 1)
	require.NoError(t, os.Remove(memos[0]))
	require.NoError(t, os.Rename(filepath.Join(s.dir, "data"), filepath.Join(s.dir, "old")))
	require.NoError(t, os.CopyFS(filepath.Join(s.dir, "data"), os.DirFS(filepath.Join(s.dir, "old"))))
	build("the files were checked out anew", recipe(""))
	many := "imbricat: 1\nimages:\n"
	for n := range 20 {
		many += fmt.Sprintf("  image%d: {base: none, platforms: [linux/amd64], steps: [{copy: {from: pages/%d, to: /p}}]}\n", n, n)
	}
	build("twenty images", many)
	build("twenty images, nothing changed", many)

	const file = "testdata/counts.txt"
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(table.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), table.String())
}
