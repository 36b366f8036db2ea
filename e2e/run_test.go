package e2e

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"net"
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

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// ordinary is a user who is not root, with a range of ids: continuous integration makes one of this name.
func ordinary(t *testing.T) *syscall.Credential {
	if os.Getuid() != 0 {
		t.Skip("this is an ordinary user already, so the same ran above")
	}
	found, err := user.Lookup("tideline")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("there is no user tideline: useradd --create-home tideline")
	}
	require.NoError(t, err)
	uid, err := strconv.Atoi(found.Uid)
	require.NoError(t, err)
	gid, err := strconv.Atoi(found.Gid)
	require.NoError(t, err)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
}

// handOver gives a folder with all in it to a user, and lets the user reach it and the program.
func handOver(dir string, who *syscall.Credential) error {
	err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, int(who.Uid), int(who.Gid))
	})
	for _, above := range []string{filepath.Dir(program), dir, filepath.Dir(dir), filepath.Dir(filepath.Dir(dir))} {
		if info, statErr := os.Stat(above); statErr == nil && strings.HasPrefix(above, os.TempDir()+"/") {
			_ = os.Chmod(above, info.Mode().Perm()|0o055)
		}
	}
	return err
}

// busybox FOLDER [NAME…]: fills a folder with the machine's static busybox and links of these names to it.
func fillBusybox(ts *testscript.TestScript, neg bool, args []string) {
	folder := filepath.Join(ts.MkAbs(args[0]), "bin")
	ts.Check(os.MkdirAll(folder, 0o755))
	text, err := os.ReadFile("/bin/busybox")
	if err != nil && os.Getenv("CI") == "" {
		ts.Fatalf("busybox-static is not installed")
	}
	ts.Check(err)
	ts.Check(os.WriteFile(filepath.Join(folder, "busybox"), text, 0o755))
	for _, name := range args[1:] {
		ts.Check(os.Symlink("busybox", filepath.Join(folder, name)))
	}
	if who, _ := ts.Value("user").(*syscall.Credential); who != nil {
		ts.Check(handOver(ts.MkAbs(args[0]), who))
	}
}

// freePort: sets $PORT to a port of the loopback that nothing listens at.
func freePort(ts *testscript.TestScript, neg bool, _ []string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	ts.Check(err)
	defer l.Close()
	ts.Setenv("PORT", strconv.Itoa(l.Addr().(*net.TCPAddr).Port))
}

// TestRunScripts drives commands in sandboxes: as root, as an ordinary user, and in a chroot.
func TestRunScripts(t *testing.T) {
	need(t, "busybox")
	testscript.Run(t, params("testdata/run", nil))
}

func TestRunScriptsAsUser(t *testing.T) {
	if os.Getenv("IMBRICAT_TEST_USER_FOLLOWS") != "" {
		t.Skip("the whole of the tests follows as that user")
	}
	need(t, "busybox")
	need(t, "newuidmap")
	testscript.Run(t, params("testdata/run", ordinary(t)))
}

// TestRunScriptsOnOverlay: where the store lies on an overlay, as in a container for development, no overlay can be mounted
// over it, and commands work on copies: for root and for an ordinary user.
func TestRunScriptsOnOverlay(t *testing.T) {
	need(t, "busybox")
	need(t, "newuidmap")
	if os.Getuid() != 0 {
		t.Skip("mounting takes root")
	}
	who := ordinary(t)
	dir, err := os.MkdirTemp("", "imbricat-overlay-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	for _, name := range []string{"lower", "upper", "work", "merged"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, name), 0o755))
	}
	require.NoError(t, os.Chmod(dir, 0o755))
	merged := filepath.Join(dir, "merged")
	require.NoError(t, unix.Mount("overlay", merged, "overlay", 0, fmt.Sprintf("lowerdir=%[1]s/lower,upperdir=%[1]s/upper,workdir=%[1]s/work", dir)))
	defer func() { require.NoError(t, unix.Unmount(merged, unix.MNT_DETACH)) }()
	for name, who := range map[string]*syscall.Credential{"root": nil, "user": who} {
		t.Run(name, func(t *testing.T) {
			p := params("", who)
			p.Dir, p.Files = "", []string{"testdata/run/same_tree.txtar", "testdata/run/steps.txtar", "testdata/run/lend.txtar"}
			p.WorkdirRoot = filepath.Join(merged, name)
			require.NoError(t, os.Mkdir(p.WorkdirRoot, 0o755))
			testscript.Run(t, p)
		})
	}
}

