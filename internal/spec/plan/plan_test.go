package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/recipe"
)

func TestModes(t *testing.T) {
	cases := []struct {
		rule         string
		file, script uint32 // from 0600 and 0700, as a strict umask leaves them
		folder       uint32 // from 0700
	}{
		{"0640", 0o640, 0o640, 0o640},
		{"0o640", 0o640, 0o640, 0o640},
		{"4755", 0o4755, 0o4755, 0o4755},
		{"u=rwX,go=rX", 0o644, 0o755, 0o755},
		{"u=rwX,go=", 0o600, 0o700, 0o700},
		{"a+w", 0o666, 0o777, 0o777},
		{"go-rx", 0o600, 0o700, 0o700},
		{"u+s,o=t", 0o4640, 0o4750, 0o4750},
		{"+t", 0o1644, 0o1755, 0o1755},
		{"=r", 0o444, 0o444, 0o444},
		{"keep", 0o600, 0o700, 0o700},
	}
	for _, c := range cases {
		rule, err := ParseMode(c.rule)
		require.NoError(t, err, c.rule)
		if c.rule == "u+s,o=t" {
			c.file, c.script, c.folder = 0o5640, 0o5750, 0o5750
		}
		require.Equal(t, c.file, rule.Apply(0o600, false), "%s on a file", c.rule)
		require.Equal(t, c.script, rule.Apply(0o700, false), "%s on a script", c.rule)
		require.Equal(t, c.folder, rule.Apply(0o700, true), "%s on a folder", c.rule)
	}
	none := ModeRule{}
	for mode, want := range map[uint32]uint32{0o600: 0o644, 0o664: 0o644, 0o700: 0o755, 0o444: 0o444, 0o4711: 0o755} {
		require.Equal(t, want, none.Apply(mode, false), "%o", mode)
	}
	keep, err := ParseMode("keep")
	require.NoError(t, err)
	require.EqualValues(t, 0o6751, keep.Apply(0o6751, false))
	for _, wrong := range []string{"", "99999", "888", "u", "u=q", "z=r", "u=r;g=w", "10000"} {
		_, err := ParseMode(wrong)
		require.Error(t, err, wrong)
	}
}

// TestTagsThatNameACommit: by themselves or by a fact, and only where they show it.
func TestTagsThatNameACommit(t *testing.T) {
	text := "imbricat: 1\nfacts: {version: '${git.tag ?? \"0\"}', release: '1.4.0'}\nimages:\n  gauge:\n    base: none\n    publish:\n      main:\n        to: h:1/g\n        tags: " +
		"['${facts.version}', '${git.short}', 'on-${git.commit}', '${facts.release}-by-hand', '${git.branch}', newest, '${git.tag == nil ? \"none\" : \"some\"}']\n"
	r, err := recipe.Parse("r.yaml", []byte(text))
	require.NoError(t, err)
	p, err := Expand(r, Options{Here: platform.Here(), Scope: func(string, platform.Platform) (*recipe.Scope, error) {
		return &recipe.Scope{Git: map[string]any{"tag": "v1.4.0", "commit": "0123456789abcdef", "short": "0123456", "branch": "trunk"},
			Facts: map[string]any{"version": "v1.4.0", "release": "1.4.0"}}, nil
	}})
	require.NoError(t, err)
	require.Equal(t, []string{"v1.4.0", "0123456", "on-0123456789abcdef"}, p.Images[0].Destinations[0].Named)
	require.Len(t, p.Images[0].Destinations[0].Tags, 7)
}

func expand(t *testing.T, text string, o Options) (*Plan, error) {
	r, err := recipe.Parse("r.yaml", []byte(text))
	require.NoError(t, err)
	o.Here = platform.Platform{OS: "linux", Architecture: "riscv64"}
	o.Scope = func(_ string, p platform.Platform) (*recipe.Scope, error) {
		return &recipe.Scope{Platform: map[string]any{"os": p.OS, "architecture": p.Architecture, "variant": p.Variant},
			Facts: map[string]any{"version": "1.4.0"}, Git: map[string]any{}, Env: map[string]any{}}, nil
	}
	return Expand(r, o)
}

