package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/trace"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// TestStale: what compares times is warned of where it goes wrong, and rising times cure it.
func TestStale(t *testing.T) {
	t.Parallel()
	s := commandSite(t, sandbox.Options{})
	// A tool that does what its namesakes do: what it made stays when it is not older than what it was made of.
	s.write("make/make", "#!/bin/sh\nif test ! -e /o/out || test /src/a.c -nt /o/out; then cat /src/a.c > /o/out; echo made >> /o/log; fi\n")
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "make/make"), 0o755))
	for name, text := range map[string]string{"v1/a.c": "one", "v2/a.c": "two", "v3/b.c": "other", "py/m.py": "a=1", "py2/m.py": "a=2", "py3/m.py": "a=333"} {
		s.write(name, text)
	}
	const setup = `{run: {command: [/bin/busybox, sh, -c, "/bin/busybox --install -s /bin; mkdir /o"]}}`
	const run, compile = "run: 'true; /usr/bin/make'", "run: 'true; cat /src/m.py > /dev/null; mkdir /src/__pycache__; echo 1 > /src/__pycache__/m.cpython-313.pyc'"
	for name, c := range map[string]struct {
		steps []string
		want  []string // what is replaced
		out   string
	}{
		"made, replaced, made":      {[]string{"copy: {from: v1, to: /src}", run, "copy: {from: v2, to: /src}", run + " "}, []string{"/src/a.c"}, "one"},
		"with times that rise":      {[]string{"copy: {from: v1, to: /src}", run, "copy: {from: v2, to: /src, times: rising}", run + " "}, nil, "two"},
		"beside a step":             {[]string{"copy: {from: v1, to: /src}", run, "{copy: {from: v2, to: /src}, times: rising}", run + " "}, nil, "two"},
		"replaced by a command":     {[]string{"copy: {from: v1, to: /src}", run, "run: echo two > /src/a.c", run + " "}, []string{"/src/a.c"}, "one"},
		"by one with rising times":  {[]string{"copy: {from: v1, to: /src}", run, "{run: printf two > /src/a.c, times: rising}", run + " "}, nil, "two"},
		"and not made again":        {[]string{"copy: {from: v1, to: /src}", run, "copy: {from: v2, to: /src}"}, nil, "one"},
		"what it did not read":      {[]string{"copy: {from: v1, to: /src}", "copy: {from: v3, to: /src}", run, "copy: {from: v3, to: /src}", run + " "}, nil, "one"},
		"by the same":               {[]string{"copy: {from: v1, to: /src}", run, "copy: {from: v1, to: /src}", run + " "}, nil, "one"},
		"silenced":                  {[]string{"copy: {from: v1, to: /src}", run, "{copy: {from: v2, to: /src}, silence: [stale]}", run + " "}, nil, "one"},
		"byte code":                 {[]string{"copy: {from: py, to: /src}", compile, "copy: {from: py2, to: /src}"}, []string{"/src/m.py"}, ""},
		"byte code of another size": {[]string{"copy: {from: py, to: /src}", compile, "copy: {from: py3, to: /src}"}, nil, ""},
	} {
		recipe := gauge(append([]string{"copy: {from: bin, to: /bin}", "copy: {from: make, to: /usr/bin}", setup}, c.steps...)...)
		for _, when := range []string{"first", "again"} {
			r, err := s.build(recipe)
			require.NoError(t, err, name)
			got := s.warnings(event.Stale)
			require.Len(t, got, len(c.want), "%s, %s: %s", name, when, got)
			for i, p := range c.want {
				require.Contains(t, got[i], "it replaces "+p)
				require.Contains(t, got[i], "gauge:5")
			}
			if c.out == "" {
				continue
			}
			last := r.Steps[len(r.Steps)-1]
			if last.Run == nil {
				last = r.Steps[len(r.Steps)-2]
			}
			entries := ""
			for _, step := range r.Steps {
				if step.Run != nil {
					text, _ := s.store.TreeEntries(step.Run.Tree)
					for line := range strings.Lines(string(text)) {
						if strings.Contains(line, `"o/out"`) {
							entries = line
						}
					}
				}
			}
			require.Contains(t, entries, fmt.Sprint(" ", len(c.out), " "), name)
			made := strings.Contains(entries, string(digest.ContentBytes([]byte("two"))))
			require.Equal(t, c.out == "two", made, "%s: %s", name, entries)
		}
	}

	// An image on a base of ours.
	_, err := s.build("imbricat: 1\nimages:\n  tools:\n    base: none\n    steps:\n      - copy: {from: bin, to: /bin}\n      - copy: {from: make, to: /usr/bin}\n      - " + setup + "\n      - copy: {from: v1, to: /src}\n      - " + run +
		"\n  gauge:\n    base: {image: tools}\n    steps:\n      - copy: {from: v2, to: /src}\n      - " + run + " \n")
	require.NoError(t, err)
	require.Len(t, s.warnings(event.Stale), 1)
	require.Contains(t, s.warnings(event.Stale)[0], "tools:5")
}