// bases names the folder of real bases that scripts/real-bases makes.
func bases(t *testing.T) string {
	dir := os.Getenv("IMBRICAT_TEST_BASES")
	if dir == "" && os.Getenv("CI") == "" {
		t.Skip("IMBRICAT_TEST_BASES is not set: scripts/real-bases makes bases")
	}
	require.NotEmpty(t, dir)
	return dir
}

const debianRecipe = `imbricat: 1
silence: [set-uid, world-writable, emulated]
images:
  debian:
    base: none
    steps:
      - unpack: {from: debian.tar, to: /}
`

const toolsRecipe = `imbricat: 1
silence: [set-uid, world-writable]
stages:
  tools: # shared by both images
    base: debian:latest
    steps:
      - write: {to: /etc/apt/apt.conf.d/90keep, text: "APT::Keep-Downloaded-Packages \"true\";\nBinary::apt::APT::Keep-Downloaded-Packages \"true\";\n"}
      - run:
          - apt-get update -q
          - apt-get install -y -q --no-install-recommends tcc libc6-dev libcap2-bin
        env: {DEBIAN_FRONTEND: noninteractive}
        kept: [{name: lists, at: /var/lib/apt/lists}, {name: packages, at: /var/cache/apt/archives}]
  compiled:
    base: {stage: tools}
    steps:
      - copy: {from: gauge.c, to: /src/}
      - run: [tcc -static -nostdlib -o /out-gauge gauge.c, setcap cap_net_bind_service+ep /out-gauge]
        working-dir: /src
        network: false
images:
  gauge:
    base: none
    steps:
      - take: {from: compiled, paths: /out-gauge, to: /usr/bin/gauge}
    settings: {entrypoint: [/usr/bin/gauge]}
  shell:
    base: {stage: tools}
    steps:
      - run: ls /var/cache/apt/archives/*.deb && tcc -v
        kept: [{name: packages, at: /var/cache/apt/archives}]
        name: look
`

// gaugeSource is a program that needs nothing: two system calls of amd64.
const gaugeSource = `
void _start(void)
{
	static const char level[] = "3.42 m\n";
	long n;
	asm volatile("syscall" : "=a"(n) : "a"(1), "D"(1), "S"(level), "d"(sizeof level - 1) : "rcx", "r11", "memory");
	asm volatile("syscall" : "=a"(n) : "a"(60), "D"(0) : "rcx", "r11", "memory");
}
`

// TestDebian: apt-get installs real packages into a real base, as root and as an ordinary user, into a kept directory that
// two images' steps share; a compiler from there makes a program that runs on nothing.
func TestDebian(t *testing.T) {
	if testing.Short() && os.Getuid() != 0 {
		t.Skip("it takes long, and root's tests run it as an ordinary user too")
	}
	dir := bases(t)
	digests := map[string]bool{}
	for name, who := range map[string]func(*testing.T) *syscall.Credential{"root": func(*testing.T) *syscall.Credential { return nil }, "user": ordinary} {
		t.Run(name, func(t *testing.T) {
			r := newRun(t)
			r.who = who(t)
			r.write("imbricat.yaml", debianRecipe)
			output(t, exec.Command("cp", "--reflink=auto", filepath.Join(dir, "debian.tar"), r.dir))
			r.write("tools/gauge.c", gaugeSource)
			r.write("tools/imbricat.yaml", toolsRecipe)
			if r.who != nil {
				require.NoError(t, handOver(r.dir, r.who))
			}
			r.ok("build")
			r.ok("store", "name", "debian", "debian:latest")
			r.ok("build", "--dir", "tools")
			require.Equal(t, "3.42 m\n", r.ok("try", "gauge"))
			// Capabilities are part of a layer, without the user namespace in which they were set.
			layer := manifestOf(t, r, "gauge", "linux/"+runtime.GOARCH).Layers[0].Digest
			digests[layer] = true
			packed := filepath.Join(r.dir, "store/blobs/sha256", strings.TrimPrefix(layer, "sha256:"))
			require.Contains(t, string(output(t, exec.Command("gzip", "-dc", packed))), "SCHILY.xattr.security.capability=\x01\x00\x00\x02\x00\x04")
			require.Contains(t, r.ok("try", "shell", "--", "dpkg", "-s", "tcc"), "Status: install ok installed")
			require.Contains(t, r.ok("store", "kept"), "packages")
			require.Contains(t, r.ok("build", "--dir", "tools", "--format", "json"), `"ran": 0`)
			// A kept directory that is gone is filled again before a step that needs it, and only then.
			r.ok("store", "kept", "drop", "packages")
			require.Contains(t, r.ok("build", "--dir", "tools", "--format", "json"), `"ran": 0`)
			r.ok("build", "--dir", "tools", "shell", "--fresh", "look")
			require.Contains(t, r.ok("store", "check"), "nothing wrong")
		})
	}
	require.Len(t, digests, 1, "root and an ordinary user make the same")
}

