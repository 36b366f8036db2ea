package sandbox

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
)

// machine is a box in which commands see this machine's own programs.
type machine struct {
	*Box
	t     testing.TB
	dir   string
	base  string
	view  []tree.Entry
	shown []Mount

	observe bool
}

// newMachine shows /usr and what else programs need, and a folder /w of the test's own to work in.
func newMachine(t testing.TB) *machine {
	box, err := Open(context.Background(), Options{Time: 946684800})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, box.Close()) })
	m := &machine{Box: box, t: t, dir: t.TempDir(), observe: true}
	m.view = []tree.Entry{{Kind: tree.Folder, Mode: 0o755}}
	for _, name := range []string{"bin", "etc", "lib", "lib32", "lib64", "opt", "root", "sbin", "tmp", "usr", "w"} {
		if target, err := os.Readlink("/" + name); err == nil {
			m.view = append(m.view, tree.Entry{Path: name, Kind: tree.Symlink, Target: target, Mode: 0o777})
			continue
		}
		m.view = append(m.view, tree.Entry{Path: name, Kind: tree.Folder, Mode: 0o777})
		if _, err := os.Stat("/" + name); err != nil {
			continue
		}
		if name == "usr" || name == "etc" || strings.HasPrefix(name, "lib") || name == "opt" {
			m.shown = append(m.shown, Mount{From: "/" + name, At: "/" + name, ReadOnly: true})
		}
	}
	m.base = filepath.Join(m.dir, "base")
	require.NoError(t, box.Lay(context.Background(), m.base, m.view, func(func(int, int64, io.Reader) error) error { return nil }))
	return m
}

func (m *machine) run(work string, args ...string) (Status, string) {
	var out strings.Builder
	s := &Spec{Work: filepath.Join(m.dir, "work"), Top: m.view[0], Args: args, Dir: "/w", Lower: []string{m.base}, Observe: m.observe, Stdout: &out, Stderr: &out,
		Env:    []string{"PATH=/usr/local/go/bin:/usr/local/bin:/usr/sbin:/usr/bin:/bin", "HOME=/w", "npm_config_cache=/tmp/npm"},
		Mounts: append(slices.Clone(m.shown), Mount{From: work, At: "/w"})}
	require.NoError(m.t, os.Mkdir(s.Work, 0o755))
	defer func() { require.NoError(m.t, m.Remove(s.Work)) }()
	require.NoError(m.t, m.Prepare(context.Background(), s, nil, nil))
	status, err := m.Run(context.Background(), s)
	require.NoError(m.t, err, out.String())
	m.Finish(s)
	return status, out.String()
}

// asked are paths that strace shows: with the folder that they are below, where it tells that.
var (
	straceCall = regexp.MustCompile(`^\d+ +(\w+)\((.*)`)
	stracePath = regexp.MustCompile(`(?:(?:AT_FDCWD|\d+)<([^>]*)>, )?"((?:[^"\\]|\\.)*)"`)
	straceFD   = regexp.MustCompile(`^\d+<(/[^>]*)>`)
)

// shownBy returns the paths and listings that strace noted. A path that starts with "*" is below a folder that it does not
// tell.
func shownBy(t *testing.T, file string) (paths, lists map[string]bool) {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	paths, lists = map[string]bool{}, map[string]bool{}
	for line := range strings.Lines(string(text)) {
		call := straceCall.FindStringSubmatch(line)
		if call == nil {
			continue
		}
		name, args := call[1], call[2]
		if name == "getdents64" {
			if fd := straceFD.FindStringSubmatch(args); fd != nil {
				lists[fd[1]] = true
			}
			continue
		}
		if (name == "connect" || name == "bind") && !strings.Contains(args, "sun_path=\"") {
			continue
		}
		args, _, _ = strings.Cut(args, ", [")
		found := stracePath.FindAllStringSubmatch(args, -1)
		most := 1
		if strings.HasPrefix(name, "rename") || strings.HasPrefix(name, "link") {
			most = 2
		}
		if strings.HasPrefix(name, "symlink") && len(found) > 0 {
			found = found[1:]
		}
		for _, f := range found[:min(most, len(found))] {
			p, err := strconv.Unquote(`"` + f[2] + `"`)
			if err != nil || p == "" {
				continue
			}
			switch {
			case strings.HasPrefix(p, "/"):
			case f[1] != "":
				p = f[1] + "/" + p
			default:
				p = "*/" + p
			}
			paths[path.Clean(p)] = true
		}
	}
	return paths, lists
}

