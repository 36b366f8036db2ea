package e2e

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// block is a piece of a page: a file to write, commands to run, or what these must have shown.
type block struct {
	language, file, text string
	line                 int
}

var fence = regexp.MustCompile("(?ms)^```([a-z]+) ?([^\n]*)\n(.*?)^```$")

// blocks reads those of a page, in their order.
func blocks(t *testing.T, page string) (all []block) {
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	for _, m := range fence.FindAllSubmatchIndex(text, -1) {
		all = append(all, block{string(text[m[2]:m[3]]), string(text[m[4]:m[5]]), string(text[m[6]:m[7]]), 1 + strings.Count(string(text[:m[0]]), "\n")})
	}
	return all
}

// reader follows pages as a person would, in one home.
type reader struct {
	*run
	programs string // that stand for others which the machine does not have
}

// follow goes through a page in a folder of its own.
func (r *reader) follow(t *testing.T, page string) {
	dir := filepath.Join(r.dir, strings.TrimSuffix(filepath.Base(page), ".md"))
	require.NoError(t, os.MkdirAll(dir, 0o755))
	var shown string
	for _, b := range blocks(t, page) {
		switch {
		case b.file != "":
			name := filepath.Join(dir, b.file)
			require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
			require.NoError(t, os.WriteFile(name, []byte(b.text), 0o644))
		case b.language == "sh":
			c := exec.Command("sh", "-eu", "-c", b.text)
			c.Dir, c.Env = dir, append(append(os.Environ(), r.env...), "PATH="+r.programs+":"+filepath.Dir(program)+":"+os.Getenv("PATH"))
			out, err := c.CombinedOutput()
			require.NoError(t, err, "%s:%d: %s\n%s", page, b.line, b.text, out)
			shown = string(out)
		case b.language == "text":
			for line := range strings.Lines(b.text) {
				parts := strings.Split(strings.TrimSpace(line), "…")
				for i := range parts {
					parts[i] = regexp.QuoteMeta(parts[i])
				}
				require.Regexp(t, strings.Join(parts, ".*"), shown, "%s:%d", page, b.line)
			}
		}
	}
}

// pretend makes a program that stands for another.
func (r *reader) pretend(t *testing.T, name, script string) {
	require.NoError(t, os.WriteFile(filepath.Join(r.programs, name), []byte("#!/bin/sh\nset -eu\n"+script), 0o755))
}

// narrow serves a registry through a proxy that takes requests of up to 2 MB.
func narrow(t *testing.T, registry string) string {
	forward := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: registry})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength > 2_000_000 {
			_, _ = io.Copy(io.Discard, r.Body)
			w.WriteHeader(http.StatusRequestEntityTooLarge)
			return
		}
		forward.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	return strings.TrimPrefix(server.URL, "http://")
}

// TestHowTo follows docs/bases.md and then the pages of docs/how-to, as they stand there, against a stand-in. What cannot be had here is
// pretended: debootstrap gives the system that was made before, and Maven a jar.
func TestHowTo(t *testing.T) {
	if testing.Short() || os.Getuid() != 0 {
		t.Skip("it fetches packages, and takes root and a while")
	}
	archive := filepath.Join(bases(t), "debian.tar")
	need(t, "busybox")
	r := &reader{run: newRun(t), programs: t.TempDir()}
	registry, _ := standinOn(t, r.dir, "--memory")
	r.env = append(r.env, "TIDELINE_REGISTRY="+registry, "NARROW_REGISTRY="+narrow(t, registry), "HOME="+r.dir, "IMBRICAT_DIR=.")
	r.pretend(t, "sudo", `exec "$@"`)
	r.pretend(t, "debootstrap", `mkdir -p "$3"; tar -C "$3" -xf `+archive)
	r.pretend(t, "mvn", `mkdir -p target
python3 - <<'JAR'
import os, time, zipfile
with zipfile.ZipFile("target/tides.jar", "w") as jar:
    jar.writestr("META-INF/MANIFEST.MF", "Manifest-Version: 1.0\n")
    jar.writestr("tideline/Tides.class", os.urandom(2000))
    jar.writestr("lib/levels.jar", b"levels" * 50000)
JAR`)
	r.follow(t, "../docs/bases.md")
	for _, page := range strings.Fields("authority go many node python c java kept body-limit") {
		t.Run(page, func(t *testing.T) { r.follow(t, "../docs/how-to/"+page+".md") })
	}
	t.Run("drafts", r.drafted)
}