const emulatedRecipe = `imbricat: 1
images:
  gauge:
    base: none
    platforms: [linux/arm64]
    steps:
      - copy: {from: bin, to: /bin}
      - run: {command: [/bin/busybox, sh, -c, "busybox uname -m > /machine"]}
    settings: {entrypoint: [/bin/busybox, cat, /machine]}
`

// TestEmulated: commands for another architecture run through the kernel's registered emulator, and are said to.
func TestEmulated(t *testing.T) {
	dir := bases(t)
	r := newRun(t)
	text, err := os.ReadFile(filepath.Join(dir, "busybox-arm64"))
	require.NoError(t, err)
	r.write("bin/busybox", string(text))
	require.NoError(t, os.Chmod(filepath.Join(r.dir, "bin/busybox"), 0o755))
	r.write("imbricat.yaml", emulatedRecipe)
	require.Contains(t, r.stderr("build"), "emulator, which is several times slower [emulated]")
	require.Equal(t, "aarch64\n", r.ok("try", "gauge", "--platform", "linux/arm64"))
	require.Contains(t, r.stderr("try", "gauge", "--platform", "linux/arm64"), "[emulated]")
	// Without an emulator it fails before any work, with the ways out.
	r.write("imbricat.yaml", strings.ReplaceAll(emulatedRecipe, "arm64", "s390x"))
	code, problems := r.exit("build")
	require.Equal(t, 6, code)
	require.Contains(t, problems, "s390x")
}

// TestKilled: builds that are killed at random moments leave no process, no mount, and a sound store.
func TestKilled(t *testing.T) {
	r := newRun(t)
	mark := "32" + strconv.Itoa(os.Getpid())
	r.write("imbricat.yaml", fmt.Sprintf(`imbricat: 1
images:
  gauge:
    base: none
    steps:
      - copy: {from: bin, to: /bin}
      - run: {command: [/bin/busybox, sh, -c, "busybox setsid busybox sleep %s & for i in 1 2 3 4 5 6 7 8 9; do busybox mkdir -p /d/$i; echo $ROUND > /d/$i/f; busybox sleep 0.01; done"]}
        env: {ROUND: "${env.ROUND}"}
        kept: [{name: downloads, at: /cache}]
`, mark))
	r.busybox()
	before, err := os.ReadFile("/proc/self/mounts")
	require.NoError(t, err)
	rounds := 50
	for i := range rounds {
		c := exec.Command(program, "build", "--view", "none")
		c.Dir, c.Env = r.dir, append(slices.Clone(r.env), "ROUND="+strconv.Itoa(i))
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(i*7) * time.Millisecond / 2)
		_ = c.Process.Kill()
		_ = c.Wait()
	}
	require.Eventually(t, func() bool { return exec.Command("pgrep", "-f", "sleep "+mark).Run() != nil }, 5*time.Second, 20*time.Millisecond, "a process stays")
	after, err := os.ReadFile("/proc/self/mounts")
	require.NoError(t, err)
	require.Equal(t, string(before), string(after))
	require.Contains(t, r.ok("store", "check"), "nothing wrong")
	r.env = append(r.env, "ROUND=last")
	r.ok("build")
	require.Equal(t, "last\n", r.ok("try", "gauge", "--", "/bin/busybox", "cat", "/d/9/f"))
	left, err := filepath.Glob(filepath.Join(r.dir, "store/imbricat/tmp/work-*"))
	require.NoError(t, err)
	require.Empty(t, left, "what the killed ones left unfinished is swept up")
}

