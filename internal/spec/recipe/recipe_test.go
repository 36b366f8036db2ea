package recipe

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/ground/reference"
)

// body wraps steps or keys of one image into a recipe.
func imageWith(lines string) string {
	return "imbricat: 1\nfacts: {version: \"1\"}\nstages: {tables: {base: none}}\nimages:\n  gauge:\n    base: none\n" + lines
}

// numbers are so many values of a list.
func numbers(n int) string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf("\"%d\"", i))
	}
	return strings.Join(all, ", ")
}

func steps(step string) string { return imageWith("    steps:\n      - " + step + "\n") }

// TestProblems holds the message and the place of every kind of mistake.
func TestProblems(t *testing.T) {
	cases := []struct {
		text string
		want []string // LINE:COLUMN: start of the message, in order
	}{
		{"", []string{"1:1: the recipe is empty"}},
		{"[]", []string{"1:1: the recipe must be a mapping, not a list"}},
		{"imbricat: 1\n---\nimbricat: 1", []string{"the recipe has more than one"}},
		{"imbricat: one\nimages: {a: {base: none}}", []string{"1:11: imbricat must be the number of the recipe's format, not text"}},
		{"images: {a: {base: none}}", []string{`1:1: the recipe needs the key "imbricat"`}},
		{"imbricat: 1\nimages: {}", []string{"2:9: images names no image"}},
		{"imbricat: 1\nimages: {a: {base: none}, a: {base: none}}", []string{`2:27: "a" stands twice in images`}},
		{"imbricat: 1\nimages: {Gauge: {base: none}}", []string{`2:10: "Gauge" is not a valid name for an image`}},
		{"imbricat: 1\nimages: {a: {base: none}}\nstages: {a: {base: none}}", []string{`2:10: "a" names a stage and an image`}},
		{"imbricat: 1\nimages: {a: {}}", []string{`2:13: the image a needs the key "base"`}},
		{"imbricat: 1\nimages: {a: {base: {stage: b}}}", []string{`2:28: no stage or image is named "b"`}},
		{"imbricat: 1\nstages: {b: {base: none}}\nimages: {a: {base: {image: b}}}", []string{`3:28: "b" is a stage: write {stage: b}`}},
		{"imbricat: 1\nimages: {a: {base: {image: a}}}", []string{`2:10: "a" needs itself: a needs a`}},
		{"imbricat: 1\nimages: {a: {base: tides/slim}}", []string{`2:20: "tides/slim" names no registry`}},
		{"imbricat: 1\nimages: {a: {base: {stage: b, image: a}}}", []string{`2:10: "a" needs itself`, "2:20: base must be a name, a reference, none"}},
		{"imbricat: 1\nimages: {a: {base: b}, b: {base: a}}", []string{`2:10: "a" needs itself: a needs b needs a`}},
		{"imbricat: 1\nimages: {tables: {base: tabels}, a: {base: faceda}}", []string{`2:25: no stage or image is named "tabels"; did you mean "tables"?`}},
		{imageWith("    platforms: []\n"), []string{"7:16: platforms names no platform"}},
		{imageWith("    platforms: [linux/amd64, linux/amd64]\n"), []string{"7:30: the platform linux/amd64 stands twice"}},
		{imageWith("    platforms: 5\n"), []string{"7:16: a platform must be text, and 5 is a number"}},
		{imageWith("    settings: {entrypoint: 5}\n"), []string{"7:28: an entry of entrypoint must be text, and 5 is a number"}},
		// What is known only once work has begun.
		{steps(`{copy: {from: "${base.user}", to: /a}}`), []string{"8:24: what the base says is known only once it is there: it can stand in settings, annotations"}},
		{steps(`{write: {to: /a, text: a}, when: base.env.A == "b"}`), []string{"8:42: what the base says is known only once it is there"}},
		{imageWith(`    publish: {main: {to: "h:1/g", tags: ['${result("tables", "/V")}']}}` + "\n"), []string{"7:43: what a stage leaves is known only once it is built, and a tag must be known before any work: take it from"}},
		{imageWith(`    settings: {labels: {a: '${result("tables", "V")}', b: '${result(facts.version, "/V")}', c: '${result("tabels", "/V")}', d: "${base.usr}"}}` + "\n"), []string{
			"7:29: result needs the name of a stage and an absolute path", "7:60: result needs the name of a stage", `7:97: no stage or image is named "tabels"; did you mean "tables"?`,
			`7:136: unknown name "usr" in ${base.usr}; did you mean "user"?`}},
		{imageWith(`    settings: {user: '${result("gauge", "/V")}'}` + "\n"), []string{`5:3: "gauge" needs itself: gauge needs gauge`}},
		{imageWith("    settings: {labels: {a: \"${now.iso}\"}}\n"), []string{"7:29: now is another time at every run, so it can stand in tags alone"}},
		{imageWith("    publish: {main: {to: \"h:1/g\", tags: [\"${now.hour}\"]}}\n"), []string{`7:49: unknown name "hour" in ${now.hour}; known here: iso`}},
		// Images for combinations.
		{imageWith("    each: {station: [north, north], edition: [], Size: [5], \"a b\": [x]}\n"), []string{
			`7:29: "north" stands twice in station`, "7:37: the list edition has no value", "7:57: a value of Size must be text, and 5 is a number", `7:61: "a b" is not a valid name for a list of each`}},
		{imageWith("    each: {station: [\"\"]}\n"), []string{"7:22: a value of station is empty"}},
		{imageWith("    each: {station: north}\n"), []string{"7:21: the list station must be a list, not text"}},
		{imageWith("    each: {}\n"), []string{"7:11: each names no list"}},
		{imageWith("    each: {of: {station: [north]}, leave-out: {station: noth}}\n"), []string{`7:57: the list station has no "noth"; did you mean "north"?`}},
		{imageWith("    each: {of: {station: [north]}, leave-out: {station: north}}\n"), []string{"7:11: leave-out leaves no image of gauge"}},
		{imageWith("    each: {of: {station: [north], size: [s]}, also: [{station: east}, {statoin: east, size: s}]}\n"), []string{
			"7:54: an entry of also has a value for every list: size is missing", "7:71: an entry of also has a value for every list: station is missing", `7:72: each has no list "statoin"; did you mean "station"?`}},
		{imageWith("    each: {station: [\"North Pier\", north-pier]}\n"), []string{`7:11: two combinations of each would both be the image "gauge-north-pier"`}},
		{imageWith("    each: {edition: [\"1.4\", \"1-4\"]}\n"), []string{`7:11: two combinations of each would both be the image "gauge-1-4"`}},
		{imageWith("    each: {station: [\"!\"]}\n"), []string{`7:11: "gauge-" is not a valid name for an image`}},
		{imageWith("    each: {station: [north]}\n    settings: {labels: {a: \"${each.sation}\"}}\n  other: {base: gauge, settings: {labels: {a: \"${each.station}\"}}}\n"), []string{
			`8:36: unknown name "sation" in ${each.sation}; did you mean "station"?`, "9:17: gauge is several images: name one of gauge-north", `9:55: unknown name "station" in ${each.station}`}},
		{imageWith("    each: {station: [north]}\n  gauge-north: {base: none}\n"), []string{`8:3: "gauge-north" is the name of two images, of which one comes of each`}},
		{imageWith("    each: {a: [" + numbers(40) + "], b: [" + numbers(40) + "]}\n"), []string{"7:11: the lists of each make more than 1000 images"}},
		// Lists in lists, and what is shared.
		{"imbricat: 1\nshared: {a: &a [{copy: {from: a, to: b}}], b: {any: thing}}\nimages: {g: {base: none, steps: [*a, [[{run: \"\"}]]]}}", []string{
			"2:38: a path in the image is absolute", "3:46: run has nothing to run"}},
		{"imbricat: 1\ndefaults: {owner: 1, in: /a}\nstages: {s: {base: none}}\nimages: {g: {base: none}}", []string{`2:22: "in" is called "working-dir" in defaults`}},
		{"imbricat: 1\nstages: {s: {base: none, for: {linux/arm64: {settings: {user: a}}}}}\nimages: {g: {base: s, for: {linux/arm64: {checks: {stage: g}}}}}", []string{
			`2:46: unknown key "settings" in for linux/arm64`, `3:59: "g" is an image, and a check builds a stage`}},
		{"imbricat: 1\nimages: {g: {base: none, steps: &a [*a]}}", []string{"2:37: the recipe has more than 200000 values"}},
		// What keys were called, and what they are called elsewhere.
		{imageWith("    stack: {policy: follow, dead: 5%}\n    checks: [{size: {at-most: 1kB}}, {secrets: {except: /a}}]\n    defaults: {in: /a}\n"), []string{
			`7:29: "dead" is called "dead-copies" in stack`, `8:22: "at-most" is called "packed" in size`, `8:49: "except" is called "leave-out" in secrets`, `9:16: "in" is called "working-dir" in defaults`}},
		{steps("{run: a, in: src, keep: [{name: d, at: /d}]}") + "      - link: {to: /a, target: b}\n      - take: {from: tables, path: /a, to: /b}\ncache: {share: ./x, mode: both}\n", []string{
			`8:18: "in" is called "working-dir" in a step`, `8:22: a path in the image is absolute`, `8:27: "keep" is called "kept" in a step`, `9:16: "to" is called "at" in link`,
			`10:30: "path" is called "paths" in take`, `11:21: "mode" is called "direction" in cache`}},
		{steps("{copy: {src: a, dest: /a, chown: 5}}") + "      - {run: a, environment: {A: 1}, workdir: /a, timeout: 5s}\n", []string{`8:17: "src" is called "from" in copy`, `8:25: "dest" is called "to" in copy`,
			`8:35: "chown" is called "owner" in copy`, `9:18: "environment" is called "env" in a step`, `9:39: "workdir" is called "working-dir" in a step`, `9:52: "timeout" is called "within" in a step`}},
		{imageWith("    settings: {env: {\"A=B\": c}}\n"), []string{"7:22: an environment variable's name cannot hold '='"}},
		{imageWith("    publish: {main: {to: tides/gauge, tags: [a]}}\n"), []string{`7:26: "tides/gauge" names no registry`}},
		{imageWith("    publish: {main: {to: \"h:1/g:1\", tags: [a]}}\n"), []string{`7:26: "h:1/g:1": want the repository alone`}},
		{imageWith("    publish: {main: {to: h:1/g, tags: [-x]}}\n"), []string{`7:40: "-x" is not a tag`}},
		{imageWith("    publish: {main: {to: h:1/g, tags: [{tag: a, when: version}]}}\n"), []string{`7:55: unknown name "version" in an expression`}},
		{imageWith("    publish: {main: {to: h:1/g, tags: [{tag: a, when: '1 + 1'}]}}\n"), []string{"7:55: expected bool, but got int"}},
		{imageWith("    publish: {main: {to: h:1/g, tags: [a], fixed: [\"[0-9\"]}}\n"), []string{`7:52: "[0-9" is not a pattern of tags`}},
		{imageWith("    publish: {main: {to: h:1/g, tags: [{tag: a, when: ''}], invalid: mind}}\n"),
			[]string{"7:55: when is empty", `7:70: invalid cannot be "mind"; did you mean "mend"?`}},
		{imageWith("    publish: {main: {to: h:1/g, tags: ['${date.ios}-${run.nummer}-${tag(5)}']}}\n"), []string{`7:48: unknown name "ios" in ${date.ios}; did you mean "iso"?`,
			`7:59: unknown name "nummer" in ${run.nummer}; did you mean "number"?`, "7:73: cannot use int as argument (type string) to call tag"}},
		{imageWith("    checks: [{}, {size: {packed: 1kB}, user: {not: root}}, {sise: 1kB}]\n"), []string{"7:14: a check is exactly one of", "7:18: a check is exactly one of", `7:61: unknown key "sise" in a check; did you mean "size"?`}},
		{imageWith("    checks: [{try: {}}]\n"), []string{"7:20: try needs a command that must end well, or a port"}},
		{imageWith("    checks: [{try: {command: [a], get: /x}}, {try: {port: 70000}}, {try: {port: 80, get: x}}, {try: {port: 80, status: 200}}]\n"), []string{
			"7:40: get needs port", "7:59: port must be a number from 1 to 65535", "7:90: get takes a path such as /health", "7:101: status beside port needs get"}},
		{imageWith("    checks: [{size: {}}, {base: {}}, {forbid: []}, {need: ['!a']}, {waste: {at-most: 80%}}, {user: {}}, {try: {command: [a], within: soon}}]\n"), []string{"7:21: size needs packed or unpacked",
			"7:33: base needs younger or current", "7:47: forbid names no path", "7:59: need cannot hold \"!a\"", "7:86: at-most must be", `7:100: user needs the key "not"`, "7:134: within must be a time"}},
		{imageWith("    silence: [secrets]\n"), []string{`7:5: unknown key "silence" in the image gauge`}},
		{"silence: [secrets]\n" + imageWith(""), []string{`1:11: a code of silence cannot be "secrets"; did you mean "secret"?`}},
		{imageWith("    for: {linux/s390: {base: none}, linux/amd64: {base: {stage: tabels}}}\n    platforms: [linux/amd64]\n"),
			[]string{"7:11: the image \"gauge\" is not for linux/s390", `7:65: no stage or image is named "tabels"`}},
		{steps("{unpack: {from: \"https://data.tideline.example/x.tar\", to: /x}}"), []string{"8:25: what comes from an address needs its checksum"}},
		{steps("{unpack: {from: x.tar, to: /x, strip: -1, at-most: lots}}"), []string{"8:47: strip must be a number from 0 to 100", "8:60: at-most must be a size"}},
		{steps("{fetch: {from: \"https://data.tideline.example/x\", to: /x, sha256: 12}}"), []string{"8:75: sha256 must be 64 hexadecimal digits"}},
		{steps("{write: {to: etc/x, text: x}}"), []string{`8:22: a path in the image is absolute: write "/etc/x"`}},
		{steps("{write: {to: /a/, text: x}}"), []string{`8:22: write makes a file: "/a/" must not end with a slash`}},
		{steps("{copy: {from: [a, ''], to: /a}}") + "      - copy: {from: /etc, to: /a}\n", []string{"8:27: from is empty; write . for", `9:22: from is relative to the project folder: "/etc" is absolute`}},
		{steps("{link: {at: /a, target: ''}}"), []string{"8:33: target is empty"}},
		{steps("{fetch: {from: x, to: /a, sha256: '${facts.version}'}}"), []string{`8:24: "x" is not an address`}},
		{steps("{remove: []}"), []string{"8:18: remove names nothing"}},
		{steps("{write: {to: /a, text: x}, when: ''}") + "      - {remove: [{value: /a}, {value: b, when: 1 + 1}]}\n    checks: [{size: {packed: 1kB}, when: version}]\n", []string{"8:42: when is empty: write a condition",
			`9:19: an entry of remove needs the key "when"`, "9:40: a path in the image is absolute", "9:49: expected bool, but got int", `10:42: unknown name "version" in an expression`}},
		{imageWith("    compression: zip\n"), []string{`7:18: compression cannot be "zip"; did you mean "gzip"?`}},
		{imageWith("    stack: {polcy: lock}\n"), []string{`7:13: unknown key "polcy" in stack; did you mean "policy"?`}},
		{imageWith("    for: {linux/arm64: {base: none, platforms: [x/y]}}\n"), []string{`7:37: unknown key "platforms" in for linux/arm64`}},
		{steps("{}"), []string{"8:9: a step does exactly one of"}},
		{steps("{link: {at: /a, target: b}, write: {to: /a, text: b}}"), []string{"8:9: a step does exactly one of"}},
		{steps("{cpoy: {from: ., to: /a}}"), []string{`8:10: unknown key "cpoy" in a step; did you mean "copy"?`}},
		{steps("{copy: {from: []}}"), []string{`8:16: copy needs the key "to"`, "8:23: from names nothing to copy"}},
		{steps("{write: {to: /a, text: ~}}"), []string{"8:32: text must be text, and ~ is nothing"}},
		{steps("{write: {to: /a, text: \"${facts.versoin}\"}}"), []string{`8:41: unknown name "versoin" in ${facts.versoin}; did you mean "version"?`}},
		{steps("{write: {to: /a, text: \"${facts.version\"}}"), []string{`8:33: "${" without its "}"`}},
		{steps("{write: {to: /a, text: \"${}\"}}"), []string{"8:33: an empty expression"}},
		{steps("{write: {to: /a, text: \"${file()}\"}}"), []string{"8:35: not enough arguments to call file"}},
		{steps("{write: {to: /a, text: \"${file('p.json', 5)}\"}}"), []string{"8:50: cannot use int as argument (type string) to call file"}},
		{steps("{write: {to: /a, text: \"${1 + git.tag}\"}}"), []string{"8:37: invalid operation: + (mismatched types int and string)"}},
		{steps("{write: {to: /a, text: \"${git.tga ?? 'x' + git.short}\"}}"), []string{`8:39: unknown name "tga" in ${git.tga ?? 'x' + git.short}; did you mean "tag"?`}},
		{steps("{write: {to: /a, text: \"${git.tag ?? 'x' + git.shrt}\"}}"), []string{`8:56: unknown name "shrt" in ${git.tag ?? 'x' + git.shrt}; did you mean "short"?`}},
		{steps("{run: 5}"), []string{"8:15: an entry of run must be text, and 5 is a number"}},
		{steps("{run: [a, b], kept: [{name: d, at: /d, hand-out: turn}]}"), []string{`8:58: hand-out cannot be "turn"; did you mean "turns"?`}},
		{steps("{run: ''}"), []string{"8:15: run has nothing to run"}},
		{steps("{run: {lines: ['echo ${HOME} ${facts.version}', a], command: b}}") + "      - run: |\n          set -e\n          echo \"${platform.architecture == 'arm64' ? 'a}' : 'b'}\"\n", []string{
			`8:38: nothing is expanded in lines of a shell: give it by env, such as env: {VALUE: "${facts.version}"}`, `11:17: nothing is expanded in lines of a shell: give it by env, such as env: {VALUE: "${platform.architecture == 'arm64' ? 'a}' : 'b'}"}`}},
		{steps("{run: {lines: a, command: b}}") + "      - run: {}\n      - run: {lines: ['', ' ']}\n", []string{"8:15: run has either command", "9:14: run has either command", "10:22: lines has nothing to run"}},
		{steps("{run: {command: []}}"), []string{"8:15: command names no program"}},
		{steps("{run: {comand: [a]}}"), []string{`8:16: unknown key "comand" in run; did you mean "command"?`}},
		{steps("{copy: {to: /a}}"), []string{`8:16: copy needs the key "from", or manifests-of or sources-of with a package`}},
		{steps("{copy: {from: a, sources-of: a, to: /a}}"), []string{"8:16: copy has one of from, manifests-of, sources-of"}},
		{steps("{copy: {manifests-of: a, structure: keep, to: /a}}"), []string{"8:16: packages keep their folders: structure stands beside from alone"}},
		{steps("{copy: {manifests-of: ['', /a], to: /a}}"), []string{"8:32: an entry of manifests-of is empty; write . for the package of this folder", `8:36: a package is named by its folder, relative to that of the recipe, or by the name that its manifest has: "/a" is absolute`}},
		{steps("{copy: {sources-of: [], to: /a}}"), []string{"8:29: sources-of names nothing to copy"}},
		{steps("{copy: {from: a, to: /a}, within: 5m}"), []string{"8:9: within stands beside run alone"}},
		{steps("{run: a, within: -5m, expires: soon}"), []string{"8:26: within must be a time", "8:40: expires must be a time"}},
		{steps("{run: a, working-dir: src, env: {\"A=B\": c}}"), []string{`8:31: a path in the image is absolute: write "/src"`, "8:42: an environment variable's name cannot hold '='"}},
		{steps("{run: a, kept: [{name: D, at: /dev/x}]}"), []string{`8:32: "D" is not a valid name for a kept directory`, "8:39: nothing can be put at /dev/x: the sandbox has it for itself"}},
		{steps("{run: a, secrets: [{name: tokn, at: /t}]}") + "secrets: {token: {env: T}, b: {env: '', file: f}, c: {ssh-agent: false}}\n",
			[]string{`8:35: no secret is named "tokn"; did you mean "token"?`, "9:37: env names no variable", "9:66: ssh-agent can only be true"}},
		{strings.Replace(imageWith(""), "{base: none}", "{base: none, machine: hare}", 1), []string{`3:40: machine cannot be "hare"; did you mean "here"?`}},
		{steps("{fetch: {from: \"https://data.tideline.example/x\", to: /x}}"), []string{`8:17: fetch needs the key "sha256"`}},
		{steps("{take: {from: tabels, paths: /a, to: /b}}"), []string{`8:23: no stage or image is named "tabels"; did you mean "tables"?`}},
	}
	for _, c := range cases {
		_, err := Parse("r.yaml", []byte(c.text))
		var list *Errors
		require.True(t, errors.As(err, &list), "%s\n%v", c.text, err)
		var got []string
		for _, line := range strings.Split(err.Error(), "\n") {
			if strings.HasPrefix(line, "r.yaml:") {
				got = append(got, strings.TrimSpace(strings.TrimPrefix(line, "r.yaml:")))
			}
		}
		require.Len(t, got, len(c.want), "%s\n%s", c.text, err)
		for i, want := range c.want {
			require.True(t, strings.HasPrefix(got[i], want), "%s\ngot  %s\nwant %s", c.text, got[i], want)
		}
	}
}

