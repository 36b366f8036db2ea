package project

import (
	"encoding/json"
	"errors"
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// packageJSON is what counts of a package.json.
type packageJSON struct {
	text       []byte
	Name       string          `json:"name"`
	Workspaces workspaceGlobs  `json:"workspaces"`
	Normal     map[string]spec `json:"dependencies"`
	Dev        map[string]spec `json:"devDependencies"`
	Optional   map[string]spec `json:"optionalDependencies"`
	Peer       map[string]spec `json:"peerDependencies"`
	Resolved   map[string]spec `json:"resolutions"`
	Overrides  map[string]spec `json:"overrides"`
	PNPM       struct {
		Overrides map[string]spec `json:"overrides"`
	} `json:"pnpm"`
}

// spec is the version that is asked for; empty for what is no text.
type spec string

// UnmarshalJSON implements json.Unmarshaler.
func (s *spec) UnmarshalJSON(text []byte) error {
	var plain string
	if json.Unmarshal(text, &plain) == nil {
		*s = spec(plain)
	}
	return nil
}

// workspaceGlobs are patterns of folders, in either form.
type workspaceGlobs []string

// UnmarshalJSON implements json.Unmarshaler.
func (w *workspaceGlobs) UnmarshalJSON(text []byte) error {
	var of struct{ Packages []string }
	if json.Unmarshal(text, &of) == nil {
		*w = of.Packages
		return nil
	}
	return json.Unmarshal(text, (*[]string)(w))
}

// specs visits all that is asked for, by the names.
func (j *packageJSON) specs(visit func(name, version string)) {
	for _, list := range []map[string]spec{j.Normal, j.Dev, j.Optional, j.Peer} {
		for _, name := range slices.Sorted(maps.Keys(list)) {
			visit(name, string(list[name]))
		}
	}
}

// isPackage reports whether the file describes a package, and not only how files of a folder are to be read.
func (j *packageJSON) isPackage() bool {
	return j.Name != "" || len(j.Workspaces)+len(j.Normal)+len(j.Dev)+len(j.Optional)+len(j.Peer) > 0
}

// jsonMistake gives an error of a JSON text its line.
func jsonMistake(file string, text []byte, err error) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		return &lineError{place{file, offsetLine(text, syntax.Offset)}, err}
	case errors.As(err, &kind):
		return &lineError{place{file, offsetLine(text, kind.Offset)}, err}
	}
	return err
}

// npmFiles are what an install reads beside package.json, in the folder of a package or at the top of its workspace.
var npmFiles = []string{"package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", "pnpm-workspace.yaml", "bun.lock", "bun.lockb", ".npmrc", ".yarnrc", ".yarnrc.yml",
	".pnpmfile.cjs", ".pnp.cjs", ".yarn/releases", ".yarn/plugins", ".yarn/patches", "patches"}

// npmPackages reads package.json files and the workspaces of npm, yarn and pnpm.
func npmPackages(r *repository) []*Package {
	read, parsed := each(r, r.named("package.json"), NPM, func(p *Package, text []byte) (*packageJSON, error) {
		j := &packageJSON{text: text}
		if err := json.Unmarshal(text, j); err != nil {
			return nil, jsonMistake(p.Manifest, text, err)
		}
		p.Name = j.Name
		return j, nil
	})
	all := slices.DeleteFunc(read, func(p *Package) bool { return parsed[p] != nil && !parsed[p].isPackage() })
	n := &npm{r, all, byDir(all), parsed, map[*Package]*npmWorkspace{}}
	n.workspaces()
	for _, p := range all {
		n.link(p)
	}
	return all
}

type npm struct {
	*repository
	all    []*Package
	dirs   map[string]*Package
	parsed map[*Package]*packageJSON
	of     map[*Package]*npmWorkspace // the nearest
}

// npmWorkspace is a top with its members.
type npmWorkspace struct {
	top    *Package
	byName map[string]*Package
}

// workspaces finds which packages belong together.
func (n *npm) workspaces() {
	for _, top := range n.all {
		patterns, failure := n.patterns(top)
		if failure != nil && top.Failure == nil {
			top.Failure = failure
		}
		if len(patterns) == 0 {
			continue
		}
		w := &npmWorkspace{top, map[string]*Package{top.Name: top}}
		in := members(n.all, top.Dir, patterns)
		for _, p := range append(in, top) {
			if other := n.of[p]; other == nil || len(other.top.Dir) < len(top.Dir) {
				n.of[p] = w
			}
			p.group = string(NPM) + " " + top.Dir
			switch other := w.byName[p.Name]; {
			case other == nil:
				w.byName[p.Name] = p
			case other != p && p.Name != "" && p.Failure == nil:
				p.Failure = place{p.Manifest, n.line(p, `"name"`, p.Name)}.errorf("%s is named %q too", other.Manifest, p.Name)
				w.byName[p.Name] = p // who needs the name is told
			}
		}
		n.around(w, in)
	}
}