// TestForbidden: in a place that forbids namespaces and mounts, as containers of clusters do, a build says what is missing
// before any work; --sandbox chroot is the way on for root, and all but commands works anyway.
func TestForbidden(t *testing.T) {
	need(t, "busybox")
	need(t, "unshare")
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", `imbricat: 1
images:
  plain: {base: none, steps: [{copy: {from: bin, to: /bin}}]}
  gauge:
    base: {image: plain}
    steps:
      - run: {command: [/bin/busybox, sh, -c, "echo 3.42 > /level"]}
`)
	// A user namespace whose limits are 0 refuses as such places do.
	inside := func(args ...string) (int, string) {
		line := "for l in user mnt pid net ipc uts; do echo 0 > /proc/sys/user/max_${l}_namespaces; done; exec \"$@\""
		c := exec.Command("unshare", append([]string{"-Ur", "sh", "-c", line, "sh", program}, args...)...)
		c.Dir, c.Env = r.dir, slices.Clone(r.env)
		out, _ := c.CombinedOutput()
		return c.ProcessState.ExitCode(), string(out)
	}
	code, out := inside("build", "plain")
	require.Equal(t, 0, code, out)
	code, out = inside("build")
	require.Equal(t, 6, code, out)
	require.Contains(t, out, "namespaces")
	require.Contains(t, out, "--sandbox chroot")
	require.NotContains(t, out, "● ran", "nothing was started")
	code, out = inside("doctor")
	require.Equal(t, 0, code, out)
	require.Contains(t, out, "refuses new namespaces")
	code, out = inside("build", "--sandbox", "chroot")
	require.Equal(t, 0, code, out)
	require.Contains(t, out, "[confined]")
	digests := func() string { return manifestOf(t, r, "gauge", "linux/"+runtime.GOARCH).Layers[1].Digest }
	chrooted := digests()
	r.ok("build", "--fresh")
	require.Equal(t, digests(), chrooted, "what a command leaves is the same however it was run")
}

// TestWithoutOverlay: on a file system that no overlay can lie on, as inside another one, commands work on copies, which is
// said, and leave the same.
func TestWithoutOverlay(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("mounting takes root")
	}
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", `imbricat: 1
images:
  gauge:
    base: none
    steps:
      - copy: {from: bin, to: /bin}
      - run: {command: [/bin/busybox, sh, -c, "busybox mkdir -p /n/d; echo 1 > /n/a; echo 2 > /n/d/b"]}
      - run: {command: [/bin/busybox, sh, -c, "busybox rm -r /n; busybox mkdir -p /n; echo 3 > /n/b; busybox chmod 700 /bin"]}
`)
	want := r.build().Images[0].Digest
	script := `set -e; cd "$1"; mkdir l u k m; mount -t overlay o -o lowerdir=l,upperdir=u,workdir=k m; shift
export IMBRICAT_STORE=$PWD/m/store; for i in 1 2; do "$@" build --format json --fresh --view lines; done; "$@" store check; "$@" doctor`
	c := exec.Command(need(t, "unshare"), "-m", "sh", "-c", script, "sh", r.dir, program)
	c.Dir, c.Env = r.dir, r.env
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, 2, strings.Count(string(out), want), string(out))
	require.Contains(t, string(out), "[confined]")
	require.Contains(t, string(out), "nothing wrong")
	require.Contains(t, string(out), "views are copied for every command")
}

// TestSideBySide: independent stages run at once, and a step that two images need runs once.
func TestSideBySide(t *testing.T) {
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", `imbricat: 1
stages:
  base: {base: none, steps: [{copy: {from: bin, to: /bin}}]}
  one: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, sh, -c, "for i in 1 2 3 4 5 6 7 8 9 10; do echo > /kept/one; if busybox test -e /kept/two; then exit 0; fi; busybox sleep 1; done; exit 1"]}, kept: [{name: meet, at: /kept, hand-out: at-once}]}]}
  two: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, sh, -c, "for i in 1 2 3 4 5 6 7 8 9 10; do echo > /kept/two; if busybox test -e /kept/one; then exit 0; fi; busybox sleep 1; done; exit 1"]}, kept: [{name: meet, at: /kept, hand-out: at-once}]}]}
  turns: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, sh, -c, "busybox mkdir /kept/lock && busybox sleep 3 && busybox rmdir /kept/lock"]}, kept: [{name: alone, at: /kept}]}]}
  other: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, sh, -c, "busybox mkdir /kept/lock && busybox sleep 3.1 && busybox rmdir /kept/lock"]}, kept: [{name: alone, at: /kept}]}]}
