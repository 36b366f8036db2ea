package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/causes"
	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/report"
)

// notTheSame are commands that real tools make other each time: the file that differs, what must be found to cause it, and the change that must cure it.
var notTheSame = []struct {
	name, run, file string
	cause           causes.Cause
	where           string // of a difference
	cure            string // a line of the recipe; empty: none is known
}{
	{"names in an archive", "tar -C /src -cf /out/pages.tar pages", "/out/pages.tar", causes.Listing, "the order of its entries", `TAR_OPTIONS: "--sort=name`},
	{"times in an archive", "mkdir /x && echo tide > /x/a && tar -C /x -cf /out/new.tar a", "/out/new.tar", causes.Clock, "tar entry a: modification time", `TAR_OPTIONS: "--sort=name`},
	{"time of a compressed file", "cp /src/pages/ebb /w && gzip -c /w/ebb > /out/ebb.gz && rm /w/ebb", "/out/ebb.gz", causes.Clock, "gzip header: modification time", `GZIP: "-n"`},
	{"date", "date > /out/built", "/out/built", causes.Clock, "line 1", "clock: fixed"},
	{"date in a program", "env -u SOURCE_DATE_EPOCH gcc -o /out/gauge /src/gauge.c", "/out/gauge", causes.Clock, "ELF section .rodata", "clock: fixed"},
	{"static library", "cd /w && gcc -c /src/tide.c && ar rcU /out/libtide.a tide.o && rm tide.o", "/out/libtide.a", causes.Clock, "ar entry", ""},
	{"byte-code", "cp -r /src/py /opt/py && env -u SOURCE_DATE_EPOCH python3 -m compileall -q /opt/py", "/opt/py/__pycache__/tide.cpython-*.pyc", causes.Clock, "time of the source", "- rm -rf /opt/py/__pycache__"},
	{"hash seed", `python3 -c "print([s for s in {'ebb','flood','neap','spring','slack','bore','rip','head','low','high'}])" > /out/set`, "/out/set", causes.Random, "line 1", `PYTHONHASHSEED: "0"`},
	{"random id", "cat /proc/sys/kernel/random/uuid > /out/id", "/out/id", causes.Random, "line 1", ""},
	{"temporary name", "d=$(mktemp -d) && echo $d > /out/where && rmdir $d", "/out/where", causes.Random, "line 1", ""},
	{"process number", "echo $$ > /out/pid", "/out/pid", causes.Processes, "line 1", ""},
	{"order of a folder", `python3 -c "import os; print('\n'.join(os.listdir('/src/pages')))" > /out/index`, "/out/index", causes.Listing, "the order of its lines", "listing: sorted"},
	{"several at once", "for i in 1 2 3 4 5 6 7 8; do (head -c 300000 /dev/urandom | gzip > /dev/null; echo $i >> /out/order) & done; wait", "/out/order", causes.Parallel, "the order of its lines", ""},
	{"kernel's name", "uname -a > /out/machine", "/out/machine", causes.Machine, "line 1", ""},
	{"zip", "cp -r /src/pages /z && cd /z && zip -q /out/pages.zip ebb flood neap", "/out/pages.zip", causes.Clock, "zip entry ebb: modification time", ""},
	{"jar", "cd /w && javac -d classes /src/Tide.java && jar cf /out/tide.jar -C classes . && rm -r classes", "/out/tide.jar", causes.Clock, "zip entry META-INF/: modification time", ""},
	{"folder of a build", "cp -r /src/mod $(mktemp -d) && cd /tmp/tmp.*/mod && GOCACHE=/tmp/c go build -o /out/tide . && rm -rf /tmp/tmp.* /tmp/c", "/out/tide", causes.Random, "a text", `GOFLAGS: "-trimpath -buildvcs=false"`},
	{"address", `python3 -c "print(hex(id(object())))" > /out/address`, "/out/address", causes.Addresses, "line 1", ""},
	{"caches of npm", "cp -r /src/npm /n && cd /n && HOME=/root npm install --offline --no-audit --no-fund", "/root/.npm/_cacache/*", causes.Clock, "line 2", "- rm -rf /root/.npm"},
	{"packages", "apt-get update -q && apt-get install -y -q --no-install-recommends hello && rm -rf /var/lib/apt/lists", "/var/log/dpkg.log", causes.Clock, "line ", "- rm -rf "},
}

