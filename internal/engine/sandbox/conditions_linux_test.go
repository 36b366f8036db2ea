package sandbox

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/ground/digest"
)

const probeEnv = "IMBRICAT_TEST_PROBE"

// seeMain tells what a program sees: whether what it takes from the kernel without a call is answered too.
func seeMain() {
	switch os.Getenv(probeEnv) {
	case "clock":
		fmt.Println(time.Now().Unix())
	case "looks":
		for range 100_000 {
			_ = time.Now()
		}
	case "random":
		for range 2 {
			one := make([]byte, 8)
			_, _ = unix.Getrandom(one, 0)
			fmt.Printf("%x\n", one)
		}
	case "until":
		untilMain()
	case "names":
		f, err := os.Open("/names")
		if err != nil {
			fmt.Println(err)
		}
		for _, n := range []int{1, 3, -1} {
			names, _ := f.Readdirnames(n)
			fmt.Println(names)
		}
		_, _ = f.Seek(0, 0)
		names, _ := f.Readdirnames(2)
		fmt.Println(names)
	}
}

// untilMain waits until moments of the wall clock that are near, and tells whether they came when they should.
func untilMain() {
	soon := func() unix.Timespec {
		var now unix.Timespec
		_ = unix.ClockGettime(unix.CLOCK_REALTIME, &now)
		return unix.NsecToTimespec(now.Nano() + int64(60*time.Millisecond))
	}
	tell := func(name string, wait func(at unix.Timespec) error) {
		began := time.Now()
		err := wait(soon())
		took := time.Since(began)
		fmt.Println(name, err, took > 50*time.Millisecond, took < 20*time.Second)
	}
	tell("sleep", func(at unix.Timespec) error {
		return unix.ClockNanosleep(unix.CLOCK_REALTIME, unix.TIMER_ABSTIME, &at, nil)
	})
	wait := func(word *uint32, at unix.Timespec) unix.Errno {
		const waitBitset, private, realtime = 9, 128, 256
		_, _, errno := unix.Syscall6(unix.SYS_FUTEX, uintptr(unsafe.Pointer(word)), waitBitset|private|realtime, 0, uintptr(unsafe.Pointer(&at)), 0, ^uintptr(0))
		return errno
	}
	tell("lock", func(at unix.Timespec) error {
		word := new(uint32)
		for {
			if errno := wait(word, at); errno != 0 && errno != unix.EINTR {
				return errno
			}
		}
	})
	changed := uint32(1)
	fmt.Println("changed", wait(&changed, soon()))
}

