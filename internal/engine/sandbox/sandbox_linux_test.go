package sandbox

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox/folder"
	"imbricat/internal/engine/sandbox/observe"
	"imbricat/internal/ground/digest"
)

func TestMain(m *testing.M) {
	if status, child := Child(os.Args); child {
		os.Exit(status)
	}
	if os.Getenv(attackEnv) != "" {
		os.Exit(attackMain())
	}
	if address := os.Getenv("IMBRICAT_TEST_DIAL"); address != "" {
		if _, err := net.Dial("unix", address); err != nil {
			os.Exit(3)
		}
		os.Exit(0)
	}
	if os.Getenv(probeEnv) != "" {
		seeMain()
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// bench is a box with a view of busybox.
type bench struct {
	*Box
	t     testing.TB
	dir   string
	base  string
	view  []tree.Entry
	feed  Feed
	trial int
}

const busybox = "/bin/busybox"

func newBench(t testing.TB, o Options) *bench {
	t.Helper()
	o.Time = 946684800
	program, err := os.ReadFile(busybox)
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("busybox-static is not installed")
	}
	require.NoError(t, err)
	box, err := Open(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, box.Close()) })
	if want := os.Getenv("IMBRICAT_TEST_EXPECT"); want != "" {
		require.EqualValues(t, want, box.Kind())
	}
	b := &bench{Box: box, t: t, dir: t.TempDir()}
	b.view = []tree.Entry{{Kind: tree.Folder, Mode: 0o755}, {Path: "bin", Kind: tree.Folder, Mode: 0o755},
		{Path: "bin/busybox", Kind: tree.File, Mode: 0o755, Size: int64(len(program)), Content: digest.ContentBytes(program)},
		{Path: "bin/sh", Kind: tree.Symlink, Target: "busybox", Mode: 0o777},
		{Path: "etc", Kind: tree.Folder, Mode: 0o755},
		{Path: "etc/motd", Kind: tree.File, Mode: 0o644, Size: 5, Content: digest.ContentBytes([]byte("tides"))},
		{Path: "tmp", Kind: tree.Folder, Mode: 0o1777}}
	b.feed = func(put func(int, int64, io.Reader) error) error {
		if err := put(5, -1, strings.NewReader("tides")); err != nil {
			return err
		}
		return put(2, -1, bytes.NewReader(program))
	}
	b.base = filepath.Join(b.dir, "base")
	require.NoError(t, box.Lay(context.Background(), b.base, b.view, b.feed))
	return b
}

func (b *bench) run(ctx context.Context, line string, change func(*Spec)) (Status, string, []folder.Found, error) {
	b.trial++
	var out bytes.Buffer
	s := &Spec{Work: filepath.Join(b.dir, fmt.Sprint("work", b.trial)), Top: b.view[0], Args: []string{"/bin/sh", "-c", line}, Dir: "/",
		Env: []string{"PATH=/bin", "GREETING=hello"}, Stdout: &out, Stderr: &out}
	if b.Overlay() {
		s.Lower = []string{b.base}
	}
	if change != nil {
		change(s)
	}
	require.NoError(b.t, os.Mkdir(s.Work, 0o755))
	defer func() { require.NoError(b.t, b.Remove(s.Work)) }()
	if err := b.Prepare(ctx, s, b.view, b.feed); err != nil {
		return Status{}, "", nil, err
	}
	status, err := b.Run(ctx, s)
	if err != nil {
		return status, out.String(), nil, err
	}
	found, err := b.Wrote(s, "")
	return status, out.String(), found, err
}

// kinds are the boxes that this user can have.
func kinds() map[string]Options {
	all := map[string]Options{"overlay": {}, "copied": {NoOverlay: true}}
	if os.Geteuid() == 0 {
		all["chroot"] = Options{Kind: Chroot}
	}
	return all
}

