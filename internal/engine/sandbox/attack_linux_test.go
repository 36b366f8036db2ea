package sandbox

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// attackEnv has this test program attack, inside a sandbox, the process with the number that it holds.
const attackEnv = "IMBRICAT_TEST_ATTACK"

// attacks are the ways in which a process could get hold of another one: of its memory, its files, its program or its
// course. Each succeeds on an ordinary process of the same user, and must not on a sandbox's first process.
var attacks = []struct {
	name string
	try  func(pid int) error
}{
	{"write to its memory", func(pid int) error { return opens("/proc/%d/mem", pid, os.O_RDWR) }},
	{"write to its memory by a thread", func(pid int) error {
		threads, err := os.ReadDir(fmt.Sprintf("/proc/%d/task", pid))
		if err != nil {
			return err
		}
		for _, thread := range threads {
			if err = opens(fmt.Sprintf("/proc/%%d/task/%s/mem", thread.Name()), pid, os.O_RDWR); err == nil {
				return nil
			}
		}
		return err
	}},
	{"read its variables", func(pid int) error { return reads("/proc/%d/environ", pid) }},
	{"read where its memory lies", func(pid int) error { return reads("/proc/%d/maps", pid) }},
	{"read its calls", func(pid int) error { return reads("/proc/%d/syscall", pid) }},
	{"find its program", func(pid int) error { _, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid)); return err }},
	{"open its program", func(pid int) error { return opens("/proc/%d/exe", pid, os.O_RDONLY) }},
	{"open its files", func(pid int) error {
		err := error(unix.ENOENT)
		for fd := 0; fd < 32 && err != nil; fd++ {
			if _, oneErr := os.Readlink(fmt.Sprintf("/proc/%d/fd/%d", pid, fd)); !errors.Is(oneErr, unix.ENOENT) {
				err = oneErr
			}
		}
		return err
	}},
	{"go by its root", func(pid int) error { _, err := os.ReadDir(fmt.Sprintf("/proc/%d/root/", pid)); return err }},
	{"go by its folder", func(pid int) error { _, err := os.ReadDir(fmt.Sprintf("/proc/%d/cwd/", pid)); return err }},
	{"trace it", func(pid int) error { return traces(unix.PTRACE_ATTACH, pid) }},
	{"seize it", func(pid int) error { return traces(unix.PTRACE_SEIZE, pid) }},
	{"read its memory by a call", func(pid int) error {
		own := make([]byte, 8)
		local := []unix.Iovec{{Base: &own[0], Len: 8}}
		_, err := unix.ProcessVMReadv(pid, local, []unix.RemoteIovec{{Base: mapped(pid), Len: 8}}, 0)
		return err
	}},
	{"take over a file", func(pid int) error {
		fd, err := unix.PidfdOpen(pid, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		err = unix.EBADF
		for number := 0; number < 32 && err != nil; number++ {
			_, err = unix.PidfdGetfd(fd, number, 0)
		}
		return err
	}},
}

func opens(form string, pid, flags int) error {
	f, err := os.OpenFile(fmt.Sprintf(form, pid), flags, 0)
	if err == nil {
		f.Close()
	}
	return err
}

func reads(form string, pid int) error {
	_, err := os.ReadFile(fmt.Sprintf(form, pid))
	return err
}

func traces(request, pid int) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if _, _, errno := unix.Syscall6(unix.SYS_PTRACE, uintptr(request), uintptr(pid), 0, 0, 0, 0); errno != 0 {
		return errno
	}
	var status unix.WaitStatus
	if request == unix.PTRACE_ATTACH {
		_, _ = unix.Wait4(pid, &status, unix.WALL, nil)
	} else {
		_, _, _ = unix.Syscall6(unix.SYS_PTRACE, unix.PTRACE_INTERRUPT, uintptr(pid), 0, 0, 0, 0)
		_, _ = unix.Wait4(pid, &status, unix.WALL, nil)
	}
	_, _, _ = unix.Syscall6(unix.SYS_PTRACE, unix.PTRACE_DETACH, uintptr(pid), 0, 0, 0, 0)
	return nil
}

// mapped returns an address that a process surely has; of one that hides where its memory lies, one that Go programs have.
func mapped(pid int) uintptr {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/maps", pid))
	if start, _, found := strings.Cut(string(text), "-"); err == nil && found {
		if n, err := strconv.ParseUint(start, 16, 64); err == nil {
			return uintptr(n)
		}
	}
	return 0x400000
}