const toolsOfVerify = `imbricat: 1
silence: [set-uid, world-writable, unreproducible]
images:
  workshop:
    base: none
    steps:
      - unpack: {from: debian.tar, to: /}
      - run:
          - apt-get update -q
          - apt-get install -y -q --no-install-recommends gcc libc6-dev make zip python3 golang-go openjdk-17-jdk-headless nodejs npm
          - rm -rf /var/lib/apt/lists
        env: {DEBIAN_FRONTEND: noninteractive}
`

// differs returns what a command tells that finds something to differ.
func (r *run) differs(args ...string) string {
	r.t.Helper()
	c := r.command(args...)
	var problems strings.Builder
	c.Stderr = &problems
	out, _ := c.Output()
	require.Equal(r.t, 3, c.ProcessState.ExitCode(), "%s%s", out, problems.String())
	return string(out)
}

// TestVerifyTools: of commands with real tools that do not do the same each time the file, the bytes, the cause and the cure are found, and nothing
// is said of what does.
func TestVerifyTools(t *testing.T) {
	if testing.Short() || os.Getuid() != 0 {
		t.Skip("it installs a compiler or four, which takes long")
	}
	dir := bases(t)
	r := newRun(t)
	r.write("imbricat.yaml", toolsOfVerify)
	output(t, exec.Command("cp", "--reflink=auto", filepath.Join(dir, "debian.tar"), r.dir))
	r.ok("build")
	for _, page := range []string{"ebb", "flood", "neap", "spring", "slack"} {
		r.write("tools/src/pages/"+page, page+"\n")
	}
	for name, text := range map[string]string{"gauge.c": "#include <stdio.h>\nint main(void) { puts(__DATE__ \" \" __TIME__); return 0; }\n", "tide.c": "int tide(int h) { return 3 * h; }\n", "py/tide.py": "def tide(h):\n    return 3 * h\n",
		"Tide.java": "public class Tide { public static void main(String[] a) { System.out.println(\"tide\"); } }\n", "mod/go.mod": "module tideline.example/tide\n\ngo 1.19\n", "mod/main.go": "package main\n\nfunc main() { println(\"tide\") }\n",
		"npm/package.json": `{"name": "tide", "version": "1.0.0", "dependencies": {"lib": "file:./lib"}}`, "npm/lib/package.json": `{"name": "lib", "version": "1.0.0"}`} {
		r.write("tools/src/"+name, text)
	}
	recipe := &strings.Builder{}
	recipe.WriteString("imbricat: 1\nsilence: [unreproducible, set-uid]\nimages:\n  page:\n    base: workshop:latest\n    steps:\n      - copy: {from: src, to: /src}\n      - {run: mkdir /out /w && sort /src/pages/* > /out/all && gcc -o /out/tide.o -c /src/tide.c, network: false}\n")
	for _, one := range notTheSame {
		fmt.Fprintf(recipe, "      - {name: %s, network: %t, run: %q}\n", one.name, one.name == "packages", one.run)
	}
	r.write("tools/imbricat.yaml", recipe.String())
	r.ok("store", "name", "workshop", "workshop:latest")
	text := r.differs("verify", "--dir", "tools", "--cure", "--format", "json", "--view", "none")
	var proof report.Proof
	require.NoError(t, json.Unmarshal([]byte(text), &proof))
	require.False(t, proof.Reproducible)
	require.Len(t, proof.Differing, len(notTheSame), text)
	for i, one := range notTheSame {
		s := proof.Differing[i]
		require.Equal(t, one.name, s.Step)
		require.Contains(t, s.Causes, one.cause, "%s: %+v", one.name, s)
		at := slices.IndexFunc(s.Files, func(f report.ProvenFile) bool {
			matches, _ := filepath.Match(one.file, f.Path)
			return matches || strings.HasSuffix(one.file, "/*") && strings.HasPrefix(f.Path, strings.TrimSuffix(one.file, "*")) && len(f.Differences) > 0
		})
		require.GreaterOrEqual(t, at, 0, "%s: %+v", one.name, s.Files)
		f := s.Files[at]
		require.NotEmpty(t, f.Differences, "%s", one.name)
		require.Regexp(t, regexp.QuoteMeta(one.where), f.Differences[0].Where, one.name)
		require.NotEmpty(t, f.Cure, one.name)
		if one.cure == "" {
			continue
		}
		require.NotEmpty(t, s.Cures, "%s: %+v", one.name, s)
		require.True(t, s.Cures[0].Holds, "%s: %+v", one.name, s.Cures)
		require.Contains(t, strings.Join(s.Cures[0].Change, "\n"), one.cure, one.name)
	}
}