const whole = `imbricat: 1
facts: {version: "1"}
stages:
  tables: {base: none, steps: [{write: {to: /t, text: "${platform.architecture}"}}]}
  unused: {base: none, steps: [{write: {to: '${git.short}', text: x}}]}
images:
  gauge:
    base: {stage: tables}
    platforms: [linux/amd64, linux/arm64]
    steps:
      - {only: linux/arm64, write: {to: /only, text: x}}
      - copy: {from: ./a/../b/, to: /srv//x/, owner: 7}
    settings: {ports: [80, 53/udp], volumes: [/var/lib/tide/], working-dir: /srv/}
    publish:
      main: {to: h:1/g, tags: ["${facts.version}", {tag: a, when: "facts.version == '2'"}, "1.4.0"]}
  almanac: {base: none}
`

func TestExpand(t *testing.T) {
	p, err := expand(t, whole, Options{})
	require.NoError(t, err)
	var order []string
	for _, u := range p.Units {
		order = append(order, u.ID.String())
	}
	require.Equal(t, "tables linux/amd64, gauge linux/amd64, tables linux/arm64, gauge linux/arm64, almanac linux/riscv64", strings.Join(order, ", "),
		"each after what it needs; a stage that nothing needs is not planned")
	gauge := p.Units[1]
	require.Len(t, gauge.Steps, 1)
	require.Len(t, p.Units[3].Steps, 2)
	c := gauge.Steps[0].Do.(Copy)
	require.Equal(t, "b", c.Taken[0].From)
	require.Equal(t, Target{"/srv/x", true}, c.To)
	require.Equal(t, Owner{UID: 7, GID: 7}, c.Owner)
	require.Equal(t, "copy b to /srv/x", gauge.Steps[0].Label)
	require.Same(t, p.Units[0], gauge.Base.Unit)
	require.Equal(t, "1.4.0", gauge.Version)
	require.Equal(t, []string{"80/tcp", "53/udp"}, gauge.Values.Settings.Ports)
	require.Equal(t, []string{"/var/lib/tide"}, gauge.Values.Settings.Volumes)
	require.Equal(t, "/srv", gauge.Values.Settings.WorkingDir)
	require.Equal(t, []string{"1.4.0"}, p.Images[0].Destinations[0].Tags)
	require.Equal(t, []Held{{"a", "facts.version == '2'", nil}}, p.Images[0].Destinations[0].Held)

	arm := platform.Platform{OS: "linux", Architecture: "arm64"}
	p, err = expand(t, whole, Options{Images: []string{"gauge"}, Platforms: []platform.Platform{arm}})
	require.NoError(t, err)
	require.Len(t, p.Units, 2)
	_, err = expand(t, whole, Options{Platforms: []platform.Platform{arm}})
	require.ErrorIs(t, err, ErrChoice)
}

// TestTags: what becomes of tags' values, conditions and prefixes.
func TestTags(t *testing.T) {
	text := `imbricat: 1
facts: {version: 1.4.0}
images:
  g:
    base: none
    publish:
      a: {to: h:1/g, tags: ['${"tides/spring"}', '${"tides/spring"}-x', {tag: "${facts.version}", prefixes: true}, "1", {tag: no, when: false}, {tag: "${git.tag}", when: git.tag != nil}]}
`
	p, err := expand(t, text, Options{})
	require.NoError(t, err)
	d := p.Images[0].Destinations[0]
	require.Equal(t, []string{"tides-spring", "tides-spring-x", "1.4.0", "1", "1.4"}, d.Tags, "a tag that is written by itself is not a prefix")
	require.Equal(t, []string{"1.4"}, d.Prefixes)
	require.Equal(t, []Held{{"no", "false", nil}, {"${git.tag}", "git.tag != nil", []string{"tag"}}}, d.Held)
	_, err = expand(t, strings.Replace(text, "]}\n", "], invalid: refuse}\n", 1), Options{})
	require.ErrorContains(t, err, `"tides/spring" is not a tag`)
}