// attackMain attacks, and tells of each attempt. Afterwards it sends the process every signal there is but those that its
// caller is to survive by other means.
func attackMain() int {
	pid, err := strconv.Atoi(os.Getenv(attackEnv))
	if err != nil {
		return 2
	}
	if pid == 0 { // an ordinary process, which these attempts do reach
		victim := exec.Command("/proc/self/exe")
		victim.Env = []string{attackEnv + "=-1", "TIDE=high"}
		if victim.Start() != nil {
			return 2
		}
		defer victim.Process.Kill()
		time.Sleep(200 * time.Millisecond)
		pid = victim.Process.Pid
	} else if pid < 0 {
		time.Sleep(time.Minute)
		return 0
	}
	for _, a := range attacks {
		if err := a.try(pid); err != nil {
			fmt.Printf("held: %s: %s\n", a.name, err)
		} else {
			fmt.Printf("reached: %s\n", a.name)
		}
	}
	if pid == 1 {
		for number := 1; number <= 64; number++ {
			_ = unix.Kill(1, syscall.Signal(number))
		}
	}
	fmt.Println("done")
	return 0
}

// withSelf returns a command this test program as /tmp/attack.
func (b *bench) withSelf(t testing.TB) func(*Spec) {
	self, err := os.ReadFile("/proc/self/exe")
	require.NoError(t, err)
	return func(s *Spec) {
		s.Files = append(s.Files, Secret{At: "/etc/attack", Content: self, Mode: 0o755})
		s.Points = []tree.Entry{b.view[0], b.view[4], {Path: "etc/attack", Kind: tree.File, Mode: 0o644, Content: digest.ContentBytes(nil)}}
	}
}

// TestFirstProcess: nothing that runs in a sandbox gets hold of its first process, whoever it runs as.
func TestFirstProcess(t *testing.T) {
	for name, o := range kinds() {
		if o.Kind == Chroot {
			continue // it has no processes of its own: TestChrootIsNoPrison
		}
		t.Run(name, func(t *testing.T) {
			b := newBench(t, o)
			give := b.withSelf(t)
			attack := func(pid string, uid int) string {
				status, out, _, err := b.run(context.Background(), "busybox cp /etc/attack /tmp/attack && busybox chmod 755 /tmp/attack && exec /tmp/attack", func(s *Spec) {
					give(s)
					s.Env, s.UID, s.GID, s.Observe = append(s.Env, attackEnv+"="+pid), uid, uid, true
				})
				require.NoError(t, err, out)
				require.Zero(t, status.Code, out)
				require.Contains(t, out, "done\n", "it is still there")
				return out
			}
			out := attack("1", 0)
			t.Log(out)
			require.NotContains(t, out, "reached:")
			require.Equal(t, len(attacks), strings.Count(out, "held: "))
			require.Equal(t, len(attacks), strings.Count(attack("0", 0), "reached: "), "the attempts reach an ordinary process")
			if b.IDs() == AllIDs {
				require.NotContains(t, attack("1", 1000), "reached:")
			}
			// It ignores signals once the command has begun, which would inherit that.
			status, out, _, err := b.run(context.Background(), "for i in $(busybox seq 100); do "+
				"busybox grep -q '^SigIgn.*[1-9a-f]' /proc/1/status && break; busybox sleep 0.1; done; busybox sleep 0.1; "+
				"busybox cat /proc/1/cmdline /proc/1/comm; busybox grep -E '^(Cap|NoNew|Seccomp:|SigCgt|SigIgn)' /proc/1/task/*/status; "+
				"echo self; busybox grep -E '^(Cap|NoNew|Seccomp:|SigIgn)' /proc/self/status", nil)
			require.NoError(t, err, status)
			require.True(t, strings.HasPrefix(out, roleInit+"\x00imbricat\n"), out)
			first, self, _ := strings.Cut(out, "self\n")
			for line := range strings.Lines(self) {
				if strings.HasPrefix(line, "SigIgn") {
					continue
				}
				require.Zero(t, strings.Count(first, strings.Fields(line)[0])-strings.Count(first, strings.Join(strings.Fields(line), "\t")),
					"every thread has the command's rights: %s in %s", line, first)
			}
			require.Contains(t, first, "Seccomp:\t2")
			// What it does not catch may end it while a thread of it holds that back.
			signals := func(text, kind string) (set uint64) {
				_, after, _ := strings.Cut(text, kind+":\t")
				_, err := fmt.Sscanf(after, "%x", &set)
				require.NoError(t, err, text)
				return set
			}
			ignored := signals(first, "SigIgn")
			require.EqualValues(t, ^uint64(1<<(unix.SIGKILL-1)|1<<(unix.SIGSTOP-1)), signals(first, "SigCgt")|ignored)
			require.NotZero(t, ignored)
			require.Zero(t, ignored&signals(self, "SigIgn"), "the command does not inherit it")
		})
	}
}