// TestVerifyWrongRecord: a record whose tree is not what its command leaves is found by running it again.
func TestVerifyWrongRecord(t *testing.T) {
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", `imbricat: 1
images:
  gauge:
    base: none
    steps:
      - copy: {from: bin, to: /bin}
      - run: {command: [/bin/busybox, mkdir, -p, /ebb]}
        name: ebb
      - run: {command: [/bin/busybox, mkdir, -p, /flood]}
        name: flood
`)
	r.ok("build")
	require.Contains(t, r.ok("verify", "--records", "5"), "2 of 2 records that the recipe's steps reuse were run again")
	st, err := store.Open(filepath.Join(r.dir, "store"))
	require.NoError(t, err)
	book, err := logbook.Open(filepath.Join(r.dir, "store/imbricat/logbook.db"), 0)
	require.NoError(t, err)
	_, steps, err := book.Find(1)
	require.NoError(t, err)
	require.Len(t, steps, 3)
	ebb, flood := st.Runs(digest.Key(steps[1].Key))[0], st.Runs(digest.Key(steps[2].Key))[0]
	ebb.Tree = flood.Tree
	require.NoError(t, st.PutRun(ebb))
	require.NoError(t, errors.Join(st.Close(), book.Close()))
	require.Regexp(t, `✗ wrong    gauge:2 .* leaves something else now, each time the same: /ebb, /flood`, r.differs("verify", "--records", "5"))
}

// TestVerifyKilled: what a verify that is killed leaves goes with the next one, and not what another works in.
func TestVerifyKilled(t *testing.T) {
	r := newRun(t)
	r.busybox()
	temporary := t.TempDir()
	r.env = append(r.env, "TMPDIR="+temporary)
	r.write("imbricat.yaml", "imbricat: 1\nimages:\n  gauge:\n    base: none\n    steps:\n      - copy: {from: bin, to: /bin}\n      - run: {command: [/bin/busybox, sleep, \"1\"]}\n")
	r.ok("build")
	places := []string{"/dev/shm", "/var/tmp", temporary}
	folders := func() (all []string) {
		for _, place := range places {
			found, _ := filepath.Glob(filepath.Join(place, "imbricat-verify-*", "store"))
			all = append(all, found...)
		}
		return all
	}
	before := folders()
	c := r.command("verify", "--view", "none")
	require.NoError(t, c.Start())
	wait(t, "a second store", func() bool { return len(folders()) > len(before) })
	_ = c.Process.Kill()
	_ = c.Wait()
	left := slices.DeleteFunc(folders(), func(dir string) bool { return slices.Contains(before, dir) })
	require.NotEmpty(t, left)
	r.ok("verify")
	for _, dir := range left {
		require.NoDirExists(t, filepath.Dir(dir))
	}
	require.Contains(t, r.ok("store", "check"), "nothing wrong")
}