images:
  gauge: {base: none, steps: [{take: {from: one, paths: /bin/busybox, to: /1}}, {take: {from: two, paths: /bin/busybox, to: /2}}, {take: {from: turns, paths: /bin/busybox, to: /3}}]}
  bulletin: {base: none, steps: [{take: {from: one, paths: /bin/busybox, to: /1}}, {take: {from: other, paths: /bin/busybox, to: /2}}]}
`)
	// The stages one and two can only end when they run at the same time, the other two only one after the other.
	problems := r.stderr("build")
	require.Contains(t, problems, "for the kept directory alone")
	require.Equal(t, 1, strings.Count(problems, "● ran     one:1 "), problems)
}

// TestTerminal: a command that is tried at a terminal has one of its own: its size, its Ctrl-C, its end of input.
func TestTerminal(t *testing.T) {
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", `imbricat: 1
images: {gauge: {base: none, steps: [{copy: {from: bin, to: /bin}}], settings: {entrypoint: [/bin/busybox, sh, -i]}}}
`)
	r.ok("build")
	c := r.command("try", "gauge")
	typed, shown := onTerminal(t, c, 33, 101)
	until := func(text string) {
		t.Helper()
		waitFor(t, shown, text)
	}
	until("# ")
	typed("busybox stty size; echo $TERM\n")
	until("33 101\r\nxterm")
	typed("echo begun; busybox sleep 100\n")
	until("\nbegun\r\n")
	time.Sleep(300 * time.Millisecond)
	typed("\x03")
	typed("echo still $((40 + 2))\n")
	until("still 42")
	typed("exit 3\n")
	_ = c.Wait()
	require.Equal(t, 3, c.ProcessState.ExitCode())
}

// TestHostileBase: a base whose layers hold links that lead out, devices, marks that steer overlays, deletions beside what
// they delete, and files whose folders no layer has, is used inside its root, and shows what its layers say.
func TestHostileBase(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("making devices and owners takes root")
	}
	r := newRun(t)
	r.busybox()
	outside := filepath.Join(r.dir, "outside")
	require.NoError(t, os.Mkdir(outside, 0o777))
	layerOf := func(name string, fill func(dir string)) {
		dir := filepath.Join(r.dir, name)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		fill(dir)
		// The folder tmp of the second layer has no entry of its own.
		output(t, exec.Command("sh", "-c", "cd "+dir+" && find . | grep -v -x "+map[string]string{"first": "./none", "second": "./tmp"}[name]+
			" | tar --xattrs --xattrs-include='*' --no-recursion -T - -cf "+dir+".tar"))
	}
	put := func(dir, name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	layerOf("first", func(dir string) {
		put(dir, "bin/busybox", string(must(os.ReadFile("/bin/busybox"))))
		require.NoError(t, os.Chmod(filepath.Join(dir, "bin/busybox"), 0o755))
		require.NoError(t, os.Symlink(outside, filepath.Join(dir, "escape")))
		require.NoError(t, os.Symlink("../../../../../../"+outside, filepath.Join(dir, "etc")))
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "tmp"), 0o755))
		require.NoError(t, unix.Chmod(filepath.Join(dir, "tmp"), 0o1777))
		put(dir, "d/old", "old")
		require.NoError(t, unix.Mknod(filepath.Join(dir, "disk"), unix.S_IFBLK|0o666, int(unix.Mkdev(254, 0))))
		require.NoError(t, unix.Mknod(filepath.Join(dir, "gone"), unix.S_IFCHR, 0))
		require.NoError(t, os.Mkdir(filepath.Join(dir, "steer"), 0o755))
		put(dir, "steer/a", "a")
	})
	layerOf("second", func(dir string) {
		put(dir, "escape/x", "x") // replaces the link by a folder
		put(dir, "tmp/y", "y")
		put(dir, "d/.wh..wh..opq", "")
		put(dir, "d/new", "new")
		put(dir, ".wh.nothing", "")
		put(dir, "steer/b", "b")
		require.NoError(t, unix.Setxattr(filepath.Join(dir, "steer"), "user.overlay.opaque", []byte("y"), 0))
	})
	foreignImage(t, filepath.Join(r.dir, "base"), "first.tar", "second.tar")
	r.write("imbricat.yaml", `imbricat: 1