func lines(found []folder.Found) (out []string) {
	for _, f := range found {
		if f.Path != "" { // an overlay always has a root of its own
			out = append(out, strings.Fields(string(f.AppendLine(nil)))[0]+" "+fmt.Sprintf("%o", f.Mode)+" "+f.Path+" "+f.Target)
		}
	}
	return out
}

// TestWhatACommandLeaves: everything that was written is told as it was left, alike by every kind of box.
func TestWhatACommandLeaves(t *testing.T) {
	for name, o := range kinds() {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, o)
			for line, want := range map[string][]string{
				"true":                        nil,
				"exit 7":                      nil,
				"echo new > /etc/motd":        {"folder 755 etc ", "file 644 etc/motd "},
				"busybox chmod 644 /etc/motd": {"folder 755 etc ", "file 644 etc/motd "},
				"busybox rm /etc/motd":        {"folder 755 etc ", "deletion 0 etc/motd "},
				"busybox rm -r /etc":          {"deletion 0 etc "},
				"busybox mv /etc/motd /tmp/m": {"folder 755 etc ", "deletion 0 etc/motd ", "folder 1777 tmp ", "file 644 tmp/m "},
				"cd /tmp; echo 1 > a; busybox ln a b; busybox ln -s a c; busybox mkfifo d": {"folder 1777 tmp ", "file 644 tmp/a ", "hardlink 644 tmp/b tmp/a", "link 777 tmp/c a", "pipe 644 tmp/d "},
				"busybox mkdir -p /x/y; busybox chmod 2750 /x/y":                           {"folder 755 x ", "folder 2750 x/y "},
				"busybox touch /tmp/u; busybox rm /tmp/u":                                  {"folder 1777 tmp "},
			} {
				status, out, found, err := b.run(context.Background(), line, nil)
				require.NoError(t, err, line)
				require.Equal(t, strings.HasPrefix(line, "exit"), status.Code == 7, "%s: %s", line, out)
				require.Equal(t, want, lines(found), line)
			}
			// What lies in the root leaves that as it was, and the folder can be kept by whoever started the command.
			b.trial++
			s := &Spec{Work: filepath.Join(b.dir, "kept"), Top: b.view[0], Args: []string{"/bin/sh", "-c", "busybox mkdir /x; busybox chmod 700 /x"}, Dir: "/", Env: []string{"PATH=/bin"}}
			if b.Overlay() {
				s.Lower = []string{b.base}
			}
			require.NoError(t, os.Mkdir(s.Work, 0o755))
			require.NoError(t, b.Prepare(context.Background(), s, b.view, b.feed))
			_, err := b.Run(context.Background(), s)
			require.NoError(t, err)
			found, err := b.Wrote(s, filepath.Join(b.dir, "keep"))
			require.NoError(t, err)
			require.Equal(t, []string{"folder 700 x "}, lines(found))
			for _, f := range found {
				require.Equal(t, []int{0, 0}, []int{f.UID, f.GID}, "%q", f.Path)
			}
			again, err := b.Read(filepath.Join(b.dir, "keep"), false)
			require.NoError(t, err)
			require.Equal(t, lines(found), lines(again))
			require.NoError(t, b.Remove(filepath.Join(b.dir, "keep")))
			require.NoError(t, b.Remove(s.Work))
			// A folder that was made anew hides what it held before, whatever of it the box tells that by.
			_, _, found, err = b.run(context.Background(), "busybox rm -r /etc; busybox mkdir /etc; echo n > /etc/n", nil)
			require.NoError(t, err)
			hidden := false
			for _, f := range found {
				hidden = hidden || f.Path == "etc" && f.Opaque || f.Path == "etc/motd" && f.Kind == tree.Whiteout
			}
			require.True(t, hidden, "%v", lines(found))
		})
	}
}

