package e2e

import (
	"archive/tar"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// TestWeighSchemas: what weigh and compare print for programs is as their schemas say.
func TestWeighSchemas(t *testing.T) {
	r := newRun(t)
	for i, moon := range []string{"new", "full"} {
		r.write("src/moon", strings.Repeat(moon+"\n", 300))
		r.write("src/tides", moon)
		r.write("node/node_modules/tide/package.json", fmt.Sprintf(`{"name": "tide", "version": "1.%d.0"}`, i))
		r.write("imbricat.yaml", fmt.Sprintf(`imbricat: 1
images:
  base: {base: none, steps: [{write: {to: /usr/share/doc/tide, text: manual}}, {copy: {from: src, to: /srv}}]}
  gauge: {base: base, steps: [{remove: [/srv/tides]}, {copy: {from: node, to: /opt}}, {copy: {from: src/moon, to: /opt/moon}}], settings: {labels: {moon: %s}}}
  bare: {base: none, settings: {user: "7"}}
`, moon))
		r.ok("build", "--receipt", fmt.Sprintf("receipt-%d.json", i))
		if i == 0 {
			r.ok("store", "name", "gauge", "gauge:before")
		}
	}
	check := func(schema *jsonschema.Schema, args ...string) {
		t.Helper()
		out, err := r.command(append(args, "--format", "json")...).Output()
		if len(out) == 0 {
			require.NoError(t, err)
		}
		document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(out)))
		require.NoError(t, err)
		require.NoError(t, schema.Validate(document), string(out))
	}
	weigh, compare := r.schemaOf("weigh"), r.schemaOf("compare")
	check(weigh, "weigh", "gauge", "--against", "base", "--limit", "growth=1%", "--limit", "packed=1B")
	check(weigh, "weigh", "bare")
	check(weigh, "weigh", "gauge", "bare", "gauge:before")
	check(compare, "compare", "gauge:before", "gauge", "--text", "/opt/moon")
	check(compare, "compare", "gauge", "gauge")
	check(compare, "compare", "bare", "gauge")
	check(compare, "compare", "receipt-0.json", "receipt-1.json")
	require.Error(t, weigh.Validate(map[string]any{"reference": "gauge"}))
	require.Error(t, compare.Validate([]any{map[string]any{"image": "gauge", "what": "changed"}}), "what changed is told")
	for _, name := range []string{"map.svg", "map.png"} {
		r.ok("weigh", "gauge", "--chart", name)
		info, err := os.Stat(filepath.Join(r.dir, name))
		require.NoError(t, err)
		require.Positive(t, info.Size())
	}
}

// TestWeighDebian: what is weighed of a real base, with a cache that somebody left, is what its tar archive and the records of dpkg in it say.
func TestWeighDebian(t *testing.T) {
	r := newRun(t)
	require.NoError(t, exec.Command("cp", filepath.Join(bases(t), "debian.tar"), r.dir).Run())
	r.write("cache/tide_1.0_amd64.deb", strings.Repeat("tide", 5000))
	r.write("imbricat.yaml", debianRecipe+"      - copy: {from: cache, to: /var/cache/apt/archives}\n")
	r.ok("build")
	var got struct {
		Total    struct{ Unpacked, Files int64 }
		Packages []struct {
			Manager, Name, Version string
			Unpacked, Files        int64
		}
		Managers []struct {
			Name     string
			Unpacked int64
		}
		Waste []struct {
			Kind, Path      string
			Unpacked, Files int64
			Steps           []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.ok("weigh", "debian", "--format", "json")), &got))

	// The same from the archive: sizes of files by their real paths, and the lists of dpkg.
	in, err := os.Open(filepath.Join(r.dir, "debian.tar"))
	require.NoError(t, err)
	defer in.Close()
	sizes, links, records := map[string]int64{}, map[string]string{}, map[string]string{}
	for tr := tar.NewReader(in); ; {
		h, err := tr.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		name := path.Clean("/" + h.Name)
		switch h.Typeflag {
		case tar.TypeReg:
			sizes[name] = h.Size
			if dir := path.Dir(name); name == "/var/lib/dpkg/status" || dir == "/var/lib/dpkg/info" && strings.HasSuffix(name, ".list") {
				text, err := io.ReadAll(tr)
				require.NoError(t, err)
				records[name] = string(text)
			}
		case tar.TypeSymlink:
			links[name] = h.Linkname
		}
	}
	real := func(name string) string {
		for dir, target := range links {
			if strings.HasPrefix(name, dir+"/") { // /bin and the like
				name = path.Join("/", target, strings.TrimPrefix(name, dir))
			}
		}
		return name
	}
	owned, versions := map[string]int64{}, map[string]string{}
	total, owner := int64(0), map[string]string{}
	for _, paragraph := range strings.Split(records["/var/lib/dpkg/status"], "\n\n") {
		fields := map[string]string{}
		for line := range strings.Lines(paragraph) {
			if name, value, is := strings.Cut(line, ": "); is {
				fields[name] = strings.TrimSpace(value)
			}
		}
		if fields["Status"] == "install ok installed" {
			versions[fields["Package"]] = fields["Version"]
		}
	}
	for record, list := range records {
		if !strings.HasSuffix(record, ".list") {
			continue
		}
		name, _, _ := strings.Cut(strings.TrimSuffix(path.Base(record), ".list"), ":")
		for _, file := range append(strings.Split(list, "\n"), record) {
			if size, is := sizes[real(file)]; is && owner[real(file)] == "" {
				owner[real(file)] = name
				owned[name] += size
				total += size
			}
		}
	}
	require.Greater(t, len(versions), 50)
	told := map[string]string{}
	for _, p := range got.Packages {
		if p.Manager == "dpkg" {
			told[p.Name] = p.Version
			require.Equal(t, owned[p.Name], p.Unpacked, p.Name)
		}
	}
	require.Equal(t, versions, told)
	for _, m := range got.Managers {
		if m.Name == "dpkg" {
			require.Equal(t, total, m.Unpacked)
		}
	}
	all := int64(20000)
	for _, size := range sizes {
		all += size
	}
	require.Equal(t, all, got.Total.Unpacked)
	require.EqualValues(t, len(sizes)+1, got.Total.Files)
	var cache int64
	for _, w := range got.Waste {
		if w.Kind == "cache" && w.Path == "/var/cache/apt" {
			cache = w.Unpacked
			require.Contains(t, w.Steps, "copy cache to /var/cache/apt/archives")
		}
	}
	left := int64(20000)
	for name, size := range sizes {
		if strings.HasPrefix(name, "/var/cache/apt/") {
			left += size
		}
	}
	require.Equal(t, left, cache)
}