// TestValidRecipes parses the recipes that ship with the program, and forms that must stay allowed.
func TestValidRecipes(t *testing.T) {
	texts := map[string]string{
		"anchors": "imbricat: 1\nimages:\n  a: {base: none, settings: &s {user: 5, env: {A: 1, B: true}}}\n  b: {base: {image: a}, settings: {<<: *s, user: \"6\"}}\n",
		"takes":   steps("{take: {from: {reference: slim}, paths: [/a, /b], to: /c/}}") + "      - take: {from: \"slim:4\", paths: /a, to: /b}\n",
		"step":    steps("{name: pages, only: linux/arm64, copy: {from: [a, b], to: /c, leave-out: x, mode: 0644, owner: 7}}"),
	}
	for _, name := range []string{"demo/tideline/imbricat.yaml", "demo/tideline/bases/imbricat.yaml"} {
		text, err := os.ReadFile(filepath.Join("../../..", name))
		require.NoError(t, err)
		texts[name] = string(text)
	}
	// What the documents show must be right.
	for name, fences := range map[string][2]string{"docs/recipe.md": {"```yaml\n", "```"}, "README.md": {"<<'RECIPE'\n", "RECIPE\n"}} {
		text, err := os.ReadFile(filepath.Join("../../..", name))
		require.NoError(t, err)
		_, after, found := strings.Cut(string(text), fences[0])
		require.True(t, found, name)
		texts[name], _, _ = strings.Cut(after, fences[1])
	}
	for name, text := range texts {
		_, err := Parse(name, []byte(text))
		require.NoError(t, err, name)
	}
	// One entry may stand where a list may.
	r, err := Parse("r", []byte("imbricat: 1\nsecrets: {token: {command: pass}}\nimages: {a: {base: none, checks: {user: {not: root}}, settings: {entrypoint: /bin/a, ports: 80, volumes: none},\n"+
		"  steps: {run: {command: a}, kept: {name: d, at: /d}, secrets: {name: token, at: /t}}}}"))
	require.NoError(t, err)
	run := r.Images[0].Steps[0].Do.(*Run)
	require.Equal(t, []int{1, 1, 1, 1, 1, 1, 1}, []int{len(r.Secrets[0].Command), len(r.Images[0].Checks), len(r.Images[0].Settings.Entrypoint), len(r.Images[0].Settings.Ports),
		len(run.Args), len(run.Kept), len(run.Secrets)})
	require.True(t, r.Images[0].Settings.NoVolumes)
	r, err = Parse("r", []byte(texts["anchors"]))
	require.NoError(t, err)
	user, _ := r.Images[1].Settings.User.Constant()
	require.Equal(t, "6", user, "a key beside << wins")
	require.Len(t, r.Images[1].Settings.Env, 2)
}