// TestUnstable: a command that leaves something else for the same reads is told of.
func TestUnstable(t *testing.T) {
	t.Parallel()
	s := commandSite(t, sandbox.Options{})
	recipe := gauge("copy: {from: bin, to: /bin}", `{run: {command: [/bin/busybox, sh, -c, "/bin/busybox --install -s /bin; ls / > /same; cat /proc/sys/kernel/random/uuid > /out"]}, network: false}`)
	_, err := s.build(recipe)
	require.NoError(t, err)
	require.Empty(t, s.warnings(event.Unstable))
	s.fresh = []string{"gauge:2"}
	_, err = s.build(recipe)
	require.NoError(t, err)
	got := s.warnings(event.Unstable)
	require.Len(t, got, 1)
	require.Contains(t, got[0], ": /out changed; what it leaves depends on something that is not observed: the clock, chance, the order in which a folder lists its names")
	_, err = s.build(strings.Replace(recipe, "/proc/sys/kernel/random/uuid", "/same", 1))
	require.NoError(t, err)
	require.Empty(t, s.warnings(event.Unstable))
}

// TestExpires: a result is used for no longer than its step says, and one from the future not at all.
func TestExpires(t *testing.T) {
	t.Parallel()
	s := commandSite(t, sandbox.Options{})
	recipe := gauge("copy: {from: bin, to: /bin}", `{run: {command: [/bin/busybox, "true"]}, expires: 1h}`)
	for _, c := range []struct {
		age  time.Duration
		want event.Outcome
	}{{0, event.Reused}, {59 * time.Minute, event.Reused}, {61 * time.Minute, event.Ran}, {-time.Hour, event.Ran}} {
		r, err := s.build(recipe)
		require.NoError(t, err)
		record := *r.Steps[1].Run
		record.Made = time.Now().Add(-c.age)
		require.NoError(t, s.store.PutRun(&record))
		r, err = s.build(recipe)
		require.NoError(t, err)
		require.Equal(t, c.want, r.Steps[1].Outcome, "%s: %s", c.age, r.Steps[1].Reason)
	}
}

// TestUntrueStores: a trace under another one's name makes nothing stand, and no layer is made of an unpacked tree that is not
// what its command left.
func TestUntrueStores(t *testing.T) {
	t.Parallel()
	s := commandSite(t, sandbox.Options{})
	s.write("t/f", "1")
	recipe := gauge("copy: {from: bin, to: /bin}", "copy: {from: t, to: /t}", `{run: {command: [/bin/busybox, sh, -c, "busybox cat /t/f > /out"]}}`)
	build := func(want event.Outcome) *Result {
		r, err := s.build(recipe)
		require.NoError(t, err)
		require.Equal(t, want, r.Steps[2].Outcome, r.Steps[2].Reason)
		return r
	}
	first := build(event.Ran)
	build(event.Reused)
	empty := (&trace.Trace{}).Encode() // of a command that read nothing
	require.NoError(t, s.store.PutTrace(first.Steps[2].Run.Trace, empty))
	s.write("t/f", "2")
	second := build(event.Ran)

	require.NoError(t, os.RemoveAll(filepath.Join(s.store.Dir(), "imbricat/records")))
	files, err := filepath.Glob(filepath.Join(s.store.Dir(), "imbricat/snapshots/*", string(second.Steps[2].Run.Tree), "root/out"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	f, err := s.box.OpenFile(files[0])
	require.NoError(t, err)
	f.Close()
	require.NoError(t, os.Remove(files[0]))
	require.NoError(t, os.WriteFile(files[0], []byte("3"), 0o644))
	_, err = s.build(recipe)
	require.ErrorContains(t, err, "/out of an unpacked tree was changed")
	require.ErrorIs(t, err, digest.ErrMismatch)
	require.NoError(t, os.Remove(files[0]))
	_, err = s.build(recipe)
	require.ErrorContains(t, err, "`imbricat store check --repair` removes the tree")
}

// TestSecretsAreClosed: the file of a secret is its user's alone.
func TestSecretsAreClosed(t *testing.T) {
	s := commandSite(t, sandbox.Options{})
	s.secrets = map[string]string{"token": "sesame-42"}
	t.Setenv("TOKEN", "sesame-42")
	for user, want := range map[string]string{"0:0": "400 0 0\n", "50:60": "400 50 60\n"} {
		r, err := s.build("secrets: {token: {env: TOKEN}}\n" + gauge("copy: {from: bin, to: /bin}", `{run: {command: [/bin/busybox, sh, -c, "/bin/busybox --install -s /bin; mkdir -m 777 /o"]}}`,
			"{run: {command: [/bin/sh, -c, \"stat -c '%a %u %g' /run/token > /o/out; cat /run/token > /dev/null\"]}, user: '"+user+"', secrets: [{name: token, at: /run/token}]}"))
		require.NoError(t, err)
		entries, _ := s.store.TreeEntries(r.Steps[2].Run.Tree)
		require.Contains(t, string(entries), string(digest.ContentBytes([]byte(want))), user)
	}
}