silence: [set-uid, world-writable]
images:
  gauge:
    base: ./base
    steps:
      - run: {command: [/bin/busybox, sh, -c, "cd /; busybox find . -xdev | busybox grep -v -e ^./proc -e ^./dev -e ^./sys | busybox sort; busybox stat -c %a /tmp; busybox cat /d/new /steer/a; echo out > /escape/out; echo n > /etc/n"]}
`)
	problems := r.stderr("build")
	for _, want := range []string{"./d/new", "./escape/x", "./steer/a", "./steer/b", "./tmp/y", " 1777", " newa"} {
		require.Contains(t, problems, want)
	}
	for _, not := range []string{"./d/old", "./disk", "./gone", "./nothing"} {
		require.NotContains(t, problems, not+"\n")
	}
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Empty(t, left, "nothing reaches out")
	require.Contains(t, r.ok("store", "check"), "nothing wrong")
}

func must(text []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return text
}

// foreignImage writes an OCI layout of plain layers, as another program would.
func foreignImage(t *testing.T, dir string, tars ...string) {
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "blobs/sha256"), 0o755))
	blob := func(text []byte) map[string]any {
		name := fmt.Sprintf("%x", sha256.Sum256(text))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "blobs/sha256", name), text, 0o644))
		return map[string]any{"digest": "sha256:" + name, "size": len(text)}
	}
	document := func(kind string, v any) map[string]any {
		text, err := json.Marshal(v)
		require.NoError(t, err)
		d := blob(text)
		d["mediaType"] = "application/vnd.oci.image." + kind + ".v1+json"
		return d
	}
	var layers, ids []any
	for _, name := range tars {
		layer := blob(must(os.ReadFile(filepath.Join(filepath.Dir(dir), name))))
		layer["mediaType"] = "application/vnd.oci.image.layer.v1.tar"
		layers, ids = append(layers, layer), append(ids, layer["digest"])
	}
	config := document("config", map[string]any{"architecture": runtime.GOARCH, "os": "linux", "rootfs": map[string]any{"type": "layers", "diff_ids": ids}})
	manifest := document("manifest", map[string]any{"schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json", "config": config, "layers": layers})
	text, err := json.Marshal(map[string]any{"schemaVersion": 2, "manifests": []any{manifest}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.json"), text, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "oci-layout"), []byte(`{"imageLayoutVersion":"1.0.0"}`), 0o644))
}

// TestOneID: a user without a range of ids gets the same digests where ids do not matter, owners from the index where
// files are copied up, and an error where an owner cannot be known.
func TestOneID(t *testing.T) {
	r := newRun(t)
	r.busybox()
	recipe := `imbricat: 1
silence: [set-uid, world-writable]
stages:
  base: {base: none, steps: [{copy: {from: bin, to: /bin}}, {write: {to: /d/mine, text: "1\n", owner: "50:50"}}]}
images:
  gauge: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, sh, -c, "echo 2 >> /d/mine; echo new > /d/new; busybox ls -l /proc/self > /dev/null"]}}]}
  moved: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, mv, /d/mine, /d/yours]}}]}
  other: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, chown, "7", /d/mine]}}]}
`
	r.write("imbricat.yaml", recipe)
	digest := func(b built) string { return b.Images[0].Digest }
	want := digest(r.build("gauge"))
	// In a user namespace with one id there is no other range, whoever the user was.
	inside := func(args ...string) *exec.Cmd {
		c := exec.Command(need(t, "unshare"), append([]string{"-U", "--map-user=1000", "--map-group=1000", program}, args...)...)
		c.Dir, c.Env = r.dir, append(slices.Clone(r.env), "IMBRICAT_STORE="+filepath.Join(r.dir, "single"))
		return c
	}
	out, err := inside("build", "gauge", "--format", "json", "--view", "none").Output()
	require.NoError(t, err)
	require.Contains(t, string(out), want)
	text, err := inside("build", "moved").CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(text), "/d/yours was moved from elsewhere, and this user has no range of ids")
	require.Contains(t, string(text), "/etc/subuid")
	_, err = inside("build", "other").CombinedOutput()
	require.Error(t, err)
	text, err = inside("doctor").CombinedOutput()
	require.NoError(t, err)
	require.Contains(t, string(text), "one id")
}

// TestGiven: the ssh agent's socket is there while a step runs, a result expires, and --jobs bounds what runs at a time.
func TestGiven(t *testing.T) {
	r := newRun(t)
	r.busybox()
	socket := filepath.Join(r.dir, "agent")
	agent, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer agent.Close()
	r.env = append(r.env, "SSH_AUTH_SOCK="+socket)
	r.write("imbricat.yaml", `imbricat: 1