func TestExpressions(t *testing.T) {
	scope := &Scope{
		Git:      map[string]any{"commit": "c0ffee0123", "short": "c0ffee0", "dirty": false},
		Env:      map[string]any{"SET": "on"},
		Platform: map[string]any{"os": "linux", "architecture": "arm64", "variant": ""},
		Facts:    map[string]any{"version": "1.4.0", "count": 3},
	}
	cases := []struct{ text, want, problem string }{
		{`plain`, "plain", ""},
		{`$${kept} and $5`, "${kept} and $5", ""},
		{`${facts.version}-${git.short}`, "1.4.0-c0ffee0", ""},
		{`${git.tag ?? "0.0.0-" + git.short}`, "0.0.0-c0ffee0", ""},
		{`${git.branch ?? git.tag ?? "none"}`, "none", ""},
		{`${env.SET}${env.UNSET ?? "}"}`, "on}", ""},
		{`${upper(platform.architecture)}`, "ARM64", ""},
		{`${facts.count + 1}`, "4", ""},
		{`${git.dirty ? "dirty" : "clean"}`, "clean", ""},
		{`${git.branch == "trunk" && !git.dirty ? "a" : "b"}`, "b", ""},
		{`${env.UNSET == "x" ? "a" : "b"}`, "b", ""},
		{`${env.UNSET}`, "", "the environment variable UNSET is not set; set it, or give a default"},
		{`${"a" + env.UNSET}`, "", "the environment variable UNSET is not set"},
		{`${string(env.UNSET)}`, "", "the environment variable UNSET is not set"},
		{`${git.tag}`, "", "git.tag is not known here"},
		{`${[1, 2]}`, "", "gives a slice, which is not text"},
	}
	for _, c := range cases {
		r, err := Parse("r", []byte("imbricat: 1\nfacts: {version: '1', count: 3}\nimages: {a: {base: none, steps: [{write: {to: /a, text: '"+c.text+"'}}]}}"))
		require.NoError(t, err, c.text)
		got, err := r.Images[0].Steps[0].Do.(*Write).Text.Text(scope)
		if c.problem != "" {
			require.ErrorContains(t, err, c.problem, c.text)
			require.ErrorContains(t, err, "r:3:", c.text)
			continue
		}
		require.NoError(t, err, c.text)
		require.Equal(t, c.want, got, c.text)
	}
}