func TestExpandProblems(t *testing.T) {
	for step, want := range map[string]string{
		"write: {to: '${facts.version}/x', text: x}":           `a path in the image is absolute: write "/1.4.0/x"`,
		"write: {to: /a/../b, text: x}":                        `a path in the image cannot hold ".."`,
		`write: {to: '/a${"/"}', text: x}`:                     `write makes a file: "/a/" must not end with a slash`,
		`copy: {from: '${"/etc"}', to: /a}`:                    `from is relative to the project folder: "/etc" is absolute`,
		"copy: {from: a/../../b, to: /a}":                      `from must stay inside the project folder`,
		`copy: {from: '${""}', to: /a}`:                        "from is empty; write . for the whole folder",
		"copy: {from: a, to: /a, mode: rwx}":                   `"rwx" is not a mode`,
		"copy: {from: a, to: /a, owner: 'a:b:c'}":              `"a:b:c" is not an owner`,
		"copy: {from: a, to: /a, owner: 99999999999}":          `owner "99999999999" is beyond what systems take`,
		`link: {at: /a, target: '${""}'}`:                      "target is empty",
		"take: {from: h:1/g, paths: /a, to: /b}":               `"h:1/g" needs a tag or a digest: none is assumed`,
		"take: {from: '${facts.version}/g', paths: /, to: /b}": `"1.4.0/g" needs a tag`,
		`take: {from: '${"slim"}', paths: /, to: /b}`:          `the expression gives the name "slim" alone`,
	} {
		_, err := expand(t, "imbricat: 1\nfacts: {version: \"1\"}\nimages: {g: {base: none, steps: [{"+step+"}]}}", Options{})
		var list *recipe.Errors
		require.True(t, errors.As(err, &list), "%s: %v", step, err)
		require.Contains(t, err.Error(), want)
		require.Contains(t, err.Error(), "r.yaml:3:")
	}
	for settings, want := range map[string]string{
		"settings: {ports: [http]}":                               `"http" is not a port`,
		"settings: {stop-signal: SIGTREM}":                        `"SIGTREM" is not a signal; did you mean "SIGTERM"?`,
		"settings: {stop-signal: SIGRTMIN+x}":                     `"SIGRTMIN+x" is not a signal`,
		"settings: {stop-signal: '65'}":                           `"65" is not a signal; write SIGTERM, SIGRTMIN+3 or a number`,
		"settings: {stop-signal: TERM+3}":                         `"TERM+3" is not a signal`,
		"settings: {ports: [70000]}":                              `"70000" is not a port`,
		"settings: {working-dir: '${git.short}'}":                 "a path in the image is absolute",
		"publish: {m: {to: h:1/g, tags: ['${facts.version}/x']}}": `"1.4.0/x" is not a tag`,
		"platforms: [linux/amd64, linux/arm64], publish: {m: {to: h:1/g, tags: ['${platform.architecture}']}}": `the destination "m" differs between`,
	} {
		_, err := expand(t, "imbricat: 1\nfacts: {version: \"1\"}\nimages: {g: {base: none, "+settings+"}}", Options{})
		require.ErrorContains(t, err, want)
	}
	for _, signal := range []string{"SIGTERM", "QUIT", "9", "SIGRTMIN+3", "SIGRTMAX-2", "SIGRTMIN"} {
		_, err := expand(t, "imbricat: 1\nimages: {g: {base: none, settings: {stop-signal: \""+signal+"\"}}}", Options{})
		require.NoError(t, err, signal)
	}
	// A platform that the image below does not have.
	_, err := expand(t, "imbricat: 1\nimages: {a: {base: none, platforms: [linux/amd64]}, b: {base: {image: a}, platforms: [linux/arm64]}}", Options{})
	require.ErrorContains(t, err, `the image "a" is needed for linux/arm64, and it has only linux/amd64`)
}