// TestProgram: what a sandbox's first process runs from is a sealed file in memory, or a mount that nobody can write through.
func TestProgram(t *testing.T) {
	for name, o := range map[string]Options{"sealed": {}, "mounted": {NoSealed: true}} {
		b := newBench(t, o)
		mark := fmt.Sprintf("64%d", os.Getpid())
		done := make(chan struct{})
		go func() {
			defer close(done)
			status, out, _, err := b.run(context.Background(), "busybox ls /dev; busybox readlink /proc/1/exe || echo held; busybox timeout 1 busybox sleep "+mark+"; true", func(s *Spec) { s.Observe = true })
			require.NoError(t, err)
			require.Zero(t, status.Code, out)
			require.NotContains(t, out, "imbricat")
			require.Contains(t, out, "held")
		}()
		program, err := "", error(nil)
		var mount unix.Statfs_t
		require.Eventually(t, func() bool {
			out, _ := exec.Command("pgrep", "-f", "sleep "+mark).Output()
			for word := range strings.FieldsSeq(string(out)) {
				for pid, _ := strconv.Atoi(word); pid > 1 && program == ""; pid = parentOf(pid) {
					if line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); string(line) == roleInit+"\x00" {
						program, _ = os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
						_, err = os.OpenFile(fmt.Sprintf("/proc/%d/exe", pid), os.O_WRONLY, 0)
						_ = unix.Statfs(fmt.Sprintf("/proc/%d/exe", pid), &mount)
					}
				}
			}
			return program != "" || os.Geteuid() != 0 // others may not look
		}, 10*time.Second, 10*time.Millisecond)
		if os.Geteuid() == 0 {
			require.Error(t, err)
			require.Equal(t, name == "sealed", strings.HasPrefix(program, "/memfd:imbricat"), program)
			require.Equal(t, name == "mounted", mount.Flags&unix.ST_RDONLY != 0)
		}
		<-done
	}
}

// parentOf returns the parent of a process; 0 where it has ended.
func parentOf(pid int) (parent int) {
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	_, rest, _ := strings.Cut(string(status), "PPid:")
	_, _ = fmt.Sscan(rest, &parent)
	return parent
}

// TestChrootIsNoPrison: without namespaces a command can stop or end its first process. It takes nothing over by that: the
// step fails, and nothing of it stays.
func TestChrootIsNoPrison(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a chroot needs root")
	}
	b := newBench(t, Options{Kind: Chroot})
	give := b.withSelf(t)
	status, out, _, err := b.run(context.Background(), "busybox cp /etc/attack /tmp/attack && busybox chmod 755 /tmp/attack && "+attackEnv+"=$PPID exec /tmp/attack", give)
	require.NoError(t, err)
	require.Zero(t, status.Code, out)
	require.NotContains(t, out, "reached:")
	require.Contains(t, out, "held: trace it: operation not permitted")
	// A process of the machine whose user the command can become is in sight, and out of its hands all the same.
	victim := exec.Command("sleep", "60")
	victim.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 54321, Gid: 54321}}
	require.NoError(t, victim.Start())
	defer func() { _, _ = victim.Process.Kill(), victim.Wait() }()
	status, out, _, err = b.run(context.Background(), "busybox cp /etc/attack /tmp/a && busybox chmod 755 /tmp/a && "+attackEnv+"="+strconv.Itoa(victim.Process.Pid)+" exec /tmp/a", func(s *Spec) {
		give(s)
		s.UID, s.GID = 54321, 54321
	})
	require.NoError(t, err)
	require.Zero(t, status.Code, out)
	require.NotContains(t, out, "reached:")
	mark := fmt.Sprintf("42%d", os.Getpid())
	for what, want := range map[string]string{"STOP": "the first process of its sandbox was stopped", "KILL": "ended unexpectedly"} {
		_, _, _, err = b.run(context.Background(), "busybox setsid busybox sleep "+mark+" & busybox kill -"+what+" $PPID; busybox sleep "+mark, nil)
		require.ErrorContains(t, err, want)
		left, _ := exec.Command("pgrep", "-f", "sleep "+mark).Output()
		require.Empty(t, string(left), what)
	}
}