func TestBounds(t *testing.T) {
	bomb := "imbricat: 1\nfacts:\n  a: &a x\nimages: {g: {base: none, settings: {entrypoint: &e0 [a,a,a,a,a,a,a,a,a,a]}}}\n"
	_, err := Parse("r", []byte(bomb+strings.Repeat("#", maxText)))
	require.ErrorContains(t, err, "more than 4194304")
	var wide strings.Builder
	wide.WriteString("imbricat: 1\nimages:\n  g: {base: none, settings: &s {env: {")
	for i := range 600 {
		wide.WriteString("A" + strings.Repeat("b", i%7) + strings.Repeat("c", i/7) + ": x, ")
	}
	wide.WriteString("}}}\n")
	for i := range 600 {
		wide.WriteString("  g" + strings.Repeat("x", i/26) + string(rune('a'+i%26)) + ": {base: none, settings: *s}\n")
	}
	_, err = Parse("r", []byte(wide.String()))
	require.ErrorContains(t, err, "more than 200000 values")
	_, err = Parse("r", []byte("\xff"))
	require.ErrorContains(t, err, "not UTF-8")
}

// FuzzParse: no text makes the parser panic, and every problem has a place inside the text.
func FuzzParse(f *testing.F) {
	f.Add(steps("{copy: {from: ., to: /a}}"))
	f.Add("imbricat: 1\nimages: &a {b: *a, <<: *a}")
	f.Add("a: ${env.X ?? \"}\"}")
	f.Fuzz(func(t *testing.T, text string) {
		_, err := Parse("r", []byte(text))
		var list *Errors
		if err != nil {
			require.True(t, errors.As(err, &list))
			require.NotEmpty(t, list.Problems)
			require.NotEmpty(t, err.Error())
			// What is left without the mistakes has none.
			if rest := list.File.Without(list.Problems); rest != nil {
				require.NotEmpty(t, rest.Images)
			}
		}
	})
}