// TestNothingIsMissed compares what was observed of real programs with what strace saw of the same run: whatever strace
// shows must be there.
func TestNothingIsMissed(t *testing.T) {
	if _, err := exec.LookPath("strace"); err != nil && os.Getenv("CI") == "" {
		t.Skip("strace is not installed")
	}
	m := newMachine(t)
	work := t.TempDir()
	require.NoError(t, os.Chmod(work, 0o777))
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(work, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(work, name), []byte(text), 0o755))
	}
	write("gauge.c", "#include <stdio.h>\n#include \"level.h\"\nint main(void) { printf(\"%d\\n\", LEVEL); return 0; }\n")
	write("level.h", "#define LEVEL 12\n")
	write("tides/a/b/c.txt", "low\n")
	write("tides/d.txt", "high\n")
	write("packages/astro/package.json", `{"name":"astro","version":"1.0.0","main":"i.js"}`)
	write("packages/astro/i.js", "module.exports = 12;\n")
	write("app/package.json", `{"name":"bulletin","version":"1.0.0","dependencies":{"astro":"file:../packages/astro"}}`)
	write("deb/DEBIAN/control", "Package: gauge\nVersion: 1.0\nArchitecture: all\nMaintainer: Tideline <tide@tideline.example>\nDescription: a gauge\n")
	write("deb/usr/share/gauge/levels", "1 2 3\n")
	write("chain", "#!/w/second -x\n")
	write("second", "#!/bin/sh\ncat tides/d.txt ./tides/../level.h\n")
	write("threads.go", `package main

import (
	"os"
	"strconv"
	"sync"
	"syscall"
)

func main() {
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			os.Stat("/w/absent-" + strconv.Itoa(i))
			os.ReadFile("/proc/self/cwd/tides/d.txt")
		})
	}
	all.Wait()
	fd, _ := syscall.Open("/w/tides", syscall.O_RDONLY|0x200000, 0)
	syscall.Fchdir(fd)
	os.ReadFile("a/b/c.txt")
}
`)
	build := exec.Command("go", "build", "-o", filepath.Join(work, "threads"), filepath.Join(work, "threads.go"))
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	write("old.c", `#include <fcntl.h>
static char path[] = "/w/level.h", absent[] = "/w/absent-32";
static int call(int number, const void *a, int b) { int r; __asm__ volatile("int $0x80" : "=a"(r) : "a"(number), "b"(a), "c"(b) : "memory"); return r; }
int main(void) { return call(5, path, O_RDONLY) < 0 || call(33, absent, 0) >= 0; }
`)
	write("far.c", "#include <fcntl.h>\n#include <unistd.h>\nint main(void) { return open(\"/w/level.h\", O_RDONLY) < 0 || access(\"/w/absent-far\", 0) == 0; }\n")
	expected := map[string][]string{ // what the kernel opens by itself, or strace cannot put into words
		"shell script": {"/w/second", "/bin/sh", "/lib64/ld-linux-x86-64.so.2"},
		"32 bits":      {"/w/level.h", "/w/absent-32"},
		"emulated":     {"/w/level.h", "/w/absent-far"},
		"descriptors":  {"/lib64/ld-linux-x86-64.so.2", "/w/level.h", "/w/tides/a/b/c.txt"},
	}
	commands := map[string]string{
		"descriptors":      `python3 -c 'import os; f = os.open("/bin/true", os.O_RDONLY); os.link("level.h", "twin"); os.rename("tides/a", "tides/z"); os.rename("tides/z", "tides/a"); os.fork() or os.execve(f, ["true"], {}); d = os.open("tides/a", os.O_RDONLY); open("/proc/self/fd/%d/b/c.txt" % d).read(); os.unlink("twin")'`,
		"compiler":         "gcc -O1 -o gauge gauge.c && ./gauge",
		"packages of debs": "mkdir -p root/var/lib/dpkg/updates root/var/lib/dpkg/info && touch root/var/lib/dpkg/status root/var/lib/dpkg/available && dpkg-deb -b deb gauge.deb && dpkg --root=/w/root --force-not-root -i gauge.deb",
		"packages of node": "cd app && npm install --offline --no-audit --no-fund",
		"shell script":     "./chain; for f in tides/*; do test -e $f/x || test -d $f; done; . ./second; ln -s tides t; cat t/a/b/c.txt; mv t u; rm u; mkdir -p n/m; echo 1 > n/m/o; mv n q; cat q/m/o; rm -r q",
		"perl":             `perl -e 'use File::Find; find(sub { stat }, "tides"); open F, "<", "/dev/fd/0"; readlink "/proc/self/exe"; chdir "tides"; opendir D, "a"; readdir D'`,
		"python":           `python3 -c 'import json, os, glob; glob.glob("tides/**", recursive=True); os.access("none", 0); os.listdir("."); open("level.h").read(); d = os.open("tides", os.O_RDONLY); os.stat("d.txt", dir_fd=d)'`,
		"find":             "find /etc/alternatives tides -type f -newer level.h",
		"tar":              "tar -cf tides.tar tides && mkdir -p out && tar -C out -xf tides.tar && tar -df tides.tar",
		"static, threaded": "./threads",
		"ldd and grep":     "ldd /bin/ls; grep -r low tides; grep -ls high tides/*.txt",
	}
	if runtime.GOARCH == "amd64" {
		commands["32 bits"] = "gcc -static -no-pie -o old old.c && ./old"
	}
	if _, err := os.Stat("/proc/sys/fs/binfmt_misc/qemu-aarch64"); err == nil || os.Getenv("CI") != "" {
		commands["emulated"] = "aarch64-linux-gnu-gcc -static -o far far.c && ./far"
	}
	programs := map[string]string{"compiler": "gcc", "32 bits": "gcc", "packages of debs": "dpkg-deb", "packages of node": "npm", "perl": "perl", "python": "python3",
		"descriptors": "python3", "emulated": "aarch64-linux-gnu-gcc"}
	for name, line := range commands {
		t.Run(name, func(t *testing.T) {
			if _, err := exec.LookPath(programs[name]); programs[name] != "" && err != nil && os.Getenv("CI") == "" {
				t.Skip(programs[name] + " is not installed")
			}
			status, out := m.run(work, "/usr/bin/strace", "-f", "-qq", "-y", "-s", "5000", "-e", "trace=%file,getdents64,connect,bind", "-o", "/w/strace.out", "/bin/sh", "-c", line)
			require.Zero(t, status.Code, out)
			require.NotNil(t, status.Observed)
			require.Empty(t, status.Observed.Whole)
			notes, err := status.Observed.Notes()
			require.NoError(t, err)
			noted, listed, below := map[string]bool{}, map[string]bool{}, map[string]bool{}
			for _, n := range notes {
				p := path.Clean(n.Path)
				noted[p] = true
				if n.Acts&trace.List != 0 {
					listed[p] = true
				}
				for rest := p; rest != ""; _, rest, _ = strings.Cut(rest, "/") {
					below[rest] = true
				}
			}
			for _, p := range expected[name] {
				require.True(t, noted[p], "%s is missing", p)
			}
			paths, lists := shownBy(t, filepath.Join(work, "strace.out"))
			require.Greater(t, len(paths), 10)
			for p := range paths {
				rest, open := strings.CutPrefix(p, "*/")
				require.True(t, noted[p] || open && below[path.Clean(rest)] || rest == "*" || strings.HasPrefix(p, "*/.."), "%s is missing", p)
			}
			for p := range lists {
				require.True(t, listed[p], "the listing of %s is missing", p)
			}
			t.Logf("%d paths, %d listings, %d notes", len(paths), len(lists), len(notes))
		})
	}
}