// TestConditions: each condition is what a command sees, of a static program of Go, of one of C and of many processes, and nothing else of it changes.
func TestConditions(t *testing.T) {
	b := newBench(t, Options{})
	own, err := os.Executable()
	require.NoError(t, err)
	try := func(line string, under conditions.Conditions) string {
		t.Helper()
		status, out, _, err := b.run(t.Context(), line, func(s *Spec) {
			s.Observe, s.Under = true, under
			s.Mounts = append(s.Mounts, Mount{From: own, At: "/probe", ReadOnly: true})
			s.Points = append(s.Points, tree.Entry{Path: "probe", Kind: tree.File, Mode: 0o755, Content: digest.ContentBytes(nil)})
		})
		require.NoError(t, err, out)
		require.Zero(t, status.Code, out)
		return strings.TrimSpace(out)
	}
	start := time.Date(2031, 5, 17, 23, 59, 58, 0, time.UTC)
	clock := conditions.Conditions{Clock: start}
	for name, line := range map[string]string{"C": "busybox date +%s", "Go": probeEnv + "=clock /probe", "a shell in a shell": "sh -c 'sh -c \"busybox date +%s\"; true'",
		"after one that is not there": "(busybox env /absent; sh -c /absent/too; exec /absent) 2>/dev/null; busybox date +%s"} {
		out := try(line+" 2>/dev/null", clock)
		seconds, err := time.ParseDuration(out + "s")
		require.NoError(t, err, "%s: %q", name, out)
		require.InDelta(t, start.Unix(), int64(seconds.Seconds()), 60, name)
	}
	until := "sleep <nil> true true\nlock connection timed out true true\nchanged resource temporarily unavailable"
	require.Equal(t, until, try(probeEnv+"=until /probe", clock))
	require.Equal(t, until, try(probeEnv+"=until /probe", conditions.Conditions{Clock: time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)}))
	require.Equal(t, "2", try("a=$(busybox date +%s); sleep 2; b=$(busybox date +%s); echo $((b-a))", clock), "it advances")
	many := try("for i in 1 2 3 4 5 6 7 8; do (for j in 1 2 3 4 5 6 7 8; do busybox date +%Y; done) & done; wait", clock)
	require.Equal(t, strings.TrimSpace(strings.Repeat("2031\n", 64)), many)

	// Names, by a program that reads them in parts and begins anew.
	make5 := "mkdir /names; for i in d b e a c; do busybox touch /names/$i; done; "
	for order, want := range map[conditions.Order]string{conditions.Sorted: "[a]\n[b c d]\n[e]\n[a b]", conditions.Reversed: "[e]\n[d c b]\n[a]\n[e d]"} {
		require.Equal(t, want, try(make5+probeEnv+"=names /probe", conditions.Conditions{Order: order}), order)
	}
	big := "mkdir /big; i=0; while [ $i -lt 1200 ]; do i=$((i+1)); : > /big/a-name-that-is-not-short-$i; done; busybox find /big -type f | busybox sed s,.*/,, > /one; ls /big > /two; busybox cmp /one /two && busybox wc -l < /one"
	require.Equal(t, "1200", strings.TrimSpace(try(big, conditions.Conditions{Order: conditions.Sorted})))

	require.Contains(t, try("uname -r; uname -v; uname -n; cat /proc/sys/kernel/osrelease", conditions.Conditions{Machine: "pier"}), "-pier\n#7 SMP pier Thu Jan 4 10:20:30 UTC 2024\nimbricat\n")
	require.Equal(t, "1\n0", try("nproc; cat /sys/devices/system/cpu/online", conditions.Conditions{Processors: 1}))
	if b.Kind() != Chroot {
		number, err := strconv.Atoi(try("echo $$", conditions.Conditions{FirstPID: 4321}))
		require.NoError(t, err)
		require.InDelta(t, 4321, number, 2) // the sandbox's own threads may take one meanwhile
	}
	maps := "busybox awk '{print $1}' /proc/self/maps"
	require.Equal(t, try(maps, conditions.Conditions{Plain: true, Seed: 1}), try(maps, conditions.Conditions{Plain: true, Seed: 1}))
	require.NotEqual(t, try(maps, conditions.Conditions{}), try(maps, conditions.Conditions{}))
	names := probeEnv + "=random /probe"
	first, second, _ := strings.Cut(try(names, conditions.Conditions{Seed: 7}), "\n")
	require.NotEqual(t, first, second, "or a process would look for an unused name forever")
	require.Equal(t, try(names, conditions.Conditions{Seed: 7, FirstPID: 50, Clock: start}), try(names, conditions.Conditions{Seed: 7, FirstPID: 50, Clock: start}))
	require.Equal(t, "ok", try("for i in 1 2 3 4 5 6; do (sh -c 'echo > /tmp/x'; cat /etc/motd) >/dev/null & done; wait; echo ok", conditions.Conditions{Jitter: true}))

	_, _, _, err = b.run(t.Context(), "true", func(s *Spec) { s.Under = clock })
	require.ErrorContains(t, err, "not observed")
}

// TestNarrow: a program of 32 bits is shown the clock too.
func TestNarrow(t *testing.T) {
	b := newBench(t, Options{})
	dir := t.TempDir()
	source := filepath.Join(dir, "main.go")
	require.NoError(t, os.WriteFile(source, []byte("package main\nimport \"time\"\nfunc main() { println(time.Now().Year()) }\n"), 0o644))
	build := exec.CommandContext(t.Context(), "go", "build", "-o", filepath.Join(dir, "narrow"), source)
	build.Env = append(os.Environ(), "GOARCH=386", "CGO_ENABLED=0", "GOFLAGS=")
	if text, err := build.CombinedOutput(); err != nil {
		t.Skip(string(text))
	}
	_, out, _, err := b.run(context.Background(), "/narrow", func(s *Spec) {
		s.Observe, s.Under = true, conditions.Conditions{Clock: time.Date(2031, 5, 17, 0, 0, 0, 0, time.UTC)}
		s.Mounts = append(s.Mounts, Mount{From: filepath.Join(dir, "narrow"), At: "/narrow", ReadOnly: true})
		s.Points = append(s.Points, tree.Entry{Path: "narrow", Kind: tree.File, Mode: 0o755, Content: digest.ContentBytes(nil)})
	})
	require.NoError(t, err)
	require.Equal(t, "2031\n", out)
}