// drafts are small projects as people have them, with the bases that their drafts are given, and what shows that the image does its work.
var drafts = map[string]struct {
	files map[string]string
	base  string
	try   string
	want  string
}{
	"go": {map[string]string{"go.mod": "module tideline.example/gauge\n\ngo 1.19\n", "main.go": "package main\n\nimport \"fmt\"\n\nfunc main() { fmt.Println(\"3.42 m\") }\n"},
		"go=$TIDELINE_REGISTRY/base/go:1.19", "imbricat try gauge", "3.42 m"},
	"node": {map[string]string{"package.json": `{"name":"pages","version":"1.0.0","main":"server.js","scripts":{"start":"node server.js"},"dependencies":{"ms":"2.1.3"}}`,
		"package-lock.json": `{"name":"pages","version":"1.0.0","lockfileVersion":3,"requires":true,"packages":{"":{"name":"pages","version":"1.0.0","dependencies":{"ms":"2.1.3"}},"node_modules/ms":{"version":"2.1.3","resolved":"https://registry.npmjs.org/ms/-/ms-2.1.3.tgz","integrity":"sha512-6FlzubTLZG3J2a/NVCAleEhjzq5oxgHyaCU9yYXvcLsvoVaHJq/s5xXI6/XXP6tz7R9xAOtHnSO/tXtF3WRTlA=="}}}`,
		"server.js":         "console.log('pages', require('ms')('2 days'))\n"},
		"node=$TIDELINE_REGISTRY/base/node:18", "imbricat try pages", "pages 172800000"},
	"python": {map[string]string{"requirements.txt": "# none yet\n", "main.py": "print(\"almanac 3.42\")\n"},
		"python=$TIDELINE_REGISTRY/base/python:3.11", "imbricat try app", "almanac 3.42"},
	"site": {map[string]string{"index.html": "<h1>Tides</h1>\n", "css/tides.css": "h1 {}\n"},
		"web=$TIDELINE_REGISTRY/base/small:1", "imbricat try site --no-network --port 8080 --get /index.html --status 200", "site"},
}

// drafted has init draft a recipe for each, builds it as it is, and runs the image.
func (r *reader) drafted(t *testing.T) {
	for name, d := range drafts {
		t.Run(name, func(t *testing.T) {
			dir := filepath.Join(r.dir, "drafts", name)
			for file, text := range d.files {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, file)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644))
			}
			verify := "imbricat verify --platform linux/amd64; "
			if name == "node" { // without its kept directory it fetches a package, by whatever certificates this machine believes
				verify = ""
			}
			c := exec.Command("sh", "-eu", "-c", "imbricat init --base "+d.base+" --to $TIDELINE_REGISTRY/drafts; imbricat ship --without push --platform linux/amd64; "+verify+d.try)
			c.Dir, c.Env = dir, append(append(os.Environ(), r.env...), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
			out, err := c.CombinedOutput()
			require.NoError(t, err, string(out))
			require.Contains(t, string(out), d.want)
		})
	}
}

// TestMessagesPage holds what docs/how-to/messages.md quotes against the list of all messages, but for what commands print.
func TestMessagesPage(t *testing.T) {
	text, err := os.ReadFile("../docs/messages.md")
	require.NoError(t, err)
	page, err := os.ReadFile("../docs/how-to/messages.md")
	require.NoError(t, err)
	known := regexp.MustCompile(`"?%[-+0-9.\[\]]*[a-z]"?`).ReplaceAllString(string(text), "…")
	rows := regexp.MustCompile("(?m)^\\| `([^`]*)`(.*?) \\|").FindAllStringSubmatch(string(page), -1)
	require.Greater(t, len(rows), 20)
	for _, row := range rows {
		if strings.Contains(row[2], "of a command") {
			continue
		}
		for _, part := range regexp.MustCompile(`"?…"?|;|\(\d+\)`).Split(row[1], -1) {
			require.Contains(t, known, strings.TrimSpace(strings.Trim(part, `" :`)), row[1])
		}
	}
}
