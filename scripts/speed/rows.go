package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// row is a kind of work: prepare makes what it works on, in a folder of its own, and returns what measures it.
type row struct {
	name    string
	prepare func(b *bench, dir string) (func() ([]result, error), error)
}

var rows = []row{
	{"program", program}, {"toolchain", toolchain}, {"many", many}, {"images", images}, {"edit", edit}, {"history", history}, {"sandbox", sandbox},
}

// oldestFind is how long the find of the goals in seconds took where they were set.
const oldestFind = 40 * time.Millisecond

const findLine = `find %s -type f -printf '%%s %%T@ %%i\n' > /dev/null`

// find is the find of the first row's goal.
func (b *bench) find() (cost, error) { return b.shell(fmt.Sprintf(findLine, b.toolchain)) }

// settle waits until files that were just written count as written in the past.
func settle() { time.Sleep(2500 * time.Millisecond) }

func write(path, text string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, []byte(text), 0o644)
}

// program is the size of the released program, and how long it takes to start.
func program(b *bench, _ string) (func() ([]result, error), error) {
	return func() ([]result, error) {
		info, err := os.Stat(b.program)
		if err != nil {
			return nil, err
		}
		help := func() (cost, error) { return b.time(b.program, "--help") }
		a, _, err := b.turns(help, help)
		return []result{atMost("the program", " MB", megabytes(info.Size()), 30), atMost("its --help", " ms", float64(a.wall)/1e6, 15)}, err
	}, nil
}

const oneCopy = "imbricat: 1\nsilence: [secret, foreign-binary]\nimages: {all: {base: none, compression: %s, platforms: [linux/amd64], steps: [{copy: {from: ., to: /all}}]}}\n"

// toolchain is the Go toolchain: packed, packed again, and found unchanged.
func toolchain(b *bench, dir string) (func() ([]result, error), error) {
	tree := filepath.Join(dir, "go")
	if _, err := b.time("cp", "-a", b.toolchain, tree); err != nil {
		return nil, err
	}
	for _, kind := range []string{"gzip", "zstd"} {
		if err := write(filepath.Join(dir, kind+".yaml"), fmt.Sprintf(oneCopy, kind)); err != nil {
			return nil, err
		}
	}
	build := func(kind string) (cost, error) {
		return b.imbricat("build", "--store", filepath.Join(dir, "store-"+kind), "--dir", tree, "--recipe", filepath.Join(dir, kind+".yaml"))
	}
	cold := func(kind string) func() (cost, error) {
		return func() (cost, error) {
			if err := os.RemoveAll(filepath.Join(dir, "store-"+kind)); err != nil {
				return cost{}, err
			}
			return build(kind)
		}
	}
	tarred := "tar --sort=name --mtime=@0 --owner=0 --group=0 -C " + dir + " -cf - go | "
	packed := func() (cost, error) { return b.shell(tarred + "pigz -6 | openssl dgst -sha256 > /dev/null") }
	listed, err := exec.Command("bash", "-c", "find "+tree+" -type f | LC_ALL=C sort").Output()
	if err != nil {
		return nil, err
	}
	files := strings.Fields(string(listed))
	again := func(file string) func() (cost, error) {
		return func() (cost, error) {
			if _, err := b.shell("echo '// high water' >> " + file); err != nil {
				return cost{}, err
			}
			return build("gzip")
		}
	}
	goal := 0.45
	if strings.Contains(processor(), "with SHA") {
		goal = 0.36
	}
	return func() ([]result, error) {
		count := fmt.Sprintf("%d files", len(files))
		ours, theirs, err := b.turns(cold("gzip"), packed)
		if err != nil {
			return nil, err
		}
		results := []result{atMost("cold, the Go toolchain, "+count+": processor time, to tar, pigz -6 and a hash", "", ratio(ours.processor, theirs.processor), goal)}
		zstd, plain, err := b.turns(cold("zstd"), func() (cost, error) { return b.shell(tarred + "zstd -3 -T2 | openssl dgst -sha256 > /dev/null") })
		if err != nil {
			return nil, err
		}
		results = append(results, atMost("the same with zstd: processor time, to tar, zstd -3 and a hash", "", ratio(zstd.processor, plain.processor), 1.8),
			atMost("its memory", " MB", megabytes(zstd.memory), 120))
		settle()
		if _, err := build("gzip"); err != nil {
			return nil, err
		}
		for _, at := range []struct {
			name string
			file string
		}{{"first", files[1]}, {"middle", files[len(files)/2]}, {"last", files[len(files)-1]}} {
			one, _, err := b.turns(again(at.file), again(at.file))
			if err != nil {
				return nil, err
			}
			results = append(results, atLeast("packed again, the "+at.name+" file changed: times less processor time than tar, pigz -6 and a hash", "", ratio(theirs.processor, one.processor), 25),
				atMost("its memory", " MB", megabytes(one.memory), 60))
		}
		settle()
		if _, err := build("gzip"); err != nil {
			return nil, err
		}
		same, found, err := b.turns(func() (cost, error) { return build("gzip") }, func() (cost, error) { return b.shell(fmt.Sprintf(findLine, tree)) })
		return append(results, atMost("nothing changed, "+count+": time, to find", "", ratio(same.wall, found.wall), 1.5)), err
	}, nil
}