// probes are commands that reach for what they must not get, or for what they must, with what is told of it: in a sandbox
// of namespaces, whoever builds, and in a chroot, where it is another thing.
var probes = []struct{ line, want, chroot string }{
	{line: "busybox mount -t tmpfs none /tmp", want: "permission denied"},
	{line: "busybox umount /proc", want: "Operation not permitted"},
	{line: "busybox unshare -U busybox true", want: "Operation not permitted"},
	{line: "busybox unshare -m busybox true", want: "Operation not permitted"},
	{line: "busybox pivot_root /tmp /tmp", want: "Operation not permitted"},
	{line: "echo x > /proc/sys/kernel/core_pattern", want: "Read-only file system", chroot: "nonexistent directory"},
	{line: "echo 1 > /proc/sys/vm/drop_caches", want: "Read-only file system", chroot: "nonexistent directory"},
	{line: "echo b > /proc/sysrq-trigger", want: "nonexistent directory|Permission denied|Read-only", chroot: "^$"}, // a file of the view's own
	{line: "busybox cat /proc/self/coredump_filter", want: "^00000000$", chroot: "No such file"},
	{line: "busybox cat /proc/kcore", want: "No such file|Permission denied"},
	{line: "busybox cat /proc/1/environ", want: "Permission denied", chroot: "No such file"},
	{line: "busybox ls /proc/1/root/", want: "Permission denied", chroot: "No such file"},
	{line: "busybox grep -c . /proc/keys", want: "^0$", chroot: "No such file"},
	{line: "ulimit -c; ulimit -Hc", want: "^0\n0$"},
	{line: "busybox mknod /tmp/disk b 254 0", want: "Operation not permitted"},
	{line: "busybox mknod /tmp/kmem c 1 1", want: "Operation not permitted"},
	{line: "busybox hostname other", want: "Operation not permitted"},
	{line: "busybox hostname", want: "^" + Hostname + "$"},
	{line: "busybox date -s 2001-01-01", want: "Operation not permitted"},
	{line: "busybox reboot -f -n -d 0", want: "Operation not permitted"},
	{line: "busybox dmesg", want: "Operation not permitted"},
	{line: "busybox rm -rf /proc /dev/null 2> /dev/zero; busybox ls -d /proc /dev/null", want: "/dev/null", chroot: "No such file"},
	// What these ask for is so already: where it was not refused the machine would take no harm.
	{line: "busybox chmod 666 /dev/null", want: "Read-only file system|Operation not permitted", chroot: "^$"}, // a device of its own
	{line: "busybox chown 0 /dev/zero", want: "Read-only file system|Operation not permitted", chroot: "^$"},
	{line: "busybox touch /dev/full", want: "Read-only file system|Operation not permitted", chroot: "^$"},
	{line: "busybox chmod 666 /proc/kmsg /proc/keys", want: "Read-only file system|Operation not permitted", chroot: "No such file"},
	{line: "echo written > /dev/null && busybox head -c 3 /dev/zero | busybox wc -c", want: "^3$"},
	{line: "busybox ls /", want: "bin\ndev\netc\nproc\nsys\ntmp"},
	{line: "busybox ls /dev/disk /dev/mem /dev/kmsg /dev/fuse /dev/kvm /dev/net 2>&1 | busybox grep -vc 'No such file'", want: "^0$"},
	{line: "busybox ps > /tmp/ps; busybox wc -l < /tmp/ps", want: "^4$", chroot: "^1$"}, // a head, the first process, the shell and itself
	{line: "busybox env", want: "GREETING=hello"},
	{line: "busybox env | busybox grep -vc '^GREETING=\\|^PATH=\\|^PWD=\\|^SHLVL='", want: "^0$"},
	{line: "busybox setpriv --dump", want: "no_new_privs: 1"},
	{line: "busybox setpriv --dump | busybox grep -cE 'sys_admin|sys_ptrace|sys_module|mknod|net_admin|net_raw|sys_rawio|dac_read_search'", want: "^0$"},
	{line: "busybox ip addr", want: "127.0.0.1"},
	{line: "busybox ip addr | busybox grep -c mtu", want: "^1$", chroot: "."}, // a loopback alone
	{line: "busybox ip link set lo down", want: "Operation not permitted"},
	{line: "busybox ls /sys/devices/system", want: "cpu", chroot: "No such file"},
	{line: "echo 1 > /sys/kernel/mm/ksm/run", want: "nonexistent directory"},
	{line: "busybox ls -l /proc/self/fd 2> /dev/null | busybox grep -c /imbricat", want: "^0$"},
}