// TestChrootTakesBack: what a chroot puts into its root for lack of mounts is taken back from where it lies, however the
// command moved the folders around it and whatever it put in their places.
func TestChrootTakesBack(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a chroot needs root")
	}
	b := newBench(t, Options{Kind: Chroot})
	outside, kept := t.TempDir(), filepath.Join(b.dir, "kept")
	write := func(name string) {
		require.NoError(t, os.WriteFile(filepath.Join(outside, name), []byte("theirs"), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(outside, "k"), 0o755))
	write("k/theirs")
	write("token")
	folder := func(p string) tree.Entry { return tree.Entry{Path: p, Kind: tree.Folder, Mode: 0o755} }
	for line, wrong := range map[string]string{
		"echo 3.42 > /work/k/level; busybox rm /s/token":                          "",
		"busybox mv /work /work2; busybox ln -s " + outside + " /work":            "the command gave /work/k",
		"busybox mv /work/k /k; busybox ln -s " + outside + "/k /work/k":          "the command gave /work/k",
		"busybox mv /s /s2; busybox ln -s " + outside + " /s":                     "the command gave /s/token",
		"busybox mv /s/token /leak":                                               "the command gave /s/token",
		"busybox ln /s/token /leak":                                               "the command gave /s/token",
		"busybox mv /s/token /leak; busybox ln -s " + outside + "/token /s/token": "the command gave /s/token",
	} {
		require.NoError(t, os.MkdirAll(kept, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(kept, "before"), nil, 0o644))
		_, out, found, err := b.run(context.Background(), line, func(s *Spec) {
			s.Mounts = []Mount{{From: kept, At: "/work/k"}}
			s.Secrets = []Secret{{At: "/s/token", Content: []byte("swordfish"), Mode: 0o400}}
			s.Points = []tree.Entry{b.view[0], folder("s"), {Path: "s/token", Kind: tree.File, Mode: 0o644, Content: digest.ContentBytes(nil)}, folder("work"), folder("work/k")}
		})
		require.Empty(t, out, line)
		if wrong != "" {
			require.ErrorContains(t, err, wrong, line)
		} else {
			require.NoError(t, err, line)
			require.NotRegexp(t, "token|level|before", lines(found), line)
			require.FileExists(t, filepath.Join(kept, "level"))
		}
		require.FileExists(t, filepath.Join(outside, "k/theirs"), line)
		require.FileExists(t, filepath.Join(outside, "token"), line)
		require.NoFileExists(t, filepath.Join(kept, "theirs"), line)
		if !strings.Contains(line, "mv /work/k") {
			require.FileExists(t, filepath.Join(kept, "before"), line)
		}
		t.Log("held: " + line)
	}
}