// TestMendTag: whatever the text, what is left is a tag or nothing; a tag stays as it is; long texts that differ stay apart.
func TestMendTag(t *testing.T) {
	for text, want := range map[string]string{"tides/spring": "tides-spring", "1.4.0+build 7": "1.4.0-build-7", "-.x": "x", "//": "", "": "", "Höhe": "H-he", "_a": "_a"} {
		require.Equal(t, want, MendTag(text), text)
	}
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(rapid.String(), rapid.StringMatching(`[a-z/.-]{120,140}`)).Draw(t, "text")
		mended := MendTag(text)
		if reference.CheckTag(text) == nil {
			require.Equal(t, text, mended)
		}
		if mended != "" {
			require.NoError(t, reference.CheckTag(mended), "%q", text)
		}
		if other := strings.Repeat("a", 130) + text; text != "" {
			require.NotEqual(t, MendTag(strings.Repeat("a", 130)), MendTag(other))
		}
	})
}

// graph reads a recipe with others beside it, by the files that patterns name.
func graph(files map[string]string) (*Recipe, error) {
	return ParseGraph(DefaultName, []byte(files[DefaultName]), func(pattern string) (found []Source, err error) {
		for _, name := range slices.Sorted(maps.Keys(files)) {
			if is, _ := path.Match(pattern, name); is {
				found = append(found, Source{name, []byte(files[name])})
			}
		}
		if len(found) == 0 {
			err = errors.New("there is no such file")
		}
		return found, err
	})
}