// TestWhoLists: which programs read the names in the folder that they work in, so that one more name there has their step
// run again. The table in docs/reuse.md is what came out. All of them read such a list to its end and compare it by
// themselves, so no call tells which names they looked for.
func TestWhoLists(t *testing.T) {
	m, work := newMachine(t), t.TempDir()
	require.NoError(t, os.Chmod(work, 0o777))
	for name, text := range map[string]string{"app.py": "import json\n", "app.js": "require('fs')\n", "app.pl": "use strict;\n", "a.c": "int main(void) { return 0; }\n", "Makefile": "a.o: a.c\n\tgcc -c a.c\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(work, name), []byte(text), 0o644))
	}
	for line, lists := range map[string]bool{"python3 app.py": true, "python3 -I app.py": false, "make": true, "node app.js": false, "npm --version": false, "perl app.pl": false,
		"gcc -c a.c": false, "dpkg -l": false, "apt-cache policy": false, "sh -c 'test -e x || . ./Makefile'": false, "sh -c 'echo *.c'": true} {
		program, _, _ := strings.Cut(line, " ")
		if _, err := exec.LookPath(program); err != nil && os.Getenv("CI") == "" {
			continue
		}
		status, out := m.run(work, "/bin/sh", "-c", line)
		require.NotNil(t, status.Observed, "%s: %s", line, out)
		require.Empty(t, status.Observed.Whole, line)
		notes, err := status.Observed.Notes()
		require.NoError(t, err)
		require.Greater(t, len(notes), 8, line)
		require.Equal(t, lists, slices.ContainsFunc(notes, func(n trace.Note) bool { return n.Path == "/w" && n.Acts&trace.List != 0 }), line)
	}
}

