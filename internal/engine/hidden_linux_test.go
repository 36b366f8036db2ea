package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// prober is a program that reads in ways that no shell has.
const prober = `package main

import (
	"fmt"
	"os"
	"syscall"
)

func main() {
	must := func(err error) {
		if err != nil {
			fmt.Println(err)
			os.Exit(0)
		}
	}
	read := func(dir int, name string) {
		fd, err := syscall.Openat(dir, name, syscall.O_RDONLY, 0)
		must(err)
		text := make([]byte, 4096)
		n, err := syscall.Read(fd, text)
		must(err)
		os.Stdout.Write(text[:n])
	}
	switch os.Args[1] {
	case "beyond": // a name below the folder it was in before it changed its root
		must(syscall.Chroot(os.Args[2]))
		read(-100, os.Args[3])
	case "kept": // a name below a folder that it opened before
		fd, err := syscall.Open(os.Args[3], syscall.O_RDONLY|syscall.O_DIRECTORY, 0)
		must(err)
		must(syscall.Chroot(os.Args[2]))
		must(syscall.Chdir("/"))
		read(fd, os.Args[4])
	case "hide": // what it reads, from whoever observes it
		_, _, _ = syscall.Syscall(syscall.SYS_PRCTL, 22, 9, 0)
		read(-100, os.Args[2])
	case "links": // how many names a file has
		var stat syscall.Stat_t
		must(syscall.Stat(os.Args[2], &stat))
		fmt.Println(stat.Nlink)
	}
}
`

// built gives the program of prober.
var built = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "prober")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := os.WriteFile(filepath.Join(dir, "main.go"), []byte(prober), 0o600); err != nil {
		return nil, err
	}
	build := exec.Command("go", "build", "-ldflags=-s -w", "-o", filepath.Join(dir, "prober"), filepath.Join(dir, "main.go"))
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=")
	if out, err := build.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	return os.ReadFile(filepath.Join(dir, "prober"))
})