func TestParseGraph(t *testing.T) {
	r, err := graph(map[string]string{
		DefaultName: "imbricat: 1\nrecipes: ['s/*/imbricat.yaml', s/n/imbricat.yaml, imbricat.yaml]\nsilence: modes\nsecrets: {token: {env: T}, own: {env: O}}\nfacts: {v: '1'}\n" +
			"authorities: [a.pem]\nstages: {t: {base: none}}\nimages: {g: {base: s/n#g}}\n",
		"s/n/imbricat.yaml": "imbricat: 1\nsilence: no-match\nauthorities: [a.pem]\nsources: {leave-out: '*.log'}\nsecrets: {own: {text: '${secrets.token}'}}\nfacts: {w: '${facts.v}'}\n" +
			"stages: {t: {base: none}}\nimages: {g: {base: {stage: t}, settings: {labels: {a: '${result(\"#t\", \"/v\")}${result(\"t\", \"/v\")}'}}, checks: [{stage: '#t'}], steps: [{take: {from: '#t', paths: /a, to: /b}}, " +
			"{run: x, secrets: {token: /t, own: /o}}], for: {linux/arm64: {steps: [{run: y}]}}, platforms: [linux/amd64, linux/arm64]}, h: {base: t, each: {a: [x, y]}}}\n",
		"s/s/imbricat.yaml": "imbricat: 1\nstages: {t: {base: s/n#t}}\n",
	})
	require.NoError(t, err)
	var names []string
	for _, s := range r.Stages {
		names = append(names, s.Name)
	}
	for _, i := range r.Images {
		names = append(names, i.Of+">"+i.Name)
	}
	require.Equal(t, []string{"t", "s/n#t", "s/s#t", ">g", ">s/n#g", "s/n#h>s/n#h-x", "s/n#h>s/n#h-y"}, names)
	require.Equal(t, []string{"s/n#t", "t", "s/n#t", "t", "t"}, r.Needs("s/n#g"))
	require.Equal(t, []string{"s/n#g"}, r.Needs("g"))
	require.Equal(t, []string{"s/n#t"}, r.Needs("s/s#t"))
	require.Equal(t, []string{"s/n#t"}, r.Needs("s/n#h-x"))
	require.Equal(t, []string{"modes"}, r.Silence)
	g := r.Images[1]
	require.Equal(t, []string{"no-match"}, g.Steps[0].Silence)
	require.Equal(t, []string{"no-match"}, g.For[0].Steps[0].Silence)
	require.Equal(t, []SecretUse{{g.Steps[1].Do.(*Run).Secrets[0].Pos, "token", g.Steps[1].Do.(*Run).Secrets[0].At}, {g.Steps[1].Do.(*Run).Secrets[1].Pos, "s/n#own", g.Steps[1].Do.(*Run).Secrets[1].At}},
		g.Steps[1].Do.(*Run).Secrets)
	require.Equal(t, []string{"token"}, r.Secrets[2].Needs())
	made, err := r.Secrets[2].Make(Scope{}, map[string]string{"token": "x"})
	require.NoError(t, err)
	require.Equal(t, "x", made)
	require.Equal(t, "s/n/a.pem", r.Authorities[1].File)
	require.Equal(t, []Sources{{In: "s/n", LeaveOut: []string{"*.log"}}}, r.Sources)
	require.Equal(t, []string{"s/n#g", "s/n#h-x", "s/n#h-y"}, r.In("s"))
	require.Equal(t, []string{"g"}, r.Of(""))
	require.Empty(t, r.In("s/s"))
	require.Contains(t, r.File.Describe(g.Pos, "here"), "s/n/imbricat.yaml:8:10: here\n    8 | images: {g: ")
}