// TestOutOfReach: what a command must not get at, and what it must, in every kind of sandbox.
func TestOutOfReach(t *testing.T) {
	before, err := os.Stat("/dev/null")
	require.NoError(t, err)
	for name, o := range kinds() {
		b := newBench(t, o)
		_, _, _, err := b.run(context.Background(), "/nowhere", func(s *Spec) { s.Args = []string{"/nowhere"} })
		require.ErrorContains(t, err, "no /nowhere")
		for _, p := range probes {
			want := p.want
			if o.Kind == Chroot && p.chroot != "" {
				want = p.chroot
			}
			_, out, _, err := b.run(context.Background(), p.line, nil)
			require.NoError(t, err, "%s: %s", name, p.line)
			require.Regexp(t, want, strings.TrimSpace(out), "%s: %s", name, p.line)
			t.Logf("held: %s: %s: %s", name, p.line, strings.ReplaceAll(strings.TrimSpace(out), "\n", "; "))
		}
	}
	after, err := os.Stat("/dev/null")
	require.NoError(t, err)
	require.Equal(t, before.Mode(), after.Mode())
	require.Equal(t, before.Sys().(*syscall.Stat_t).Uid, after.Sys().(*syscall.Stat_t).Uid)

	b := newBench(t, Options{})
	host, err := net.Listen("unix", "@imbricat-test-"+fmt.Sprint(os.Getpid()))
	require.NoError(t, err)
	defer host.Close()
	outside := exec.Command("/proc/self/exe")
	outside.Env = []string{"IMBRICAT_TEST_DIAL=@" + host.Addr().String()[1:]}
	require.NoError(t, outside.Run(), "it can be reached from outside a sandbox")
	self, err := os.ReadFile("/proc/self/exe") // a program that can talk to sockets: this test
	require.NoError(t, err)
	status, out, _, err := b.run(context.Background(), "busybox cat > /dev/null; /tmp/dial", func(s *Spec) {
		s.Network = true
		s.Files = []Secret{{At: "/etc/dial", Content: self, Mode: 0o755}}
		s.Points = []tree.Entry{b.view[0], b.view[4], {Path: "etc/dial", Kind: tree.File, Mode: 0o644, Content: digest.ContentBytes(nil)}}
		s.Args, s.Env = []string{"/bin/sh", "-c", "busybox cp /etc/dial /tmp/dial; busybox chmod 755 /tmp/dial; exec /tmp/dial"}, append(s.Env, "IMBRICAT_TEST_DIAL=@"+host.Addr().String()[1:])
	})
	require.NoError(t, err)
	if scoped() && status.Code != 127 { // with the race detector the test needs libraries
		require.Equal(t, 3, status.Code, "the machine's abstract socket is out of reach: %s", out)
	}
}

// TestNothingStays: whatever a command leaves running ends with it, with the context, or with the program.
func TestNothingStays(t *testing.T) {
	for name, o := range kinds() {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, o)
			mark := fmt.Sprintf("31%d", os.Getpid())
			alive := func() bool {
				out, _ := exec.Command("pgrep", "-f", "sleep "+mark).Output()
				return len(out) > 0
			}
			_, _, _, err := b.run(context.Background(), "busybox setsid busybox sleep "+mark+" & busybox setsid busybox sleep "+mark+" & busybox sleep 0.1", nil)
			require.NoError(t, err)
			require.Eventually(t, func() bool { return !alive() }, 5*time.Second, 10*time.Millisecond)
			ctx, cancel := context.WithCancel(context.Background())
			time.AfterFunc(300*time.Millisecond, cancel)
			_, _, _, err = b.run(ctx, "busybox setsid busybox sleep "+mark+" & busybox sleep "+mark, nil)
			require.ErrorIs(t, err, context.Canceled)
			require.Eventually(t, func() bool { return !alive() }, 5*time.Second, 10*time.Millisecond)
		})
	}
}

