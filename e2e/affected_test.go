package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// tides is a repository whose recipes and files change at random.
type tides struct {
	*run
	random *rand.Rand
	clock  int
	texts  map[string]string // what parts of the recipes say
	seen   map[string]map[string]string
	order  []string // commits that were built, also those that history has no more
}

func (o *tides) git(args ...string) string {
	o.t.Helper()
	o.clock++
	c := exec.Command("git", append([]string{"-C", o.dir, "-c", "user.name=Tideline", "-c", "user.email=o@tideline.example", "-c", "init.defaultBranch=trunk"}, args...)...)
	when := fmt.Sprintf("GIT_COMMITTER_DATE=2026-03-%02dT%02d:%02d:00Z", 1+o.clock/1440, o.clock/60%24, o.clock%60)
	c.Env = append(os.Environ(), when, "GIT_AUTHOR_DATE=2026-02-01T00:00:00Z", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	out, err := c.CombinedOutput()
	require.NoError(o.t, err, "git %v: %s", args, out)
	return strings.TrimSpace(string(out))
}

// recipes writes the recipes as their parts say.
func (o *tides) recipes() {
	t := o.texts
	o.write("imbricat.yaml", fmt.Sprintf(`imbricat: 1
# %s
recipes: stations/*/imbricat.yaml
sources: {leave-out: [%s, /store, /config, /data], honour-gitignore: true}
facts: {edition: "%s", version: "${file('VERSION')}", unused: "%s"}
stages:
  tables: {base: none, steps: [{copy: {from: common/a, to: /out/, leave-out: ["%s"]}}]}
  bits: {base: none, steps: [{copy: {from: ["common/*.txt"], to: /bits/}}]}
images:
  almanac: {base: none, platforms: [linux/amd64], steps: [{take: {from: tables, paths: /out, to: /srv}}], settings: {labels: {edition: "${facts.edition}", more: "%s"}}}
  pages: {base: none, platforms: [linux/amd64], steps: [{copy: {from: common/b, to: /pages/}}], publish: {main: {to: registry.tideline.example/tides/pages, tags: ["${git.short}"]}}}
  plain: {base: none, platforms: [linux/amd64], steps: [{write: {to: /version, text: "${facts.version}"}}]}
  parcel: {base: none, platforms: [linux/amd64], steps: [{copy: {sources-of: parts/a, to: /src}}]}
  list: {base: none, platforms: [linux/amd64], steps: [{copy: {manifests-of: [parts/b, "@tideline/x"], to: /src, leave-out: ["%s"]}}]}
  panel: {base: none, platforms: [linux/amd64], steps: [{copy: {sources-of: parts/web/x, to: /src}}]}
  gauge: {each: {pier: [%s]}, base: {image: pages}, platforms: [linux/amd64], steps: [{take: {from: bits, paths: /bits, to: "/${each.pier}"}}]}
`, t["comment"], t["out"], t["edition"], t["unused"], t["leave"], t["label"], t["leave"], t["each"]))
	o.write("stations/north/imbricat.yaml", fmt.Sprintf(`imbricat: 1
facts: {edition: "${file('EDITION')}%s"}
defaults: {mode: "%s"}
images:
  gauge: {base: {image: "#almanac"}, platforms: [linux/amd64], steps: [{copy: {from: pages, to: /north/}}, {write: {to: /e, text: "${facts.edition}"}}]}
  deep: {base: {stage: "#bits"}, platforms: [linux/amd64], steps: [{take: {from: gauge, paths: /north, to: /copied}}]}
`, t["north"], t["mode"]))
}

var tideFiles = []string{"common/a/moon", "common/a/deep/sun", "common/a/x.tmp", "common/b/page", "common/b/built/y", "common/one.txt", "common/two.txt", "stations/north/pages/p", "stations/north/EDITION", "VERSION", "unrelated", "common/b/.gitignore", ".gitattributes"}

// edit changes something at random, and says what.
func (o *tides) edit() string {
	pick := func(list ...string) string { return list[o.random.IntN(len(list))] }
	switch o.random.IntN(12) {
	case 8, 9, 10, 11:
		return o.repack()
	case 0, 1, 2, 3:
		name := pick(tideFiles...)
		text := fmt.Sprint(o.random.IntN(3))
		switch {
		case strings.HasSuffix(name, ".gitignore"):
			text = pick("built/", "", "nothing")
		case name == ".gitattributes":
			text = pick("*.none -text", "")
		}
		if needed := name == "VERSION" || strings.HasSuffix(name, "EDITION"); o.random.IntN(4) == 0 && !needed {
			require.NoError(o.t, os.RemoveAll(filepath.Join(o.dir, name)))
			return "delete " + name
		}
		o.write(name, text)
		return "write " + name + " " + text
	case 4:
		from, to := pick(tideFiles[:8]...), pick(tideFiles[:8]...)
		if _, err := os.Stat(filepath.Join(o.dir, from)); err == nil && from != to {
			require.NoError(o.t, os.MkdirAll(filepath.Dir(filepath.Join(o.dir, to)), 0o755))
			require.NoError(o.t, os.Rename(filepath.Join(o.dir, from), filepath.Join(o.dir, to)))
		}
		return "move " + from + " to " + to
	}
	part := pick("comment", "edition", "unused", "leave", "label", "each", "north", "mode", "out")
	text := fmt.Sprint(o.random.IntN(3))
	if texts := map[string][]string{"each": {"east", "east, west"}, "mode": {"u=rwX,go=rX", "u=rwX,go="}, "leave": {"*.tmp", "sun"}, "out": {"'*.none'", "'*.tmp'", "two.txt"}}[part]; texts != nil {
		text = pick(texts...)
	}
	o.texts[part] = text
	return "say " + part + " " + text
}

// repack changes packages at random: which they are, what they need, what they have.
func (o *tides) repack() string {
	modules := []string{"a", "b", "c", "b/inner"}
	module := modules[o.random.IntN(len(modules))]
	name := "parts/" + module + "/go.mod"
	text := "module example.tideline/" + module + "\n"
	switch o.random.IntN(6) {
	case 0, 1:
		for _, other := range modules {
			if other != module && o.random.IntN(3) == 0 {
				text += fmt.Sprintf("require example.tideline/%[1]s v0.0.0\nreplace example.tideline/%[1]s => %[2]s/%[1]s\n", other, strings.TrimSuffix(strings.Repeat("../", 1+strings.Count(module, "/")), "/"))
			}
		}
	case 2:
		name, text = "parts/"+module+"/x.go", fmt.Sprint(o.random.IntN(3))
	case 3: // a package that is named, or not there
		name, text = "parts/web/y/package.json", fmt.Sprintf(`{"name": "@tideline/%s"}`, []string{"y", "z"}[o.random.IntN(2)])
		if o.random.IntN(3) == 0 {
			require.NoError(o.t, os.RemoveAll(filepath.Join(o.dir, "parts/web/y")))
			return "delete " + name
		}
	case 4:
		name, text = "parts/web/x/package.json", fmt.Sprintf(`{"name": "@tideline/x", "dependencies": {"@tideline/%s": "*"}}`, []string{"y", "z"}[o.random.IntN(2)])
	case 5:
		name, text = []string{"parts/web/y/y.js", "parts/web/package-lock.json", "parts/web/x/patches/p"}[o.random.IntN(3)], fmt.Sprint(o.random.IntN(3))
	}
	o.write(name, text)
	return "write " + name + " " + text
}

// TestAffected: between any two states of a repository, images that are not affected have the same layers, config and revision.
func TestAffected(t *testing.T) {
	need(t, "git")
	same, wide := 0, 0
	first, end := seeds(t, 3)
	for seed := first; seed < end; seed++ {
		o := &tides{run: newRun(t), random: rand.New(rand.NewPCG(seed, 11)), seen: map[string]map[string]string{},
			texts: map[string]string{"each": "east", "mode": "u=rwX,go=rX", "leave": "*.tmp", "out": "'*.none'"}}
		o.git("init", "-q", ".")
		o.write(".git/info/exclude", "/store\n/config\n/data\n")
		for _, name := range tideFiles[:11] {
			o.write(name, name)
		}
		for _, module := range []string{"a", "b", "c", "b/inner"} {
			o.write("parts/"+module+"/go.mod", "module example.tideline/"+module+"\n")
		}
		o.write("parts/web/package.json", `{"name": "web", "workspaces": ["*"]}`)
		o.write("parts/web/x/package.json", `{"name": "@tideline/x"}`)
		o.write("common/b/keep", "k")
		o.write("common/a/keep", "k")
		o.write("stations/north/pages/keep", "k")
		o.write("common/keep.txt", "k")
		var told []string
		for round := range 25 {
			for range 1 + o.random.IntN(2) {
				told = append(told, fmt.Sprintf("%d: %s", round, o.change()))
			}
			commit := o.git("rev-parse", "HEAD")
			now := o.consists()
			since := commit
			if n := len(o.order); n > 0 {
				since = o.order[max(o.random.IntN(n), n-1-o.random.IntN(3))] // the last ones most of the time
			}
			before := o.seen[since]
			if o.git("status", "--porcelain", "--untracked-files=all", ".") == "" {
				o.seen[commit] = now
				if !slices.Contains(o.order, commit) {
					o.order = append(o.order, commit)
				}
			}
			if before == nil {
				continue
			}
			var found struct {
				Affected []struct {
					Name   string
					Chains [][]string
				}
				Unaffected []string
			}
			require.NoError(t, json.Unmarshal([]byte(o.ok("affected", "--since", since, "--format", "json")), &found))
			for _, name := range found.Unaffected {
				require.Equal(t, before[name], now[name], "seed %d, %s is not affected since %s:\n%s", seed, name, since, strings.Join(told, "\n"))
				same++
			}
			for _, one := range found.Affected {
				if before[one.Name] == now[one.Name] && now[one.Name] != "" {
					wide++
				}
			}
		}
	}
	t.Logf("not affected: %d; affected, and the same all the same: %d", same, wide)
	require.Greater(t, same, wide, "most answers are wider than they need be")
}

// change edits, and sometimes commits, merges, takes back, or writes history anew.
func (o *tides) change() string {
	act := o.edit()
	o.recipes()
	o.git("add", "-A", ".")
	if len(o.order) == 0 || o.random.IntN(4) > 0 {
		o.git("commit", "-q", "--allow-empty", "-m", act)
		act += ", commit"
	}
	if len(o.order) < 2 {
		return act
	}
	switch clean := o.git("status", "--porcelain", "--untracked-files=no"); {
	case clean != "":
	case o.random.IntN(8) == 0:
		o.git("commit", "-q", "--amend", "--allow-empty", "-m", "anew")
		act += ", amend"
	case o.random.IntN(8) == 0:
		o.git("checkout", "-q", "-B", "side", o.order[len(o.order)-1])
		o.write("common/b/side", fmt.Sprint(o.random.IntN(3)))
		o.git("add", "common/b/side")
		o.git("commit", "-q", "--allow-empty", "-m", "side")
		o.git("checkout", "-q", "trunk")
		o.git("merge", "-q", "-X", "ours", "-m", "merge", "side")
		act += ", merge"
	}
	return act
}

// consists builds everything and tells what each image consists of: its config, its layers, and what it says of where it is from. The version
// is a fact that all images tell.
func (o *tides) consists() map[string]string {
	all := map[string]string{}
	for _, i := range o.build().Images {
		text, err := os.ReadFile(filepath.Join(o.dir, "store/blobs/sha256", strings.TrimPrefix(i.Platforms[0].Digest, "sha256:")))
		require.NoError(o.t, err)
		var m struct {
			Config      struct{ Digest string }
			Layers      []struct{ Digest string }
			Annotations map[string]string
		}
		require.NoError(o.t, json.Unmarshal(text, &m))
		revision := m.Annotations["org.opencontainers.image.revision"]
		require.Len(o.t, strings.TrimSuffix(revision, "-dirty"), 40)
		delete(m.Annotations, "org.opencontainers.image.version")
		all[i.Name] = fmt.Sprint(m)
	}
	return all
}