// TestRacingLinks: while a sandbox is built somebody swaps a folder in a kept directory, which another one is to be put at,
// and a file, which a secret is to be put at, for links that lead out. Whatever comes of it stays inside.
func TestRacingLinks(t *testing.T) {
	for name, o := range kinds() {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, o)
			outside, kept, other := t.TempDir(), filepath.Join(b.dir, "kept"), filepath.Join(b.dir, "other")
			require.NoError(t, os.WriteFile(filepath.Join(outside, "token"), []byte("theirs"), 0o644))
			for _, dir := range []string{kept, other, kept + "/sub", kept + "/s"} {
				require.NoError(t, os.MkdirAll(dir, 0o755))
			}
			require.NoError(t, os.WriteFile(kept+"/s/token", nil, 0o644))
			require.NoError(t, os.Symlink(outside, kept+"/link"))
			dir, err := unix.Open(kept, unix.O_PATH|unix.O_DIRECTORY, 0)
			require.NoError(t, err)
			defer unix.Close(dir)
			stop, stopped := make(chan struct{}), make(chan struct{})
			go func() { // it goes with the folder, wherever a chroot moves that
				defer close(stopped)
				for n := 0; ; n++ {
					select {
					case <-stop:
						return
					default:
						_ = unix.Renameat2(dir, []string{"sub", "s"}[n%2], dir, "link", unix.RENAME_EXCHANGE)
						_ = unix.Renameat2(dir, []string{"sub", "s"}[n%2], dir, "link", unix.RENAME_EXCHANGE)
					}
				}
			}()
			built := 0
			for range 40 {
				_, out, _, err := b.run(context.Background(), "echo mark > /k/sub/mark; echo mark > /k/s/mark; true", func(s *Spec) {
					s.Mounts = []Mount{{From: kept, At: "/k"}, {From: other, At: "/k/sub"}}
					s.Secrets = []Secret{{At: "/k/s/token", Content: []byte("swordfish"), Mode: 0o400}}
					s.Points = []tree.Entry{b.view[0], {Path: "k", Kind: tree.Folder, Mode: 0o755}}
				})
				if err == nil && out == "" {
					built++
				}
				require.DirExists(t, kept, "it is taken back")
				require.NoError(t, os.MkdirAll(other, 0o755)) // a chroot may have lost it to the race
			}
			close(stop)
			<-stopped
			left, err := os.ReadDir(outside)
			require.NoError(t, err)
			require.Len(t, left, 1, "nothing reaches out")
			text, err := os.ReadFile(filepath.Join(outside, "token"))
			require.NoError(t, err)
			require.Equal(t, "theirs", string(text))
			t.Logf("held: 40 races, in %d of which the command ran", built)
		})
	}
}

// TestSameForEveryCaller: limits of resources and ignored signals of whoever starts the program do not reach a command.
func TestSameForEveryCaller(t *testing.T) {
	line := "ulimit -a; busybox grep -E '^Sig(Ign|Blk|Cgt)' /proc/self/status; busybox cat /proc/self/oom_score_adj; busybox hostname"
	if os.Getenv("IMBRICAT_TEST_CALLER") != "" {
		for name, o := range kinds() {
			line := line
			if name == "chroot" {
				line = "ulimit -a; busybox hostname"
			}
			b := newBench(t, o)
			_, out, _, err := b.run(context.Background(), line, nil)
			require.NoError(t, err)
			fmt.Printf("%s %q %q\n", name, out, b.Surroundings())
		}
		return
	}
	look := func(before string) string {
		c := exec.Command("bash", "-c", before+` exec "$0" -test.run '^TestSameForEveryCaller$'`, "/proc/"+strconv.Itoa(os.Getpid())+"/exe")
		c.Env = append(os.Environ(), "IMBRICAT_TEST_CALLER=1")
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		lines := strings.Split(string(out), "\n")
		slices.Sort(lines)
		return strings.Join(slices.DeleteFunc(lines, func(l string) bool { return !strings.Contains(l, `" [`) }), "\n")
	}
	plain := look("")
	require.Contains(t, plain, `SigIgn:\t0000000000000000`)
	require.NotContains(t, plain, "limits:")
	require.Equal(t, plain, look("ulimit -S -n 600; ulimit -c unlimited; ulimit -S -s 4096; ulimit -S -u 5000; trap '' HUP INT QUIT TERM USR1 TSTP RTMIN; echo 500 > /proc/self/oom_score_adj;"))
	if little := look("ulimit -n 600;"); little != plain { // who may raise it again does
		require.Equal(t, strings.Count(plain, "\n"), strings.Count(little, "\n"))
		require.Equal(t, strings.Count(little, "(-n) 600"), strings.Count(little, "limits: nofile 600"), "what cannot be set is said: %s", little)
	}
}