// many is 100,000 files in 500 folders, of some 300 bytes and of some 2 kB.
func many(b *bench, dir string) (func() ([]result, error), error) {
	words := make([]string, 500)
	for i := range words {
		words[i] = fmt.Sprint("tide", i*7%500)
	}
	for name, count := range map[string]int{"small": 40, "larger": 280} {
		for d := range 500 {
			folder := filepath.Join(dir, name, fmt.Sprint("d", d))
			if err := os.MkdirAll(folder, 0o755); err != nil {
				return nil, err
			}
			for f := range 200 {
				text := &strings.Builder{}
				for n := range count + (d*31+f*17)%count {
					text.WriteString(words[(d*7+f*13+n*n)%len(words)] + " ")
				}
				if err := os.WriteFile(filepath.Join(folder, fmt.Sprint("f", f)), []byte(text.String()), 0o644); err != nil {
					return nil, err
				}
			}
		}
	}
	recipe := filepath.Join(dir, "recipe.yaml")
	if err := write(recipe, fmt.Sprintf(oneCopy, "gzip")); err != nil {
		return nil, err
	}
	settle()
	store := filepath.Join(dir, "store")
	build := func(name string) (cost, error) {
		return b.imbricat("build", "--store", store, "--dir", filepath.Join(dir, name), "--recipe", recipe)
	}
	return func() (results []result, err error) {
		for _, one := range []struct{ name, size string }{{"small", "some 300 bytes"}, {"larger", "some 2 kB"}} {
			ours, theirs, err := b.turns(func() (cost, error) {
				if err := os.RemoveAll(store); err != nil {
					return cost{}, err
				}
				return build(one.name)
			}, func() (cost, error) {
				return b.shell("tar --sort=name --mtime=@0 --owner=0 --group=0 -C " + dir + " -cf - " + one.name + " | pigz -6 | sha256sum > /dev/null")
			})
			if err != nil {
				return nil, err
			}
			results = append(results, atMost("cold, 100,000 files of "+one.size+": time, to tar, pigz -6 and a hash", "", ratio(ours.wall, theirs.wall), 0.9))
		}
		same, found, err := b.turns(func() (cost, error) { return build("larger") }, func() (cost, error) { return b.shell(fmt.Sprintf(findLine, filepath.Join(dir, "larger"))) })
		return append(results, atMost("nothing changed, 100,000 files in 500 folders: time, to find", "", ratio(same.wall, found.wall), 1.5),
			atMost("its memory", " MB", megabytes(same.memory), 100)), err
	}, nil
}