// TestManyProblems: of hundreds the first are told, and how many there are.
func TestManyProblems(t *testing.T) {
	text := "imbricat: 1\nimages:\n"
	for i := range 200 {
		text += fmt.Sprintf("  image-%03d: {base: none, stepz: []}\n", i)
	}
	_, err := Parse("r.yaml", []byte(text))
	var list *Errors
	require.ErrorAs(t, err, &list)
	require.Equal(t, 200, len(list.Problems)) // without writing them all
	require.Contains(t, err.Error(), "r.yaml:52:")
	require.NotContains(t, err.Error(), "r.yaml:53:")
	require.True(t, strings.HasSuffix(err.Error(), "\nand 150 more mistakes"), err.Error())
}

// TestGraphProblems: mistakes of all recipes are told, each with its file and line there.
func TestGraphProblems(t *testing.T) {
	one, fine := "imbricat: 1\nimages: {g: {base: none}}\n", "imbricat: 1\nrecipes: ['*/imbricat.yaml']\n"
	for _, c := range []struct {
		files map[string]string
		want  []string
	}{
		{map[string]string{DefaultName: fine + "images: {g: {bse: none}}\n", "a/imbricat.yaml": "imbricat: 1\nimages:\n  g: {base: elsewhere#g, steps: [{take: {from: '#q', paths: /a, to: /b}}]}\n", "b/imbricat.yaml": "imbricat: 1\nimages: 5\n"}, []string{
			`imbricat.yaml:3:14: unknown key "bse" in the image g; did you mean "base"?`, `a/imbricat.yaml:3:13: no recipe of the graph is in "elsewhere": recipes: names those that are`, `a/imbricat.yaml:3:48: no stage or image is named "q"`,
			`b/imbricat.yaml:2:9: images must be a mapping, not a number`}},
		{map[string]string{DefaultName: fine, "a/imbricat.yaml": "\n: : x", "b/imbricat.yaml": "\xff", "c/imbricat.yaml": "", "d/imbricat.yaml": one + "---\n" + one}, []string{
			`a/imbricat.yaml:1:1: this is not YAML`, `b/imbricat.yaml: the recipe is not UTF-8 text`, `c/imbricat.yaml:1:1: the recipe is empty`, `d/imbricat.yaml: the recipe has more than one YAML document`}},
		{map[string]string{DefaultName: "imbricat: 1\nrecipes: [b.yaml, 'a/*.yaml', ../x.yaml, /x.yaml, no.yaml, 5]\n", "b.yaml": one, "a/1.yaml": one, "a/2.yaml": one}, []string{
			`imbricat.yaml:2:11: b.yaml lies beside this recipe, and a recipe is named by its folder: give it one of its own`, `imbricat.yaml:2:19: a/1.yaml and a/2.yaml lie in one folder`,
			`imbricat.yaml:2:31: recipes lie below this one: "../x.yaml" is no path`, `imbricat.yaml:2:42: recipes lie below this one: "/x.yaml"`, `imbricat.yaml:2:51: recipes: no.yaml: there is no such file`, `imbricat.yaml:2:60: an entry of recipes must be text`}},
		{map[string]string{DefaultName: fine, "a b/imbricat.yaml": one}, []string{`imbricat.yaml:2:11: a b/imbricat.yaml: the folder of a recipe is part of names`}},
		{map[string]string{DefaultName: fine, "a/imbricat.yaml": one + "recipes: b/x.yaml\ncache: {share: ./x}\n"}, []string{
			`a/imbricat.yaml:3:10: further recipes are named in one place, imbricat.yaml`, `a/imbricat.yaml:4:8: one cache serves all recipes: it is named in imbricat.yaml`}},
		{map[string]string{DefaultName: fine, "a/imbricat.yaml": "imbricat: 1\nimages: {g: {base: b#g}}\n", "b/imbricat.yaml": "imbricat: 1\nimages: {g: {base: a#g}, h: {base: a#h}}\n"}, []string{
			`a/imbricat.yaml:2:10: "a#g" needs itself: a#g needs b#g needs a#g`, `b/imbricat.yaml:2:36: no stage or image is named "a#h"`}},
		{map[string]string{DefaultName: fine, "a-b/imbricat.yaml": one, "a.b/imbricat.yaml": one}, []string{`a.b/imbricat.yaml:2:10: the names a-b#g and a.b#g differ in signs alone`}},
		{map[string]string{DefaultName: "imbricat: 1\nstages: {s: {base: none}}\n"}, []string{`imbricat.yaml:1:1: the recipe needs the key "images"`}},
		{map[string]string{DefaultName: fine, "a/imbricat.yaml": "imbricat: 1\nfacts: {v: '${facts.w}'}\nimages: {g: {base: none, steps: [{run: x, secrets: {s: /s}}]}}\n", "b/imbricat.yaml": one + "facts: {w: x}\nsecrets: {s: {env: S}}\n"}, []string{
			`a/imbricat.yaml:2:`, `a/imbricat.yaml:3:53: no secret is named "s"`}},
	} {
		_, err := graph(c.files)
		var list *Errors
		require.ErrorAs(t, err, &list, "%v", c.files)
		var got []string
		for line := range strings.Lines(err.Error()) {
			if strings.Contains(line, ".yaml") && !strings.Contains(line, " | ") {
				got = append(got, line)
			}
		}
		require.Len(t, got, len(c.want), "%s", err)
		for i, want := range c.want {
			require.True(t, strings.HasPrefix(got[i], want), "got  %s\nwant %s", got[i], want)
		}
		if rest := list.File.Without(list.Problems); rest != nil {
			require.Equal(t, list.File.Text(), rest.File.Text())
		}
	}
}
