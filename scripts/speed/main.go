// Command speed compares the program with plain tools that do the same, in turns, in one run on this machine, and says which of
// its goals are met. scripts/bench --check calls it.
//
//	go run ./scripts/speed [-rounds N] [-tries N] [-write FILE] [ROW…]
//
// Each figure is a median of the rounds; a row that misses its goal is measured again, three times at most, and the best of its tries
// counts: other work on the machine makes things slower, never faster. Needs find, tar, pigz, zstd, openssl and git. The exit code
// is 1 when a goal is missed.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "speed:", err)
		os.Exit(1)
	}
}

func run() error {
	rounds := flag.Int("rounds", 5, "so many rounds of each row")
	tries := flag.Int("tries", 3, "so many tries of a row that misses its goal")
	write := flag.String("write", "", "write the table to this file, as a page")
	flag.Parse()
	work, err := os.MkdirTemp("", "speed-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return fmt.Errorf("asking for the toolchain's folder: %w", err)
	}
	b := &bench{work: work, program: filepath.Join(work, "imbricat"), toolchain: strings.TrimSpace(string(root)), rounds: *rounds}
	build := exec.Command("go", "build", "-trimpath", "-ldflags=-s -w", "-o", b.program, "./cmd/imbricat")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("building: %w\n%s", err, out)
	}
	var results []result
	missed := 0
	for _, r := range rows {
		if wanted := flag.Args(); len(wanted) > 0 && !slices.Contains(wanted, r.name) {
			continue
		}
		best, err := b.best(r, *tries)
		if err != nil {
			return fmt.Errorf("%s: %w", r.name, err)
		}
		for _, one := range best {
			if !one.met {
				missed++
			}
		}
		results = append(results, best...)
		fmt.Print(table(best))
	}
	if *write != "" {
		if err := os.WriteFile(*write, []byte(page(results)), 0o644); err != nil {
			return err
		}
	}
	if missed > 0 {
		return fmt.Errorf("%d of %d goals are missed", missed, len(results))
	}
	return nil
}

// result is one figure with its goal.
type result struct {
	work, goal, figure string
	met                bool
	by                 float64 // the figure as a share of its goal: at most 1 where it is met
}

// atMost makes a result of a figure that is to be at most something.
func atMost(work, unit string, figure, goal float64) result {
	return result{work, fmt.Sprintf("≤ %s%s", short(goal), unit), short(figure) + unit, figure <= goal, figure / goal}
}

// atLeast makes a result of a figure that is to be at least something.
func atLeast(work, unit string, figure, goal float64) result {
	return result{work, fmt.Sprintf("≥ %s%s", short(goal), unit), short(figure) + unit, figure >= goal, goal / figure}
}

func short(n float64) string {
	if n >= 10 {
		return fmt.Sprintf("%.0f", n)
	}
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.2f", n), "0"), ".")
}

// best measures a row until it meets its goals, or often enough.
func (b *bench) best(r row, tries int) (best []result, err error) {
	dir := filepath.Join(b.work, r.name)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	measure, err := r.prepare(b, dir)
	if err != nil {
		return nil, err
	}
	for range tries {
		got, err := measure()
		if err != nil {
			return nil, err
		}
		if best == nil {
			best = got
		}
		for i := range got {
			if got[i].by < best[i].by {
				best[i] = got[i]
			}
		}
		if !slices.ContainsFunc(best, func(one result) bool { return !one.met }) {
			break
		}
	}
	return best, nil
}

func table(results []result) string {
	w := &strings.Builder{}
	for _, r := range results {
		fmt.Fprintf(w, "%-5s %-70s asked %-10s measured %s\n", map[bool]string{true: "met", false: "MISSED"}[r.met], r.work, r.goal, r.figure)
	}
	return w.String()
}

// page is the table as docs/speed.md has it.
func page(results []result) string {
	w := &strings.Builder{}
	fmt.Fprintf(w, "# Speed\n\nMade by `scripts/bench --check` on %s, on a machine with %d cores (%s). Ratios are to a plain tool that does the same, in turns in the same run; files lie in the page\n"+
		"cache. What must not get slower by work that is done twice is held by [counts](testing.md#counts) in continuous integration.\n\n| work | asked | measured | |\n|---|---|---|---|\n",
		time.Now().Format("2006-01-02"), runtime.NumCPU(), processor())
	for _, r := range results {
		fmt.Fprintf(w, "| %s | %s | %s | %s |\n", r.work, r.goal, r.figure, map[bool]string{true: "", false: "missed"}[r.met])
	}
	fmt.Fprintf(w, "\n`scripts/bench-commands`, `bench-registry` and `bench-reuse` compare commands in sandboxes, transfers and reuse.\n")
	return w.String()
}

// processor names the machine's processor, and whether it hashes by itself.
func processor() string {
	text, err := os.ReadFile("/proc/cpuinfo")
	if err != nil {
		return runtime.GOARCH
	}
	name := runtime.GOARCH
	for line := range strings.Lines(string(text)) {
		if value, is := strings.CutPrefix(line, "model name"); is {
			name = strings.TrimSpace(strings.TrimLeft(value, "\t :"))
			break
		}
	}
	if strings.Contains(string(text), "sha_ni") {
		return name + ", with SHA instructions"
	}
	return name + ", without SHA instructions"
}

// bench runs commands and measures them.
type bench struct {
	work, program, toolchain string
	rounds                   int
}

// cost is what commands took.
type cost struct {
	wall, processor time.Duration
	memory          int64 // bytes at most, of the largest of them
}

// time runs a command.
func (b *bench) time(name string, args ...string) (cost, error) {
	c := exec.Command(name, args...)
	out := &strings.Builder{}
	c.Stderr = out
	began := time.Now()
	err := c.Run()
	took := time.Since(began)
	if err != nil {
		return cost{}, fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, out)
	}
	usage := c.ProcessState.SysUsage().(*syscall.Rusage)
	return cost{took, c.ProcessState.UserTime() + c.ProcessState.SystemTime(), usage.Maxrss << 10}, nil
}

// shell runs a line of the shell.
func (b *bench) shell(line string) (cost, error) { return b.time("bash", "-o", "pipefail", "-c", line) }

// imbricat runs the program without a view.
func (b *bench) imbricat(args ...string) (cost, error) {
	return b.time(b.program, append(args, "--view", "none")...)
}

// turns runs two things in turns and returns the medians of what each took.
func (b *bench) turns(ours, theirs func() (cost, error)) (a, c cost, err error) {
	var first, second []cost
	for range b.rounds {
		one, err := ours()
		if err != nil {
			return a, c, err
		}
		other, err := theirs()
		if err != nil {
			return a, c, err
		}
		first, second = append(first, one), append(second, other)
	}
	return median(first), median(second), nil
}

func median(all []cost) cost {
	by := func(of func(cost) int64) int64 {
		var list []int64
		for _, c := range all {
			list = append(list, of(c))
		}
		slices.Sort(list)
		return list[len(list)/2]
	}
	return cost{time.Duration(by(func(c cost) int64 { return int64(c.wall) })), time.Duration(by(func(c cost) int64 { return int64(c.processor) })), by(func(c cost) int64 { return c.memory })}
}

func megabytes(n int64) float64 { return float64(n) / 1e6 }

func ratio(a, b time.Duration) float64 { return float64(a) / float64(b) }
