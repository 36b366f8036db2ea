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

	"imbricat/internal/engine/sandbox"
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
			"  gauge: {base: none, platforms: [linux/amd64, linux/arm64], steps: [{copy: {from: data, to: /d}}, {take: {from: tables, paths: /p, to: /q}}" + more + "]}\n" +
			"  almanac: {base: {stage: tables}, platforms: [linux/amd64], steps: [{write: {to: /a, text: a}}]}\n"
	}
	rules, err := division.New([][]string{{"/"}, {"/d/d0/", "/d/d1/"}, {"/q/"}})
	require.NoError(t, err)
	table := &counts{}
	build := func(name, text string) {
		t.Helper()
		table.count(name, func() {
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
	var stations []string
	for n := range 20 {
		stations = append(stations, fmt.Sprintf("s%d", n))
	}
	list := "imbricat: 1\nimages:\n  gauge: {each: {station: [" + strings.Join(stations, ", ") + "]}, base: none, platforms: [linux/amd64], steps: [{copy: {from: pages, to: /p}}, {write: {to: /a, text: '${each.station}'}}]}\n"
	build("twenty images of a list", list)
	build("twenty images of a list, nothing changed", list)

	table.compare(t, "testdata/counts.txt")
}

// TestCommandCounts is the same for builds with commands.
func TestCommandCounts(t *testing.T) {
	s := commandSite(t, sandbox.Options{})
	if !s.box.Overlay() {
		t.Skip("commands work on copies here")
	}
	s.later = time.Hour
	for n := range 120 {
		s.write(fmt.Sprintf("src/d%d/f%02d", n%4, n), strings.Repeat(fmt.Sprint("high water ", n, "\n"), 500))
	}
	recipe := func(reads string) string {
		return "imbricat: 1\nstages:\n  work: {base: none, steps: [{copy: {from: bin, to: /bin}}, {copy: {from: src, to: /src}}, {run: {command: [/bin/busybox, sh, -c, '/bin/busybox cat " + reads + " > /out']}}]}\n" +
			"images: {gauge: {base: none, steps: [{take: {from: work, paths: /out, to: /out}}]}}\n"
	}
	table := &counts{}
	build := func(name, text string) {
		t.Helper()
		table.count(name, func() {
			_, err := s.build(text)
			require.NoError(t, err)
		})
	}
	build("a command over 120 files", recipe("/src/d0/f00"))
	build("nothing changed", recipe("/src/d0/f00"))
	s.write("src/d1/f05", "low")
	build("a file changed that it does not read", recipe("/src/d0/f00"))
	s.write("src/d0/f00", "low")
	build("a file changed that it reads", recipe("/src/d0/f00"))
	require.NoError(t, os.Remove(filepath.Join(s.dir, "src/d0/f00")))
	build("that file went", recipe("/src/d0/f04"))
	build("another command", recipe("/src/d0/f04 /src/d0/f08"))
	table.compare(t, "testdata/commands.txt")
}

// counts tells what was counted, as a text.
type counts struct{ strings.Builder }

func (c *counts) count(name string, act func()) {
	before := map[string]int64{}
	for _, was := range count.Counts() {
		before[was.Name] = was.N
	}
	act()
	fmt.Fprintf(c, "%s\n", name)
	for _, is := range count.Counts() {
		if n := is.N - before[is.Name]; n != 0 {
			fmt.Fprintf(c, "  %-28s %d\n", is.Name, n)
		}
	}
}

func (c *counts) compare(t *testing.T, file string) {
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(c.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), c.String())
}