// around has members install with the top's files, and with each other's manifests where the lock lists them all.
func (n *npm) around(w *npmWorkspace, in []*Package) {
	listed := n.has(path.Join(w.top.Dir, ".yarnrc.yml"))
	for _, p := range in {
		p.own = append(p.own, w.top.Manifest)
		p.own = append(p.own, n.some(w.top.Dir, npmFiles...)...)
		if p != w.top {
			p.needs = append(p.needs, need{at: place{file: w.top.Manifest}, name: w.top.String(), to: w.top, manifest: true})
		}
		if listed {
			p.along = append(p.along, in...)
		}
	}
	if listed {
		w.top.along = in
	}
}

// patterns returns what a package says of its workspace.
func (n *npm) patterns(top *Package) ([]string, error) {
	var all []string
	if j := n.parsed[top]; j != nil {
		all = j.Workspaces
	}
	file := path.Join(top.Dir, "pnpm-workspace.yaml")
	if !n.has(file) {
		return all, nil
	}
	text, err := n.content(file)
	var said struct{ Packages []string }
	if err == nil {
		err = yaml.Unmarshal(text, &said)
	}
	if err != nil {
		return all, place{file: file}.malformed(err)
	}
	return append(all, said.Packages...), nil
}

func (n *npm) line(p *Package, words ...string) int {
	if j := n.parsed[p]; j != nil {
		return lineOf(j.text, words...)
	}
	return 0
}

// link finds what a package needs.
func (n *npm) link(p *Package) {
	p.own = append(p.own, n.some(p.Dir, npmFiles...)...)
	j := n.parsed[p]
	if j == nil {
		return
	}
	j.specs(func(name, version string) { n.need(p, name, version) })
	for _, list := range []map[string]spec{j.Resolved, j.Overrides, j.PNPM.Overrides} {
		for _, name := range slices.Sorted(maps.Keys(list)) {
			if _, is := localPath(string(list[name])); is {
				n.need(p, name, string(list[name]))
			}
		}
	}
}

// localPath returns the path that a version is.
func localPath(version string) (string, bool) {
	for _, scheme := range []string{"file:", "link:", "portal:"} {
		if rest, is := strings.CutPrefix(version, scheme); is {
			return strings.TrimPrefix(rest, "//"), true
		}
	}
	rest, is := strings.CutPrefix(version, "workspace:")
	if is && (strings.HasPrefix(rest, ".") || strings.Contains(rest, "/") && !strings.HasPrefix(rest, "@")) {
		return rest, true
	}
	return version, strings.HasPrefix(version, "./") || strings.HasPrefix(version, "../")
}

// need adds what a name with a version asks for, where the repository has it.
func (n *npm) need(p *Package, name, version string) {
	at := place{p.Manifest, n.line(p, `"`+name+`"`, ":")}
	if to, is := localPath(version); is {
		n.local(p, at, path.Join(p.Dir, to))
		return
	}
	rest, said := strings.CutPrefix(version, "workspace:")
	if said {
		if alias := strings.LastIndex(rest, "@"); alias > 0 {
			name = rest[:alias]
		}
	}
	w := n.of[p]
	if w == nil {
		if said {
			p.needs = append(p.needs, need{at: at, name: name + " of a workspace that it is no member of"})
		}
		return
	}
	to := w.byName[name]
	switch {
	case to != nil && to != p:
		p.needs = append(p.needs, need{at: at, name: name, to: to})
	case to == nil && said:
		p.needs = append(p.needs, need{at: at, name: name + " of the workspace of " + w.top.Manifest})
	case to == nil && !strings.Contains(version, ":"):
		for _, other := range n.all { // one that cannot be read may be the one
			if n.of[other] == w && n.parsed[other] == nil {
				p.needs = append(p.needs, need{at: at, name: name, to: other})
			}
		}
	}
}

// local adds a folder or an archive.
func (n *npm) local(p *Package, at place, to string) {
	switch {
	case n.has(to):
		p.own = append(p.own, to)
	default:
		p.needs = append(p.needs, need{at: at, name: "the package in " + to, to: n.dirs[to]})
	}
}