// TestChangedWhileRead: a path that another thread changes while it is read makes all that lies below count.
func TestChangedWhileRead(t *testing.T) {
	m, work := newMachine(t), t.TempDir()
	require.NoError(t, os.Chmod(work, 0o777))
	const program = `package main

import (
	"runtime"
	"syscall"
	"unsafe"
)

func main() {
	path := []byte("/w/a\x00")
	ended := make(chan bool)
	go func() {
		runtime.LockOSThread()
		for i := 0; ; i++ {
			path[3] = "ab"[i%2]
			select {
			case <-ended:
				return
			default:
			}
		}
	}()
	runtime.LockOSThread()
	for range 20000 {
		syscall.RawSyscall(syscall.SYS_FACCESSAT, ^uintptr(99), uintptr(unsafe.Pointer(&path[0])), 0)
	}
	close(ended)
}
`
	require.NoError(t, os.WriteFile(filepath.Join(work, "race.go"), []byte(program), 0o644))
	build := exec.Command("go", "build", "-o", filepath.Join(work, "race"), filepath.Join(work, "race.go"))
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	for range 20 { // on a busy machine the two threads may take turns, and nothing changes under a call
		status, said := m.run(work, "/w/race")
		require.Zero(t, status.Code, said)
		if strings.Contains(status.Observed.Whole, "changed while it was read") {
			return
		}
	}
	t.Fatal("no change was noticed")
}

// TestWhatHidesIsSaid: a command that could escape observation is not taken for understood.
func TestWhatHidesIsSaid(t *testing.T) {
	b := newBench(t, Options{})
	status, _, _, err := b.run(context.Background(), "cat /etc/motd", func(s *Spec) { s.Observe = true })
	require.NoError(t, err)
	require.Empty(t, status.Observed.Whole)
	require.False(t, status.Observed.Owners)
	require.NotZero(t, status.CPU)
	if _, err := exec.LookPath("perl"); err == nil || os.Getenv("CI") != "" {
		m, work := newMachine(t), t.TempDir()
		require.NoError(t, os.Chmod(work, 0o777))
		for call, want := range map[string]string{
			"9999": "a call that is not understood (number 9999)", // nobody knows it, and it fails
			fmt.Sprintf("%d, 1, 0, 0", unix.SYS_SECCOMP):                            "filters system calls itself",
			fmt.Sprintf("%d, %d, 0, 0", unix.SYS_PRCTL, unix.PR_SET_SECCOMP):        "filters system calls itself",
			fmt.Sprintf("%d, %d, 0, 0, 0", unix.SYS_PRCTL, unix.PR_GET_DUMPABLE):    "",
			fmt.Sprintf("%d, 0", unix.SYS_SETUID):                                   "owners",
			fmt.Sprintf("%d, %d, 1, 0, 0, 0", unix.SYS_PRCTL, unix.PR_CAPBSET_DROP): "owners",
			fmt.Sprintf("%d", unix.SYS_GETPID):                                      "",
		} {
			status, out := m.run(work, "/usr/bin/perl", "-e", "syscall("+call+")")
			require.NotNil(t, status.Observed, out)
			require.Equal(t, want == "owners", status.Observed.Owners, call)
			if want == "" || want == "owners" {
				require.Empty(t, status.Observed.Whole, call)
			} else {
				require.Contains(t, status.Observed.Whole, want, call)
			}
		}
	}
}

// TestRefusedIsNotObserved: what the filter refuses is in no line of the table of calls that are observed.
func TestRefusedIsNotObserved(t *testing.T) {
	text, err := os.ReadFile("observe/calls.txt")
	require.NoError(t, err)
	for _, tab := range tables {
		column := map[uint32]int{unix.AUDIT_ARCH_X86_64: 1, unix.AUDIT_ARCH_I386: 2, unix.AUDIT_ARCH_AARCH64: 3}[tab.arch]
		known := map[string]bool{}
		for line := range strings.Lines(string(text)) {
			if fields := strings.Fields(line); len(fields) > 3 && fields[0] != "#" {
				known[fields[column]] = true
			}
		}
		require.Greater(t, len(known), 200)
		for _, n := range append(slices.Clone(tab.refused), tab.absent...) {
			require.False(t, known[fmt.Sprint(n)], "%x %d is refused, and known", tab.arch, n)
		}
	}
}