// TestBounds: a command that uses more than it may is ended, and fails.
func TestBounds(t *testing.T) {
	for name, o := range kinds() {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, o)
			for line, bounds := range map[string]Bounds{
				"b() { [ $1 = 0 ] && exec busybox sleep 30; b $(($1-1)) & b $(($1-1)) & wait; }; b 11": {Processes: 200},
				"busybox awk 'BEGIN { s = \"tide\"; while (1) s = s s }'; busybox sleep 20":            {Memory: 100e6},
				"while busybox dd if=/dev/zero of=/tmp/$((n=n+1)) bs=1M count=20; do :; done":          {Disk: 100e6},
			} {
				began := time.Now()
				_, out, _, err := b.run(context.Background(), line, func(s *Spec) { s.Bounds = bounds })
				var over *BoundError
				require.ErrorAs(t, err, &over, "%s: %s", line, out[:min(len(out), 500)])
				require.Less(t, time.Since(began), 15*time.Second)
			}
			status, _, _, err := b.run(context.Background(), "busybox true", func(s *Spec) { s.Bounds = Bounds{Processes: 5, Memory: 50e6, Disk: 1e6} })
			require.NoError(t, err)
			require.Zero(t, status.Code)
		})
	}
}

// TestKilledCaller: when whoever runs a command is killed, all of it is gone.
func TestKilledCaller(t *testing.T) {
	mark := fmt.Sprintf("53%d", os.Getpid())
	if name := os.Getenv("IMBRICAT_TEST_KILLED"); name != "" {
		b := newBench(t, kinds()[name])
		_, _, _, _ = b.run(context.Background(), "busybox setsid busybox sleep "+os.Getenv("IMBRICAT_TEST_MARK")+" & exec busybox sleep "+os.Getenv("IMBRICAT_TEST_MARK"), func(s *Spec) { s.Observe = true })
		return
	}
	running := func() int {
		out, _ := exec.Command("pgrep", "-f", "sleep "+mark).Output()
		return bytes.Count(out, []byte("\n"))
	}
	for name := range kinds() {
		c := exec.Command("/proc/self/exe", "-test.run", "^TestKilledCaller$")
		c.Env = append(os.Environ(), "IMBRICAT_TEST_KILLED="+name, "IMBRICAT_TEST_MARK="+mark)
		require.NoError(t, c.Start())
		require.Eventually(t, func() bool { return running() == 2 }, 20*time.Second, 20*time.Millisecond, name)
		require.NoError(t, c.Process.Kill())
		_ = c.Wait()
		if !assert.Eventually(t, func() bool { return running() == 0 }, 10*time.Second, 20*time.Millisecond, name) {
			out, _ := exec.Command("sh", "-c", "ps -eo pid,ppid,stat,wchan:30,args | grep -e 'sleep "+mark+"' -e imbricat: | grep -v grep").CombinedOutput()
			t.Fatalf("still there:\n%s", out)
		}
	}
}

// TestAsOthers runs what this file and its neighbour hold as ordinary users: one with a range of ids, one with a single id.
func TestAsOthers(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can become others")
	}
	found, err := user.Lookup("tideline")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("there is no user tideline: useradd --create-home tideline")
	}
	require.NoError(t, err)
	ranged, err := strconv.Atoi(found.Uid)
	require.NoError(t, err)
	for name, uid := range map[string]int{string(Mapped): ranged, string(Single): 54321} {
		t.Run(name, func(t *testing.T) {
			dir, err := os.MkdirTemp("", "imbricat-others")
			require.NoError(t, err)
			defer os.RemoveAll(dir)
			program := filepath.Join(dir, "test")
			require.NoError(t, exec.Command("cp", "/proc/"+strconv.Itoa(os.Getpid())+"/exe", program).Run())
			require.NoError(t, errors.Join(os.Chmod(program, 0o755), os.Chmod(dir, 0o755), os.Mkdir(dir+"/t", 0o755), os.Chown(dir+"/t", uid, uid)))
			c := exec.Command(program, "-test.v", "-test.run", "^(TestWhatACommandLeaves|TestOutOfReach|TestRacingLinks|TestNothingStays|TestHostileTrees|TestKeeps|TestFirstProcess|TestProgram|TestSameForEveryCaller|TestBounds|TestKilledCaller)$")
			c.Dir = dir
			c.Env = append(os.Environ(), "TMPDIR="+dir+"/t", "HOME="+dir+"/t", "IMBRICAT_TEST_EXPECT="+name)
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid)}}
			out, err := c.CombinedOutput()
			require.NoError(t, err, string(out))
			require.NotContains(t, string(out), "--- SKIP")
			require.Contains(t, string(out), "--- PASS: TestFirstProcess")
			t.Log(string(out))
		})
	}
}