// TestRun: what a command is given is worked out for the wanted platform, and where it runs for the machine's.
func TestRun(t *testing.T) {
	p, err := expand(t, `imbricat: 1
secrets: {token: {file: "keys/${platform.architecture}"}}
stages:
  tools: {base: none, steps: [{run: 'true'}]}
  made:
    base: {stage: tools}
    machine: here
    defaults: {working-dir: /src, user: "7", env: {A: a, B: b}}
    steps:
      - run: [echo one, 'echo ${HOME}']
        env: {B: "${platform.architecture}"}
        kept: [{name: z, at: /z, hand-out: at-once}, {name: a, at: /a/, per-platform: true}]
        secrets: [{name: token, at: /run/token}]
        network: false
        within: 90s
      - run: {command: [make, "a b"]}
        working-dir: /out/
        user: keeper:tides
images:
  gauge: {base: none, platforms: [linux/arm64], steps: [{take: {from: made, paths: /x, to: /x}}]}
`, Options{})
	require.NoError(t, err)
	var tools, made *Unit
	for _, u := range p.Units {
		switch u.ID.Name {
		case "tools":
			tools = u
		case "made":
			made = u
		}
	}
	require.Equal(t, "riscv64", made.Machine.Architecture)
	require.Equal(t, "arm64", made.ID.Platform.Architecture)
	require.Equal(t, "riscv64", tools.ID.Platform.Architecture, "what a stage for this machine starts from is this machine's too")
	first, second := made.Steps[0].Do.(Run), made.Steps[1].Do.(Run)
	require.Equal(t, []string{"echo one", "echo ${HOME}"}, first.Lines, "the shell's own")
	require.Equal(t, map[string]string{"A": "a", "B": "arm64"}, first.Env)
	require.Equal(t, []Keep{{Name: "a@linux-arm64", At: "/a"}, {Name: "z", At: "/z", AtOnce: true}}, first.Keep, "in the order of names")
	require.Equal(t, "/src", first.WorkingDir)
	require.Equal(t, 7, first.User.UID)
	require.Equal(t, 90*time.Second, first.Within)
	require.False(t, first.Network)
	require.Equal(t, "keys/arm64", p.Secrets["token"].File)
	require.Equal(t, "run echo one; echo ${HOME}", made.Steps[0].Label)
	require.Equal(t, []string{"make", "a b"}, second.Args)
	require.Equal(t, "/out", second.WorkingDir)
	require.Equal(t, "keeper", second.User.User)
	require.Equal(t, time.Hour, second.Within)
	require.True(t, second.Network)

	_, err = expand(t, `imbricat: 1
images: {gauge: {base: none, steps: [{run: a, kept: [{name: k, at: /a}, {name: l, at: /a/b}, {name: k, at: "/${facts.version}"}]}]}}
facts: {version: "1.4.0"}
`, Options{})
	require.ErrorContains(t, err, `the kept directory "k" stands twice`)
	require.ErrorContains(t, err, "/a and /a/b lie in each other")
}

// TestConditions: steps, checks and entries of lists with a condition are there where it holds, for each platform by itself.
func TestConditions(t *testing.T) {
	p, err := expand(t, `imbricat: 1
facts: {version: "1"}
stages: {tools: {base: none}}
images:
  gauge:
    base: none
    platforms: [linux/amd64, linux/arm64]
    steps:
      - {when: platform.architecture == "arm64", write: {to: /arm, text: x}}
      - {when: facts.version == "2", take: {from: tools, paths: /t, to: /t}}
      - copy: {from: [a, {value: b, when: platform.architecture == "arm64"}], to: /c}
      - remove: [{value: /r, when: false}]
      - copy: {from: {value: d, when: "true"}, to: /d}
    settings:
      entrypoint: [/bin/gauge, {value: --arm, when: platform.architecture == "arm64"}]
      ports: [80, {value: 81, when: facts.version == "2"}]
      volumes: {value: /v, when: git.tag != ""}
    checks: [{user: {not: root}, when: platform.architecture == "arm64"}, {try: {command: [a, {value: b, when: false}]}}]
`, Options{})
	require.NoError(t, err)
	require.Len(t, p.Units, 2, "what nobody takes is not needed")
	for _, u := range p.Units {
		var labels []string
		for _, s := range u.Steps {
			labels = append(labels, s.Label)
		}
		if u.ID.Platform.Architecture == "arm64" {
			require.Equal(t, []string{"write /arm", "copy a b to /c", "copy d to /d"}, labels)
			require.Equal(t, []string{"/bin/gauge", "--arm"}, u.Values.Settings.Entrypoint)
			require.Len(t, u.Checks, 2)
			continue
		}
		require.Equal(t, []string{"copy a to /c", "copy d to /d"}, labels)
		require.True(t, u.Steps[0].Do.(Copy).To.Folder, "one of several lies in the folder")
		require.False(t, u.Steps[1].Do.(Copy).To.Folder)
		require.Equal(t, []string{"/bin/gauge"}, u.Values.Settings.Entrypoint)
		require.Equal(t, []string{"80/tcp"}, u.Values.Settings.Ports)
		require.Empty(t, u.Values.Settings.Volumes)
		require.Len(t, u.Checks, 1)
		require.Equal(t, []string{"a"}, u.Checks[0].Command)
	}
}