// TestHiddenReads: what is reached by another way than a plain path is an input all the same, and what is not reached is
// none.
func TestHiddenReads(t *testing.T) {
	t.Parallel()
	program, err := built()
	require.NoError(t, err)
	overlay, copied := commandSite(t, sandbox.Options{}), commandSite(t, sandbox.Options{NoOverlay: true})
	const kept, ordinary = ", kept: [{name: links, at: /k}]", ", user: '50:50'"
	type dir = string
	write := func(name, text string) func(dir) {
		return func(d dir) {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(d, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(d, name), []byte(text), 0o644))
		}
	}
	before, nothing := "", func(dir) {} // the script of the step before, which an edit may change
	says := func(script string) func(dir) { return func(dir) { before = script } }
	for _, c := range []struct {
		name, before, script, more string
		edit                       func(dir)
		runs                       bool
	}{
		{"a program that appears earlier on the path", "", "[tool]", ", env: {PATH: '/t/p:/t/q'}", func(d dir) {
			write("t/p/tool", "#!/bin/sh\necho other > /out\n")(d)
			_ = os.Chmod(filepath.Join(d, "t/p/tool"), 0o755)
		}, true},
		{"a program that becomes executable", "", "[tool]", ", env: {PATH: '/t/d:/t/q'}", func(d dir) { _ = os.Chmod(filepath.Join(d, "t/d/tool"), 0o755) }, true},
		{"a program that is on the path later", "", "[tool]", ", env: {PATH: '/t/q:/t/p'}", write("t/p/tool", "#!/bin/sh\n"), false},

		{"a file that a kept link leads to", "ln -sfn /t/f /k/l", "cat /k/l > /out", kept, write("t/f", "other"), true},
		{"a folder that a kept link leads to", "ln -sfn /t/d /k/l", "cat /k/l/e/deep > /out", kept, write("t/d/e/deep", "other"), true},
		{"dots behind a kept link", "ln -sfn /t/d/e /k/l", "cat /k/l/../g > /out", kept, write("t/d/g", "other"), true},
		{"a program that a kept link leads to", "ln -sfn /t/q/tool /k/l", "/k/l", kept, func(d dir) {
			write("t/q/tool", "#!/bin/sh\necho other > /out\n")(d)
			_ = os.Chmod(filepath.Join(d, "t/q/tool"), 0o755)
		}, true},
		{"the interpreter that a kept program names", "printf '#!/t/sh\\necho 1 > /out\\n' > /k/l; chmod 755 /k/l", "/k/l", kept, func(d dir) {
			_ = os.Remove(filepath.Join(d, "t/sh"))
			_ = os.Symlink("/bin/busybox", filepath.Join(d, "t/sh"))
		}, true},
		{"absence behind a kept link", "ln -sfn /t/none /k/l", "cat /k/l > /out 2>&1 || true", kept, write("t/none", "there"), true},
		{"a listing behind a kept link", "ln -sfn /t/d /k/l", "ls /k/l/ > /out", kept, write("t/d/z", ""), true},
		{"what a kept link does not lead to", "ln -sfn /t/f /k/l", "cat /k/l > /out", kept, write("t/d/g", "other"), false},

		{"beyond another root", "", "/t/prober beyond /t/d t/f > /out", "", write("t/f", "other"), true},
		{"what another root does not hide", "", "/t/prober beyond /t/d t/f > /out", "", write("t/d/t/f", "other"), false},
		{"a folder that was open before", "", "/t/prober kept /t/d /t/root deep > /out", "", write("t/root/deep", "other"), true},
		{"dots out of a folder that was open before", "", "/t/prober kept /t/root /t/d ../f > /out", "", write("t/f", "other"), true},

		{"through a link to /proc", "ln -s /proc /p", "cat /p/self/root/t/f > /out", "", write("t/f", "other"), true},
		{"through a link to the root", "ln -s / /p", "cat /p/proc/self/cwd/t/f > /out", "", write("t/f", "other"), true},
		{"a program through a link to /proc", "ln -s /proc /p", "exec 3< /t/q/tool; /p/self/fd/3", "", func(d dir) {
			write("t/q/tool", "#!/bin/sh\necho other > /out\n")(d)
			_ = os.Chmod(filepath.Join(d, "t/q/tool"), 0o755)
		}, true},
		{"a folder that is called as if it were deleted", "mkdir '/n (deleted)' && cp /t/f '/n (deleted)'", "cd '/n (deleted)' && cat f > /out", "", says("mkdir '/n (deleted)' && cp /t/d/g '/n (deleted)/f'"), true},
		{"an open folder of that name", "mkdir '/n (deleted)' && cp /t/f '/n (deleted)'", "exec 3< '/n (deleted)'; cat /proc/self/fd/3/f > /out", "", says("mkdir '/n (deleted)' && cp /t/d/g '/n (deleted)/f'"), true},
		{"a folder that was deleted", "mkdir /n; cp /t/f /n", "mkdir /m; cd /m; rmdir /m; cat f > /out 2>&1 || true; ls /n >> /out", "", says("mkdir /n; cp /t/f /n; echo 1 > /f"), false},

		{"whose a file in a sticky folder is", "mkdir -m 1777 /s; echo 1 > /s/f; chown 50 /s/f", "rm -f /s/f || true", ordinary, says("mkdir -m 1777 /s; echo 1 > /s/f; chown 51 /s/f"), true},
		{"whose the sticky folder is", "mkdir -m 1777 /s; echo 1 > /s/f; chown 50 /s; chown 51 /s/f", "mv /s/f /s/g || true", ordinary, says("mkdir -m 1777 /s; echo 1 > /s/f; chown 52 /s; chown 51 /s/f"), true},
		{"that a folder is sticky", "mkdir -m 777 /s; echo 1 > /s/f; chown 51 /s/f", "rm -f /s/f || true", ordinary, says("mkdir -m 1777 /s; echo 1 > /s/f; chown 51 /s/f"), true},
		{"whose a link in a sticky folder is", "mkdir -m 1777 /s; ln -s /t/f /s/l; chown -h 50 /s/l", "cat /s/l > /out 2>&1 || true", "", says("mkdir -m 1777 /s; ln -s /t/f /s/l; chown -h 51 /s/l"), true},
		{"whose a file is that is written in a sticky folder", "mkdir -m 1777 /s; echo 1 > /s/f; chown 50 /s/f", "(echo 2 > /s/f) || true", "", says("mkdir -m 1777 /s; chown 50 /s; echo 1 > /s/f; chown 50 /s/f"), true},
		{"the mode of the root, for an ordinary user", "chmod 755 /", "cat /t/f > /tmp/x || true", ordinary + ", fresh-tmp: true", says("chmod 711 /"), true},

		{"how many names a file has", "cp /t/f /n; ln /n /m", "/t/prober links /n > /out", "", says("cp /t/f /n; ln /n /m; ln /n /o"), true},
		{"that a file has another name no more", "cp /t/f /n; ln /n /m; true", "/t/prober links /n > /out", "", says("cp /t/f /n; cp /t/f /m; true"), true},
		{"which names are one file", "true; echo 1 > /1; echo 1 > /2; ln /1 /3; ln /2 /4", "if test /1 -ef /3; then echo one; else echo two; fi > /out", "", says("echo 1 > /1; echo 1 > /2; ln /1 /4; ln /2 /3"), true},
		{"names of another file", "cp /t/f /n; ln /n /m; cp /n /q", "/t/prober links /n > /out", "", says("cp /t/f /n; ln /n /m; cp /n /q; ln /q /p"), false},
		{"nothing", "true", "true", kept, nothing, false},
	} {
		for kind, s := range map[string]*site{"overlay": overlay, "copied": copied} {
			require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "t")))
			for name, text := range map[string]string{"t/f": "text\n", "t/d/e/deep": "deep\n", "t/d/g": "g\n", "t/root/deep": "below\n", "t/prober": string(program),
				"t/q/tool": "#!/bin/sh\necho 1 > /out\n", "t/d/tool": "#!/bin/sh\necho 2 > /out\n", "t/p/none": ""} {
				write(name, text)(s.dir)
			}
			require.NoError(t, os.Symlink("/bin/sh", filepath.Join(s.dir, "t/sh")))
			for _, name := range []string{"t/prober", "t/q/tool"} {
				require.NoError(t, os.Chmod(filepath.Join(s.dir, name), 0o755))
			}
			before = c.before
			recipe := func() string {
				script := c.script
				if !strings.HasPrefix(script, "[") {
					script = fmt.Sprintf("[/bin/sh, -e, -c, %q]", ": "+c.name+"; "+script) // no case reuses another's
				}
				keep := ""
				if c.more == kept {
					keep = kept
				}
				return "silence: [set-uid, world-writable]\n" + gauge("copy: {from: bin, to: /bin}", "copy: {from: t, to: /t}",
					`{run: {command: [/bin/busybox, sh, -c, "/bin/busybox --install -s /bin; mkdir /o"]}}`, fmt.Sprintf("{run: {command: [/bin/sh, -e, -c, %q]}%s}", before, keep),
					fmt.Sprintf("{run: {command: %s}%s}", script, c.more))
			}
			_, err := s.build(recipe())
			require.NoError(t, err, c.name)
			c.edit(s.dir)
			again, err := s.build(recipe())
			require.NoError(t, err, c.name)
			last := again.Steps[len(again.Steps)-1]
			require.Equal(t, c.runs, last.Outcome == event.Ran, "%s: %s: %s, %s", kind, c.name, last.Outcome, last.Reason)
		}
	}
}

