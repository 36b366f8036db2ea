package sandbox

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/ground/digest"
)

// BenchmarkObserved compares commands that are observed with the same ones that are not, in turns: the ratio of the medians
// of five is what counts. IMBRICAT_BENCH_NPM names a folder with a package.json and a filled cache of npm in .npm.
func BenchmarkObserved(b *testing.B) {
	m := newMachine(b)
	work := b.TempDir()
	require.NoError(b, os.Chmod(work, 0o777))
	// 20,000 files lie in the view, as those of a step do.
	content := digest.ContentBytes([]byte("3.42"))
	m.view = append(m.view, tree.Entry{Path: "tree", Kind: tree.Folder, Mode: 0o755})
	for i := range 200 {
		dir := fmt.Sprintf("tree/%03d", i)
		m.view = append(m.view, tree.Entry{Path: dir, Kind: tree.Folder, Mode: 0o755})
		for j := range 100 {
			m.view = append(m.view, tree.Entry{Path: fmt.Sprintf("%s/tide-%03d.txt", dir, j), Kind: tree.File, Mode: 0o644, Size: 4, Content: content})
		}
	}
	require.NoError(b, m.Lay(context.Background(), filepath.Join(m.dir, "tree"), m.view, func(put func(int, int64, io.Reader) error) error {
		for i := range m.view {
			if m.view[i].Kind == tree.File {
				if err := put(i, 4, strings.NewReader("3.42")); err != nil {
					return err
				}
			}
		}
		return nil
	}))
	m.base = filepath.Join(m.dir, "tree")
	commands := map[string]string{
		"find":    "find /tree -type f -size +1k",
		"tar":     "tar -cf /w/tree.tar -C / tree",
		"compile": "rm -rf /w/gocache; cd /usr/local/go/src/cmd/gofmt && GOCACHE=/w/gocache GOFLAGS=-mod=mod GOTOOLCHAIN=local CGO_ENABLED=0 go build -o /w/gofmt .",
		"true":    "true",
	}
	if dir := os.Getenv("IMBRICAT_BENCH_NPM"); dir != "" {
		out, err := exec.Command("cp", "-a", dir, filepath.Join(work, "npm")).CombinedOutput()
		require.NoError(b, err, string(out))
		commands["npm"] = "cd /w/npm && rm -rf node_modules && npm install --offline --no-audit --no-fund --ignore-scripts --cache /w/npm/.npm"
	}
	for name, line := range commands {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				var took [2][]time.Duration
				var notes int
				for round := range 12 {
					m.observe = round%2 == 1
					began := time.Now()
					status, out := m.run(work, "/bin/sh", "-c", line)
					require.Zero(b, status.Code, out)
					if round >= 2 { // the first of each fills the machine's caches
						took[round%2] = append(took[round%2], time.Since(began))
					}
					if m.observe {
						list, err := status.Observed.Notes()
						require.NoError(b, err)
						notes = len(list)
					}
				}
				for i := range took {
					slices.Sort(took[i])
				}
				plain, observed := took[0][2], took[1][2]
				b.ReportMetric(observed.Seconds()/plain.Seconds(), "ratio")
				b.ReportMetric(plain.Seconds(), "s-plain")
				b.ReportMetric(observed.Seconds(), "s-observed")
				b.ReportMetric(float64(notes), "paths")
			}
		})
	}
}