// TestShared: what is said once holds for all, and what differs by platform or by unit comes behind it.
func TestShared(t *testing.T) {
	p, err := expand(t, `imbricat: 1
facts: {version: "1"}
shared:
  tools: &tools [{make: {folder: /a}}, {run: make}]
  tags: &tags [one, two]
defaults: {owner: 1, env: {A: all, B: all}, working-dir: /src}
stages:
  build:
    base: none
    steps: [*tools, [{run: more, working-dir: /own}]]
    for: {linux/arm64: {base: other, steps: {make: {folder: /arm, owner: 3}}}}
  other: {base: none, defaults: {env: {B: own}, owner: 2}, steps: [*tools]}
images:
  gauge:
    base: build
    platforms: [linux/amd64, linux/arm64]
    settings: {author: Tideline}
    for: {linux/arm64: {checks: {user: {not: root}}, settings: {author: Harbour}}}
    checks: [[{size: {packed: 1MB}}]]
    steps: [{write: {to: /w, text: w}, annotations: {a: "${platform.architecture}"}}]
    publish: {main: {to: h:1/g, tags: [*tags, three]}}
`, Options{})
	require.NoError(t, err)
	describe := map[string]string{}
	for _, u := range p.Units {
		text := u.Values.Settings.Author
		for _, s := range u.Steps {
			switch do := s.Do.(type) {
			case Make:
				text += fmt.Sprintf(" %s %d;", do.Folders[0].Path, do.Owner.UID)
			case Run:
				text += fmt.Sprintf(" %s %s%s %s;", do.Lines[0], do.Env["A"], do.Env["B"], do.WorkingDir)
			case Write:
				text += fmt.Sprintf(" %s %d;", s.Annotations["a"], do.Owner.UID)
			}
		}
		if describe[u.ID.String()] = fmt.Sprintf("%s %d", text, len(u.Checks)); u.Base.Unit != nil {
			describe[u.ID.String()] += " on " + u.Base.Unit.ID.Name
		}
	}
	require.Equal(t, map[string]string{
		"build linux/amd64": " /a 1; make allall /src; more allall /own; 0",
		"build linux/arm64": " /a 1; make allall /src; more allall /own; /arm 3; 0 on other",
		"other linux/arm64": " /a 2; make allown /src; 0",
		"gauge linux/amd64": "Tideline amd64 1; 1 on build",
		"gauge linux/arm64": "Harbour arm64 1; 2 on build",
	}, describe)
	require.Equal(t, []string{"one", "two", "three"}, p.Images[0].Destinations[0].Tags)
}

// TestNeeds: what values are made of is needed like what files are taken of, so that plans, dates and graphs know of it; each once, and before.
func TestNeeds(t *testing.T) {
	p, err := expand(t, `imbricat: 1
facts: {version: "1"}
stages:
  a: {base: none}
  b: {base: none}
  c: {base: none}
  d: {base: a}
images:
  gauge:
    base: d
    steps:
      - {write: {to: /w, text: '${result("b", "/x")}${result("b", "/y")}'}}
      - {take: {from: b, paths: /z, to: /z}}
    settings: {labels: {v: '${result("c", "/v")}', w: "${base.user ?? \"none\"}"}}
`, Options{})
	require.NoError(t, err)
	var before []string
	for _, u := range p.Units {
		var needs []string
		for _, n := range u.Needs() {
			require.Contains(t, before, n.ID.Name)
			needs = append(needs, n.ID.Name)
		}
		if u.ID.Name == "gauge" {
			require.Equal(t, []string{"d", "b", "c"}, needs)
		}
		before = append(before, u.ID.Name)
	}
	require.Contains(t, before, "gauge")
}