// images is 60 images of 181 steps on 6 stages.
func images(b *bench, dir string) (func() ([]result, error), error) {
	recipe := &strings.Builder{}
	recipe.WriteString("imbricat: 1\nstages:\n")
	for s := range 6 {
		fmt.Fprintf(recipe, "  s%d: {base: none, steps: [", s)
		for c := range 10 {
			name := fmt.Sprintf("c%d-%d", s, c)
			if err := write(filepath.Join(dir, "p", name, "f"), name); err != nil {
				return nil, err
			}
			fmt.Fprintf(recipe, "{copy: {from: %s, to: /%s}}, ", name, name)
		}
		recipe.WriteString("]}\n")
	}
	recipe.WriteString("images:\n")
	for i := range 60 {
		fmt.Fprintf(recipe, "  i%d: {base: none, platforms: [linux/amd64], steps: [", i)
		for s := range 3 {
			fmt.Fprintf(recipe, "{take: {from: s%d, paths: /c%d-%d, to: /t%d}}, ", (i+s)%6, (i+s)%6, i%10, s)
		}
		fmt.Fprintf(recipe, "{write: {to: /own, text: \"%d\"}}]}\n", i)
	}
	if err := write(filepath.Join(dir, "p/imbricat.yaml"), recipe.String()); err != nil {
		return nil, err
	}
	settle()
	build := func() (cost, error) {
		return b.imbricat("build", "--store", filepath.Join(dir, "store"), "--dir", filepath.Join(dir, "p"))
	}
	if _, err := build(); err != nil {
		return nil, err
	}
	return func() ([]result, error) {
		same, found, err := b.turns(build, func() (cost, error) { return b.find() })
		scale := max(1, ratio(found.wall, oldestFind))
		return []result{atMost("nothing changed, 60 images over shared stages", " s", same.wall.Seconds(), 0.4*scale), atMost("its memory", " MB", megabytes(same.memory), 120)}, err
	}, nil
}

// edit is a file that a command reads, of 11,500, edited again and again.
func edit(b *bench, dir string) (func() ([]result, error), error) {
	shell, err := exec.LookPath("busybox")
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(dir, "p/bin"), 0o755); err != nil {
		return nil, err
	}
	if _, err := b.time("cp", shell, filepath.Join(dir, "p/bin/busybox")); err != nil {
		return nil, err
	}
	for i := range 11_500 {
		if err := write(filepath.Join(dir, fmt.Sprintf("p/src/d%d/f%d", i/100, i)), fmt.Sprint("tide ", i)); err != nil {
			return nil, err
		}
	}
	if err := write(filepath.Join(dir, "p/imbricat.yaml"), "imbricat: 1\nstages:\n  work: {base: none, steps: [{copy: {from: bin, to: /bin}}, {copy: {from: src, to: /src}}, "+
		"{run: {command: [/bin/busybox, sh, -c, '/bin/busybox cat /src/d0/f7 > /out']}}]}\nimages: {level: {base: none, platforms: [linux/amd64], steps: [{take: {from: work, paths: /out, to: /level}}]}}\n"); err != nil {
		return nil, err
	}
	settle()
	store := filepath.Join(dir, "store")
	build := func() (cost, error) { return b.imbricat("build", "--store", store, "--dir", filepath.Join(dir, "p")) }
	if _, err := build(); err != nil {
		return nil, err
	}
	n := 0
	return func() ([]result, error) {
		before, err := taken(store)
		if err != nil {
			return nil, err
		}
		edited, found, err := b.turns(func() (cost, error) {
			n++
			if err := write(filepath.Join(dir, "p/src/d0/f7"), fmt.Sprint("edit ", n)); err != nil {
				return cost{}, err
			}
			return build()
		}, func() (cost, error) { return b.find() })
		if err != nil {
			return nil, err
		}
		after, err := taken(store)
		scale := max(1, ratio(found.wall, oldestFind))
		return []result{atMost("one file of 11,500 edited that a command reads", " s", edited.wall.Seconds(), 0.25*scale),
			atMost("what the disk grows by, for each edit", " MB", megabytes(after-before)/float64(b.rounds), 1)}, err
	}, nil
}