// BenchmarkConditions compares commands that are shown another clock or order with the same ones that are not, in turns, by medians: what a program
// that starts costs more, what a look at the clock and a list of a folder do.
func BenchmarkConditions(b *testing.B) {
	bench := newBench(b, Options{})
	own, err := os.Executable()
	require.NoError(b, err)
	const names = "mkdir /d; i=0; while [ $i -lt 1000 ]; do i=$((i+1)); : > /d/$i; done; "
	for name, one := range map[string]struct {
		line  string
		under conditions.Conditions
	}{
		"clock: 500 programs":       {"i=0; while [ $i -lt 500 ]; do i=$((i+1)); /bin/busybox true; done", conditions.Conditions{Clock: time.Unix(946684800, 0)}},
		"clock: 100,000 looks":      {probeEnv + "=looks /probe", conditions.Conditions{Clock: time.Unix(946684800, 0)}},
		"listing: 50 x 1,000 names": {names + "i=0; while [ $i -lt 50 ]; do i=$((i+1)); ls /d > /dev/null; done", conditions.Conditions{Order: conditions.Sorted}},
		"listing: 500 programs":     {"i=0; while [ $i -lt 500 ]; do i=$((i+1)); /bin/busybox true; done", conditions.Conditions{Order: conditions.Sorted}},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				var took [2][]time.Duration
				for round := range 10 {
					under := []conditions.Conditions{{}, one.under}[round%2]
					began := time.Now()
					status, out, _, err := bench.run(b.Context(), one.line, func(s *Spec) {
						s.Observe, s.Under = true, under
						s.Mounts = append(s.Mounts, Mount{From: own, At: "/probe", ReadOnly: true})
						s.Points = append(s.Points, tree.Entry{Path: "probe", Kind: tree.File, Mode: 0o755, Content: digest.ContentBytes(nil)})
					})
					require.NoError(b, err)
					require.Zero(b, status.Code, out)
					took[round%2] = append(took[round%2], time.Since(began))
				}
				for i := range took {
					slices.Sort(took[i])
				}
				b.ReportMetric(took[1][2].Seconds()/took[0][2].Seconds(), "ratio")
				b.ReportMetric(took[0][2].Seconds(), "s-plain")
				b.ReportMetric(took[1][2].Seconds(), "s-under")
			}
		})
	}
}

// BenchmarkLay lays 11,500 files of some 2 kB down, and compares with tar over an archive of the same ones.
func BenchmarkLay(b *testing.B) {
	bench := newBench(b, Options{})
	body := strings.Repeat("3.42 metres at the north pier\n", 70)
	entries := []tree.Entry{{Kind: tree.Folder, Mode: 0o755}}
	for i := range 115 {
		dir := fmt.Sprintf("%03d", i)
		entries = append(entries, tree.Entry{Path: dir, Kind: tree.Folder, Mode: 0o755})
		for j := range 100 {
			text := fmt.Sprint(i, j, body)
			entries = append(entries, tree.Entry{Path: fmt.Sprintf("%s/tide-%03d.txt", dir, j), Kind: tree.File, Mode: 0o644, Size: int64(len(text)), Content: digest.ContentBytes([]byte(text))})
		}
	}
	lay := func(dir string) {
		require.NoError(b, bench.Lay(context.Background(), dir, entries, func(put func(int, int64, io.Reader) error) error {
			for i, e := range entries {
				if e.Kind != tree.File {
					continue
				}
				if err := put(i, e.Size, strings.NewReader(fmt.Sprint((i-1)/101, (i-2)%101, body))); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	first, archive := filepath.Join(bench.dir, "first"), filepath.Join(bench.dir, "archive.tar")
	lay(first)
	require.NoError(b, exec.Command("tar", "-C", first, "-cf", archive, ".").Run())
	var own, peer []time.Duration
	for n := range b.N {
		dir := filepath.Join(bench.dir, fmt.Sprint("ours", n))
		began := time.Now()
		lay(dir)
		own = append(own, time.Since(began))
		// Nothing is removed meanwhile: some file systems are slow to make files where some were removed just now.
		other := filepath.Join(bench.dir, fmt.Sprint("theirs", n))
		require.NoError(b, os.Mkdir(other, 0o755))
		began = time.Now()
		require.NoError(b, exec.Command("tar", "-C", other, "-xf", archive).Run())
		peer = append(peer, time.Since(began))
	}
	slices.Sort(own)
	slices.Sort(peer)
	b.ReportMetric(own[len(own)/2].Seconds()/peer[len(peer)/2].Seconds(), "ratio")
}