// TestKeptOfAnotherVersion: what a command finds in a kept directory is what the steps before it leave there, whichever
// version of them ran last.
func TestKeptOfAnotherVersion(t *testing.T) {
	t.Parallel()
	s := commandSite(t, sandbox.Options{})
	fill, use := "cp /t/f /k/v", "cat /k/v /t/g > /out"
	build := func(f, g string) (out string, filled bool) {
		s.write("t/f", f)
		s.write("t/g", g)
		const keep = ", kept: [{name: levels, at: /k}]"
		r, err := s.build(gauge("copy: {from: bin, to: /bin}", "copy: {from: t, to: /t}", `{run: {command: [/bin/busybox, sh, -c, "/bin/busybox --install -s /bin; mkdir /k"]}}`,
			fmt.Sprintf("{run: {command: [/bin/sh, -e, -c, %q]}%s}", fill, keep), "run: 'true'", fmt.Sprintf("{run: {command: [/bin/sh, -e, -c, %q]}%s}", use, keep),
			fmt.Sprintf("{run: {command: [/bin/sh, -c, %q]}%s}", "cat /out; echo x > /k/later", keep)))
		require.NoError(t, err)
		entries, found := s.store.TreeEntries(r.Steps[5].Run.Tree)
		require.True(t, found)
		for _, text := range []string{"1", "2"} {
			for _, other := range []string{"a", "b", "c", "d", "e", "f", "g", "h", "i"} {
				if strings.Contains(string(entries), string(digest.ContentBytes([]byte(text+other)))) {
					out = text + other
				}
			}
		}
		return out, r.Steps[3].Outcome == event.Ran
	}
	for i, c := range []struct {
		act    func()
		f, g   string
		want   string
		filled bool
	}{
		{nil, "1", "a", "1a", true},
		{nil, "2", "b", "2b", true},
		{nil, "1", "c", "1c", true},  // remembered, and filled anew
		{nil, "1", "d", "1d", false}, // the directory is as it is left
		{func() { fill = "printf 2 > /k/v" }, "1", "e", "2e", true},
		{func() { fill = "cp /t/f /k/v" }, "1", "f", "1f", true}, // another command had its place
		{func() { use = "cat /k/v /t/g  > /out" }, "1", "f", "1f", false},
		{func() { // one that was killed
			kept, _, err := s.store.Kept(s.box.Owners(), "levels")
			require.NoError(t, err)
			fills := s.store.Fills(kept)
			for _, f := range fills {
				if f.Step == 3 {
					f.Trace = ""
					require.NoError(t, s.store.NoteFill(kept, f))
				}
			}
		}, "1", "g", "1g", true},
		{func() { // carried elsewhere and back
			dir := t.TempDir()
			require.NoError(t, local.ExportKept(context.Background(), s.store, s.box, "levels", dir))
			_, err := s.store.DropKept(s.box.Owners(), "levels")
			require.NoError(t, err)
			require.NoError(t, local.ImportKept(context.Background(), s.store, s.box, filepath.Join(dir, "levels"+local.KeptSuffix)))
		}, "1", "h", "1h", false},
		{func() { // by others, who tell nothing of it
			dir := t.TempDir()
			require.NoError(t, local.ExportKept(context.Background(), s.store, s.box, "levels", dir))
			require.NoError(t, os.Remove(filepath.Join(dir, "levels"+".fills.json")))
			require.NoError(t, local.ImportKept(context.Background(), s.store, s.box, filepath.Join(dir, "levels"+local.KeptSuffix)))
		}, "1", "i", "1i", true},
	} {
		if c.act != nil {
			c.act()
		}
		out, filled := build(c.f, c.g)
		require.Equal(t, c.want, out, "build %d", i)
		require.Equal(t, c.filled, filled, "build %d", i)
	}
}