secrets: {agent: {ssh-agent: true}, key: {command: [printf, made-up]}, note: {file: note.txt}}
stages:
  base: {base: none, steps: [{copy: {from: bin, to: /bin}}]}
  a: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, sh, -c, "test $SSH_AUTH_SOCK = /run/agent; busybox test -S /run/agent && busybox cp /run/key /run/note /"]}, expires: 1s,
    secrets: [{name: agent, at: /run/agent}, {name: key, at: /run/key}, {name: note, at: /run/note}]}]}
  b: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, sh, -c, "busybox mkdir /k/lock && busybox sleep 2 && busybox rmdir /k/lock"]}, kept: [{name: k, at: /k, hand-out: at-once}]}]}
  c: {base: {stage: base}, steps: [{run: {command: [/bin/busybox, sh, -c, "busybox mkdir /k/lock && busybox sleep 2.1 && busybox rmdir /k/lock"]}, kept: [{name: k, at: /k, hand-out: at-once}]}]}
images:
  gauge: {base: none, steps: [{take: {from: a, paths: [/key, /note], to: /}}]}
  both: {base: none, steps: [{take: {from: b, paths: /bin/busybox, to: /b}}, {take: {from: c, paths: /bin/busybox, to: /c}}]}
`)
	r.write("note.txt", "3.42 m\n")
	r.build("gauge")
	time.Sleep(1100 * time.Millisecond)
	again := r.build("gauge")
	require.Equal(t, 1, again.Ran)
	for _, s := range again.Steps {
		if s.Outcome == "ran" {
			require.Contains(t, s.Reason, "older than 1s")
		}
	}
	// Two steps that would trip over each other do not, one at a time.
	r.ok("build", "both", "--jobs", "1")
	code, _ := r.exit("build", "both", "--fresh", "--jobs", "2")
	require.Equal(t, 1, code)
}

// TestRefill: a step that runs once more for its kept directory leaves alone what it left before.
func TestRefill(t *testing.T) {
	r := newRun(t)
	r.busybox()
	recipe := `imbricat: 1
stages:
  base: {base: none, steps: [{copy: {from: bin, to: /bin}}, {write: {to: /f, text: "old\n"}}]}
images:
  gauge:
    base: {stage: base}
    steps:
      - run: {command: [/bin/busybox, sh, -c, "busybox rm /f; echo 3.42 > /k/n"]}
        name: fill
        kept: [{name: k, at: /k}]
      - run: {command: [/bin/busybox, sh, -c, "echo m > /made"]}
      - run: {command: [/bin/busybox, sh, -c, "busybox cat /k/n; busybox cp /k/n /n # ROUND"]}
        kept: [{name: k, at: /k}]
    settings: {entrypoint: [/bin/busybox, ls, /]}
`
	r.write("imbricat.yaml", recipe)
	r.build()
	want := r.ok("try", "gauge")
	require.NotContains(t, want, "f\n")
	r.ok("store", "kept", "drop", "k")
	r.write("imbricat.yaml", strings.ReplaceAll(recipe, "ROUND", "second"))
	second := r.build()
	require.Equal(t, 2, second.Ran, "the last step, and the first for its kept directory")
	outcomes := map[string]string{}
	for _, s := range second.Steps {
		outcomes[s.Step] = s.Reason
	}
	require.Equal(t, "its kept directory was not as it leaves it", outcomes["fill"])
	require.Equal(t, want, r.ok("try", "gauge"))
	r.write("imbricat.yaml", strings.ReplaceAll(recipe, "ROUND", "third"))
	require.Equal(t, 1, r.build().Ran)
	require.Equal(t, want, r.ok("try", "gauge"))
}