// TestHostileTrees: a tree cannot reach out of the folder that it is laid down in.
func TestHostileTrees(t *testing.T) {
	b := newBench(t, Options{})
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "theirs"), nil, 0o644))
	file := func(p string) tree.Entry {
		return tree.Entry{Path: p, Kind: tree.File, Mode: 0o644, Size: 1, Content: digest.ContentBytes([]byte("x"))}
	}
	root := tree.Entry{Kind: tree.Folder, Mode: 0o755}
	for want, entries := range map[string][]tree.Entry{
		"lies in no folder":   {root, {Path: "a", Kind: tree.Symlink, Target: outside}, file("a/b")},
		"is not a path":       {root, file("../b")},
		"another name of /..": {root, {Path: "a", Kind: tree.Hardlink, Target: "../../../etc/passwd"}},
		"another name of /a/": {root, {Path: "a", Kind: tree.Symlink, Target: outside}, {Path: "b", Kind: tree.Hardlink, Target: "a/theirs"}},
		"another name of /d,": {root, {Path: "b", Kind: tree.Hardlink, Target: "d"}, {Path: "d", Kind: tree.Folder, Mode: 0o755}},
		"file exists":         {root, {Path: "a", Kind: tree.Symlink, Target: outside + "/c"}, {Path: "a", Kind: tree.Symlink, Target: "d"}},
		"too many levels":     {root, {Path: "a", Kind: tree.Symlink, Target: outside + "/c"}, file("a")},
		"have fewer contents": {root, {Path: "a", Kind: tree.File, Size: 1, Content: digest.ContentBytes([]byte("y"))}},
	} {
		err := b.Lay(context.Background(), filepath.Join(b.dir, "hostile-"+strings.ReplaceAll(want, " ", "-")), entries, func(put func(int, int64, io.Reader) error) error {
			for i := range entries {
				if entries[i].Kind == tree.File {
					if err := put(i, -1, strings.NewReader("x")); err != nil {
						return err
					}
				}
			}
			return nil
		})
		require.Error(t, err, want)
		if want == "have fewer contents" {
			require.ErrorIs(t, err, digest.ErrMismatch)
		} else {
			require.Contains(t, err.Error(), want)
		}
		t.Log("held: " + want)
	}
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Len(t, left, 1)
	// What is there already is laid into as far as it is a folder, and a link to one is none.
	within := filepath.Join(b.dir, "within")
	require.NoError(t, os.Mkdir(within, 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(within, "d")))
	points := []tree.Entry{root, {Path: "d", Kind: tree.Folder, Mode: 0o755}, {Path: "d/e", Kind: tree.Folder, Mode: 0o755}}
	require.ErrorContains(t, b.layIn(context.Background(), folder.Laying{Dir: within, Missing: true}, points, noFiles(points)), "lies in no folder")
	left, err = os.ReadDir(outside)
	require.NoError(t, err)
	require.Len(t, left, 1)
	// Attributes by which overlays steer themselves, and devices, are not laid down.
	entries := []tree.Entry{root, {Path: "d", Kind: tree.Folder, Mode: 0o755, Xattrs: map[string]string{"user.overlay.opaque": "y", "user.tide": "3.42 m"}}, {Path: "e", Kind: tree.CharDevice, Mode: 0o600}}
	dir := filepath.Join(b.dir, "quiet")
	require.NoError(t, b.Lay(context.Background(), dir, entries, func(func(int, int64, io.Reader) error) error { return nil }))
	found, err := b.Read(dir, false)
	require.NoError(t, err)
	require.Len(t, found, 2)
	require.False(t, found[1].Opaque)
	require.Equal(t, map[string]string{"user.tide": "3.42 m"}, found[1].Xattrs)
}