// TestDoubts: what is allowed and probably not meant is told, each once, and what is meant is not.
func TestDoubts(t *testing.T) {
	p, err := expand(t, `imbricat: 1
facts: {version: "1"}
stages:
  tools: {base: none, steps: [{run: [make, install]}, {run: [make, check], silence: words}]}
  tests: {base: tools, steps: [{run: [make, test], silence: words}, {run: {lines: [make, test]}}, {run: [make, make test]}, {run: [make]}]}
  below: {base: none}
images:
  gauge:
    base: none
    platforms: [linux/amd64, linux/arm64]
    steps: [{when: false, take: {from: below, paths: /a, to: /a}}]
    settings:
      env: {PATH: "/app:${env.PATH ?? ''}", A: "$HOME/a", B: "$$HOME $home 5$", C: "${env.STATION ?? ''}"}
      working-dir: /srv/$STATION
      command: [gauge, $LEVEL]
  shell: {base: tools, settings: {entrypoint: [sh, -c], command: ["echo $LEVEL"], labels: {a: "${env.HOME ?? ''}", b: $B}}}
`, Options{})
	require.NoError(t, err)
	var got []string
	for _, d := range p.Doubts {
		got = append(got, fmt.Sprintf("%d %s %s", d.Pos.Line, d.Code, d.Silence))
	}
	slices.Sort(got)
	require.Equal(t, []string{"13 builder-env []", "13 unexpanded []", "14 unexpanded []", "15 unexpanded []", "16 builder-env []", "4 words []", "4 words [words]", "5 unused-stage []"}, got)
}

// TestEach: an entry with lists is an image for each combination, in the order of the lists, with its values in everything that it has.
func TestEach(t *testing.T) {
	r, err := recipe.Parse("imbricat.yaml", []byte(`
imbricat: 1
stages: {tables: {base: none, steps: [{write: {to: /t, text: t}}]}}
images:
  gauge:
    each: {of: {station: [North Pier, south], edition: ["1.4", "2.0"]}, leave-out: [{station: south, edition: "1.4"}], also: {station: east, edition: "0.9"}}
    base: "registry.tideline.example/base/slim:${each.edition}"
    platforms: [linux/amd64, linux/arm64]
    steps:
      - take: {from: tables, paths: /t, to: /t}
      - {write: {to: /station, text: "${each.station}"}, when: each.edition != "0.9"}
    settings: {labels: {a: "${each.station}"}}
    publish: {main: {to: "registry.tideline.example/tides/${lower(tag(each.station))}", tags: ["${each.edition}-${platform.os}"]}}
  almanac: {base: gauge-east-0.9, platforms: [linux/amd64]}
`))
	require.NoError(t, err)
	expand := func(names ...string) (*Plan, error) {
		return Expand(r, Options{Images: names, Stages: true, Here: platform.Here(), Scope: func(_ string, p platform.Platform) (*recipe.Scope, error) {
			return &recipe.Scope{Platform: map[string]any{"os": p.OS, "architecture": p.Architecture}}, nil
		}})
	}
	tell := func(p *Plan) (all []string) {
		for _, i := range p.Images {
			u := i.Units[len(i.Units)-1]
			text := fmt.Sprintf("%s %d %s %v", i.Name, len(u.Steps), u.Base.Reference, u.Values.Settings.Labels)
			for _, d := range i.Destinations {
				text += fmt.Sprintf(" %s %v", d.Repository, d.Tags)
			}
			all = append(all, text)
		}
		return all
	}
	p, err := expand()
	require.NoError(t, err)
	require.Equal(t, []string{
		"gauge-north-pier-1.4 2 registry.tideline.example/base/slim:1.4 map[a:North Pier] registry.tideline.example/tides/north-pier [1.4-linux]",
		"gauge-north-pier-2.0 2 registry.tideline.example/base/slim:2.0 map[a:North Pier] registry.tideline.example/tides/north-pier [2.0-linux]",
		"gauge-south-2.0 2 registry.tideline.example/base/slim:2.0 map[a:south] registry.tideline.example/tides/south [2.0-linux]",
		"gauge-east-0.9 1 registry.tideline.example/base/slim:0.9 map[a:east] registry.tideline.example/tides/east [0.9-linux]",
		"almanac 0  map[]",
	}, tell(p))
	for wanted, want := range map[string]int{"gauge": 4, "gauge-*-2.0": 2, "gauge-south-2.0": 1, "*": 5, "tables": 0, "ta*": 0} {
		p, err := expand(wanted)
		require.NoError(t, err, wanted)
		require.Len(t, p.Images, want, wanted)
	}
	for _, wanted := range []string{"gaug", "gauge-*-3", "[", ""} {
		_, err := expand(wanted)
		require.ErrorIs(t, err, ErrChoice, wanted)
	}
}