// TestDamagedTrees: a command that ran over an unpacked tree which somebody damaged runs again over a sound one, and no
// record of such a run is kept.
func TestDamagedTrees(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		damage func(file string) error // of /t/d/g
		script string
		sound  bool // the command does not read what is damaged
	}{
		"a byte": {func(file string) error {
			info, err := os.Stat(file)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, []byte("h\n"), 0o644))
			return os.Chtimes(file, info.ModTime(), info.ModTime())
		}, "cat /t/d/g > /out", false},
		"its end":                {func(file string) error { return os.Truncate(file, 0) }, "cat /t/d/g > /out", false},
		"its absence":            {os.Remove, "cat /t/d/g > /out", false},
		"its mode":               {func(file string) error { return os.Chmod(file, 0o600) }, "stat -c %a /t/d/g > /out", false},
		"a name beside it":       {func(file string) error { return os.WriteFile(file+"h", nil, 0o644) }, "ls /t/d > /out", false},
		"what was to be absent":  {func(file string) error { return os.WriteFile(file+"h", nil, 0o644) }, "test -e /t/d/gh && echo 1 > /out || true", false},
		"at the top":             {func(file string) error { return os.WriteFile(filepath.Join(file, "../../../zz"), nil, 0o644) }, "test -e /zz && echo 1 > /out || true", false},
		"everything, unobserved": {func(file string) error { return os.Truncate(file, 0) }, "/t/prober hide /t/d/g > /out", false},
		"so that nothing starts": {func(file string) error { // of each tree below
			folders, err := filepath.Glob(filepath.Join(file, "../../../../../*/root/bin"))
			require.NotEmpty(t, folders)
			for _, folder := range folders {
				err = errors.Join(err, os.RemoveAll(folder))
			}
			return err
		}, "cat /t/f > /out", false},
		"so that it fails":     {func(file string) error { return os.Truncate(file, 0) }, "test -s /t/d/g; cp /t/d/g /out", false},
		"its folder's mode":    {func(file string) error { return os.Chmod(filepath.Dir(file), 0o700) }, "cat /t/d/g > /o/out || echo none > /o/out", false},
		"what nobody reads":    {func(file string) error { return os.Truncate(file, 0) }, "cat /t/f > /out", true},
		"nothing but the time": {func(file string) error { return os.Chmod(file, 0o644) }, "cat /t/d/g > /out", true},
	} {
		t.Run(name, func(t *testing.T) {
			s := commandSite(t, sandbox.Options{})
			program, err := built()
			require.NoError(t, err)
			for name, text := range map[string]string{"t/f": "text\n", "t/d/g": "g\n", "t/prober": string(program)} {
				s.write(name, text)
			}
			require.NoError(t, os.Chmod(filepath.Join(s.dir, "t/prober"), 0o755))
			user := "0:0"
			if strings.Contains(c.script, "/o/out") { // what is closed to others hinders others alone
				user = "50:50"
			}
			recipe := func(script string) string {
				return gauge("copy: {from: bin, to: /bin}", "copy: {from: t, to: /t}", `run: {command: [/bin/busybox, sh, -c, "/bin/busybox --install -s /bin; mkdir -m 777 /o"]}`,
					fmt.Sprintf("{run: {command: [/bin/sh, -e, -c, %q]}, user: %q}", script, user))
			}
			before, err := s.build(recipe("cat /t/f /t/d/g"))
			require.NoError(t, err)
			require.Len(t, before.Steps[3].Run.Over, 3)
			damaged := ""
			require.NoError(t, s.store.EachSnapshot(func(_ string, _ digest.Key, root string) error {
				if file := filepath.Join(root, "t/d/g"); damaged == "" {
					if _, err := os.Stat(file); err == nil {
						damaged = file
						return c.damage(file)
					}
				}
				return nil
			}))
			require.NotEmpty(t, damaged)
			s.events = nil
			r, err := s.build(recipe(c.script))
			require.NoError(t, err)
			fresh, err := s.elsewhere(t).build(recipe(c.script))
			require.NoError(t, err)
			require.Equal(t, fresh.Images[0].Descriptor, r.Images[0].Descriptor)
			warned := slices.ContainsFunc(s.events, func(e event.Event) bool { w, is := e.(event.Warning); return is && w.Code == event.Damaged })
			require.Equal(t, !c.sound, warned)
			require.Equal(t, c.sound, len(s.store.Runs(before.Steps[3].Run.Key)) == 1, "records over a damaged tree go with it")
		})
	}
}