// TestWeighNPM: a tree that npm installed, of packages that it packed, and the next version of one: what each takes, and what became of them.
func TestWeighNPM(t *testing.T) {
	need(t, "npm")
	r := newRun(t)
	npm := func(dir string, args ...string) {
		c := exec.Command("npm", append(args, "--offline", "--ignore-scripts", "--no-audit", "--no-fund", "--loglevel=error")...)
		c.Dir, c.Env = filepath.Join(r.dir, dir), append(r.env, "npm_config_cache="+filepath.Join(r.dir, "npm-cache"), "npm_config_update_notifier=false")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "npm %v: %s", args, out)
	}
	pack := func(name, version, needs string, bytes int) {
		dir := "packs/" + path.Base(name) + "-" + version
		r.write(dir+"/package.json", fmt.Sprintf(`{"name": %q, "version": %q, "dependencies": {%s}}`, name, version, needs))
		r.write(dir+"/lib/index.js", strings.Repeat("/* "+name+" */\n", bytes/10))
		npm("packs", "pack", "./"+path.Base(name)+"-"+version)
	}
	pack("moon", "0.3.0", "", 5000)
	pack("@sea/level", "1.0.0", "", 9000)
	pack("tides", "1.2.0", `"moon": "file:../packs/moon-0.3.0.tgz"`, 20000)
	pack("tides", "2.0.0", `"@sea/level": "file:../packs/sea-level-1.0.0.tgz"`, 30000)
	r.write("imbricat.yaml", "imbricat: 1\nimages:\n  bulletin: {base: none, platforms: [linux/amd64], steps: [{copy: {from: app, to: /srv}}]}\n")
	install := func(version string) map[string]int64 {
		r.write("app/package.json", fmt.Sprintf(`{"name": "bulletin", "version": "1.0.0", "dependencies": {"tides": "file:../packs/tides-%s.tgz"}}`, version))
		for _, old := range []string{"app/node_modules", "app/package-lock.json"} {
			require.NoError(t, os.RemoveAll(filepath.Join(r.dir, old)))
		}
		npm("app", "install")
		r.ok("build")
		var got struct {
			Packages []struct {
				Manager, Name, Version string
				Unpacked               int64
			}
		}
		require.NoError(t, json.Unmarshal([]byte(r.ok("weigh", "bulletin", "--format", "json")), &got))
		told := map[string]int64{}
		for _, p := range got.Packages {
			require.Equal(t, "npm", p.Manager)
			told[p.Name+" "+p.Version] = p.Unpacked
		}
		return told
	}
	taken := func(name string) (all int64) {
		require.NoError(t, filepath.WalkDir(filepath.Join(r.dir, "app/node_modules", name), func(_ string, e fs.DirEntry, err error) error {
			require.NoError(t, err)
			if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
				all += info.Size()
			}
			return nil
		}))
		return all
	}
	first := install("1.2.0")
	require.Equal(t, map[string]int64{"tides 1.2.0": taken("tides"), "moon 0.3.0": taken("moon")}, first)
	r.ok("store", "name", "bulletin", "bulletin:first")
	second := install("2.0.0")
	require.Equal(t, map[string]int64{"tides 2.0.0": taken("tides"), "@sea/level 1.0.0": taken("@sea/level")}, second)
	c := r.command("compare", "bulletin:first", "bulletin")
	out, _ := c.CombinedOutput()
	require.Equal(t, 3, c.ProcessState.ExitCode(), string(out))
	for _, line := range []string{"  ~ npm tides  1.2.0 → 2.0.0\n", "  + npm @sea/level  1.0.0\n", "  - npm moon  0.3.0\n"} {
		require.Contains(t, string(out), line)
	}
}