// sandbox are the benchmarks of the sandbox's package, which compare with plain tools themselves. They need root.
func sandbox(b *bench, dir string) (func() ([]result, error), error) {
	return func() (results []result, err error) {
		c := exec.Command("go", "test", "./internal/engine/sandbox", "-run", "^$", "-bench", "Lay|Wrote|Observed/^(find|tar)$", "-benchtime", fmt.Sprint(b.rounds, "x"))
		c.Env = append(os.Environ(), "CGO_ENABLED=0", "TMPDIR="+dir)
		out, err := c.CombinedOutput()
		if err != nil {
			return nil, fmt.Errorf("%w\n%s", err, out)
		}
		for _, one := range []struct {
			name, work string
			goal       float64
		}{
			{"BenchmarkLay", "laying 11,500 files of some 2 kB down: time, to tar -x", 1.2},
			{"BenchmarkWrote", "reading 10,000 files back that a command wrote: time, to tar and a hash", 1},
			{"BenchmarkObserved/find", "find over 20,000 files, observed: time, to the same not observed", 2.3},
			{"BenchmarkObserved/tar", "tar over 20,000 files, observed: time, to the same not observed", 2.5},
		} {
			figure, err := metric(string(out), one.name)
			if err != nil {
				return nil, err
			}
			results = append(results, atMost(one.work, "", figure, one.goal))
		}
		return results, nil
	}, nil
}

// metric finds the ratio that a benchmark reports.
func metric(out, name string) (float64, error) {
	for line := range strings.Lines(out) {
		fields := strings.Fields(line)
		if len(fields) == 0 || !strings.HasPrefix(fields[0], name) {
			continue
		}
		if at := slices.Index(fields, "ratio"); at > 0 {
			return strconv.ParseFloat(fields[at-1], 64)
		}
	}
	return 0, fmt.Errorf("%s reports no ratio:\n%s", name, out)
}

// taken is what a folder takes on the disk, in bytes.
func taken(dir string) (n int64, err error) {
	out, err := exec.Command("du", "-s", "--block-size=1", dir).Output()
	if err == nil {
		_, err = fmt.Sscan(string(out), &n)
	}
	return n, err
}

// history is a repository of 5,000 commits and 3,000 files.
func history(b *bench, dir string) (func() ([]result, error), error) {
	repository := filepath.Join(dir, "p")
	if err := write(filepath.Join(repository, "imbricat.yaml"), "imbricat: 1\nimages: {tide: {base: none, platforms: [linux/amd64], steps: [{copy: {from: ., to: /t}}]}}\n"); err != nil {
		return nil, err
	}
	// One stream makes it: git itself takes minutes for 5,000 commits.
	stream := &strings.Builder{}
	for c := range 5000 {
		message := fmt.Sprint("table ", c)
		fmt.Fprintf(stream, "commit refs/heads/main\ncommitter Tideline <observatory@tideline.example> %d +0000\ndata %d\n%s\n", 1_700_000_000+c*600, len(message), message)
		first, count := (c*37)%3000, 3
		if c == 0 {
			first, count = 0, 3000
			fmt.Fprintf(stream, "M 644 inline imbricat.yaml\ndata <<.\nimbricat: 1\nimages: {tide: {base: none, platforms: [linux/amd64], steps: [{copy: {from: ., to: /t}}]}}\n.\n")
		}
		for f := first; f < first+count; f++ {
			text := fmt.Sprintf("level %d %d\n", f%3000, c)
			fmt.Fprintf(stream, "M 644 inline d%d/f%d\ndata %d\n%s\n", f%3000/100, f%3000, len(text), text)
		}
	}
	input := filepath.Join(dir, "stream")
	if err := write(input, stream.String()); err != nil {
		return nil, err
	}
	if _, err := b.shell("cd " + repository + " && git init -q -b main && git fast-import --quiet < " + input + " && git reset -q --hard"); err != nil {
		return nil, err
	}
	settle()
	with := []string{"--store", filepath.Join(dir, "store"), "--dir", repository}
	if _, err := b.imbricat(append([]string{"lock"}, with...)...); err != nil {
		return nil, err
	}
	return func() ([]result, error) {
		plan, lock, err := b.turns(func() (cost, error) { return b.imbricat(append([]string{"plan"}, with...)...) },
			func() (cost, error) { return b.imbricat(append([]string{"lock"}, with...)...) })
		return []result{atMost("plan with a lock, 5,000 commits and 3,000 files", " s", plan.wall.Seconds(), 0.3), atMost("lock there", " s", lock.wall.Seconds(), 1)}, err
	}, nil
}
