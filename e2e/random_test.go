package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// look prints all that shows of a tree; times are no part of a result, sizes of folders are the file system's own.
const look = `busybox find /t | busybox sort | while read p; do busybox stat -c '%n %F %a %u %g' "$p"; if busybox test -L "$p"; then busybox readlink "$p"; elif busybox test -f "$p"; then busybox md5sum < "$p"; fi; done`

// randomScript is some acts on few names, so that they meet: every way of writing, moving and deleting.
func randomScript(r *rand.Rand) string {
	names := []string{"a", "b", "d", "d/a", "d/b", "d/e", "d/e/a", "x", "x/y", "x/y/z", "l"}
	name := func() string { return "/t/" + names[r.IntN(len(names))] }
	acts := []func() string{
		func() string { return fmt.Sprintf("echo %d > %s", r.IntN(9), name()) },
		func() string { return fmt.Sprintf("echo %d >> %s", r.IntN(9), name()) },
		func() string { return "busybox truncate -s 1 " + name() },
		func() string { return "busybox rm -rf " + name() },
		func() string { return "busybox mkdir -p " + name() },
		func() string { return "busybox mv " + name() + " " + name() },
		func() string { return "busybox ln " + name() + " " + name() },
		func() string { return "busybox ln -s " + names[r.IntN(len(names))] + " " + name() },
		func() string {
			return fmt.Sprintf("busybox chmod %s %s", []string{"600", "4755", "2750", "1777", "700"}[r.IntN(5)], name())
		},
		func() string { return fmt.Sprintf("busybox chown %d:%d %s", r.IntN(3)*50, r.IntN(3)*50, name()) },
		func() string { return "busybox chown -h 50:50 " + name() },
		func() string { return "busybox touch " + name() },
		func() string { return "busybox cp -a " + name() + " " + name() },
		func() string {
			p := name()
			return "busybox rm -rf " + p + "; busybox mkdir " + p + "; echo n > " + p + "/n"
		},
	}
	var lines []string
	for range 4 + r.IntN(12) {
		lines = append(lines, acts[r.IntN(len(acts))]()+" 2> /dev/null || true")
	}
	return strings.Join(lines, "; ")
}

// TestRandomCommands: what random commands leave shows in the image, unpacked anew from its layers elsewhere, just as the
// commands themselves saw it; and every kind of sandbox, and a second run, gives the same digest.
func TestRandomCommands(t *testing.T) {
	r := newRun(t)
	r.busybox()
	user := newRun(t)
	user.dir = r.dir
	if os.Getuid() == 0 {
		user.who = ordinary(t)
		user.env = append(user.env, "IMBRICAT_STORE="+filepath.Join(r.dir, "user-store"), "IMBRICAT_DIR="+r.dir)
		require.NoError(t, os.Mkdir(filepath.Join(r.dir, "user-store"), 0o755))
		require.NoError(t, handOver(filepath.Join(r.dir, "user-store"), user.who))
		require.NoError(t, os.Chmod(r.dir, 0o755))
		require.NoError(t, os.Chmod(filepath.Dir(r.dir), 0o755))
	}
	first, end := seeds(t, 12)
	for seed := first; seed < end; seed++ {
		random := rand.New(rand.NewPCG(seed, 7))
		first, second := randomScript(random), randomScript(random)
		r.write("imbricat.yaml", fmt.Sprintf(`imbricat: 1
silence: [set-uid, world-writable, confined]
stages:
  base: {base: none, steps: [{copy: {from: bin, to: /bin}}]}
images:
  gauge:
    base: {stage: base}
    steps:
      - run: {command: [/bin/busybox, sh, -c, %q]}
      - run: {command: [/bin/busybox, sh, -c, %q]}
    settings: {entrypoint: [/bin/busybox, sh, -c, %q]}
`, "busybox mkdir -p /t/d/e /t/x; echo 1 > /t/a; echo 2 > /t/d/a; busybox chown 50:0 /t/d/a; "+first, second+"; echo STATE; "+look, look))
		what := fmt.Sprintf("seed %d:\n%s\n%s", seed, first, second)
		var told []string
		for line := range strings.Lines(r.stderr("build")) {
			if _, text, is := strings.Cut(line, "│ gauge:"); is {
				_, text, _ = strings.Cut(text, ": ")
				told = append(told, strings.TrimSuffix(text, "\n"))
			}
		}
		want := strings.Join(told, "\n")
		_, want, _ = strings.Cut(want, "STATE\n")
		r.ok("copy", "gauge", "./layout-"+fmt.Sprint(seed))
		elsewhere := newRun(t)
		require.Equal(t, want, strings.TrimSpace(elsewhere.ok("try", filepath.Join(r.dir, "layout-"+fmt.Sprint(seed)))), what)
		digest := r.build().Images[0].Digest
		require.Equal(t, digest, r.build("--fresh").Images[0].Digest, what)
		if os.Getuid() == 0 {
			require.Equal(t, digest, r.build("--fresh", "--sandbox", "chroot").Images[0].Digest, what)
			require.Equal(t, digest, user.build().Images[0].Digest, what)
		}
	}
	require.Contains(t, r.ok("store", "check"), "nothing wrong")
}