// TestFilterRefuses holds the filter's tables against the numbers that every kernel has.
func TestFilterRefuses(t *testing.T) {
	raw, err := program(tables, Root)
	require.NoError(t, err)
	require.Less(t, len(raw), 4096, "what a kernel takes")
	plain := make([]bpf.Instruction, len(raw))
	for i := range raw {
		plain[i] = raw[i].Disassemble()
	}
	machine, err := bpf.NewVM(plain)
	require.NoError(t, err)
	ask := func(arch, number uint32, args ...uint32) uint32 {
		data := make([]byte, 64)
		// The interpreter reads in network order.
		binary.BigEndian.PutUint32(data[observe.OffsetNumber:], number)
		binary.BigEndian.PutUint32(data[observe.OffsetArch:], arch)
		for i, a := range args {
			binary.BigEndian.PutUint32(data[observe.OffsetFirst+8*i:], a)
		}
		verdict, err := machine.Run(data)
		require.NoError(t, err)
		return uint32(verdict)
	}
	const allow, eperm, enosys = unix.SECCOMP_RET_ALLOW, unix.SECCOMP_RET_ERRNO | uint32(unix.EPERM), unix.SECCOMP_RET_ERRNO | uint32(unix.ENOSYS)
	one := tables[0]
	for _, n := range one.refused {
		require.Equal(t, eperm, ask(one.arch, n), n)
	}
	require.EqualValues(t, allow, ask(one.arch, unix.SYS_OPENAT))
	require.EqualValues(t, allow, ask(one.arch, one.clone, uint32(unix.SIGCHLD)))
	require.Equal(t, eperm, ask(one.arch, one.clone, unix.CLONE_NEWUSER))
	require.Equal(t, eperm, ask(one.arch, one.unshare, unix.CLONE_NEWNS))
	require.EqualValues(t, allow, ask(one.arch, one.unshare, unix.CLONE_FILES))
	require.Equal(t, eperm, ask(one.arch, one.ioctl, 0, unix.TIOCSTI))
	require.EqualValues(t, allow, ask(one.arch, one.ioctl, 0, unix.TCGETS))
	require.Equal(t, enosys, ask(one.arch, 435), "clone3")
	require.Equal(t, enosys, ask(0x1234, unix.SYS_OPENAT), "a way of calling without a table")
	if one.most != 0 {
		require.Equal(t, enosys, ask(one.arch, one.most+1))
	}
}

// BenchmarkWrote reads back 10,000 small files that a command wrote, and compares with tar and a hash over the same ones.
func BenchmarkWrote(b *testing.B) {
	bench := newBench(b, Options{})
	var own, peer []time.Duration
	for n := range b.N {
		s := &Spec{Work: filepath.Join(bench.dir, fmt.Sprint("bench", n)), Top: bench.view[0], Lower: []string{bench.base}, Dir: "/tmp", Env: []string{"PATH=/bin"},
			Args: []string{"/bin/sh", "-c", "for i in $(busybox seq 100); do busybox mkdir $i; for j in $(busybox seq 100); do echo $i $j > $i/$j; done; done"}}
		require.NoError(b, os.Mkdir(s.Work, 0o755))
		require.NoError(b, bench.Prepare(context.Background(), s, nil, nil))
		_, err := bench.Run(context.Background(), s)
		require.NoError(b, err)
		began := time.Now()
		require.NoError(b, exec.Command("sh", "-c", "tar -C "+s.Work+"/upper -cf - . | sha256sum").Run())
		peer = append(peer, time.Since(began))
		began = time.Now()
		found, err := bench.Wrote(s, "")
		own = append(own, time.Since(began))
		require.NoError(b, err)
		require.Greater(b, len(found), 10_000)
		require.NoError(b, bench.Remove(s.Work))
	}
	slices.Sort(own)
	slices.Sort(peer)
	b.ReportMetric(float64(own[len(own)/2])/float64(peer[len(peer)/2]), "ratio")
}
