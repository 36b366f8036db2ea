package project

import (
	"errors"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/BurntSushi/toml"
)

// pyproject is what counts of a pyproject.toml.
type pyproject struct {
	text    []byte
	Project struct {
		Name         string              `toml:"name"`
		Readme       any                 `toml:"readme"`
		Dependencies []string            `toml:"dependencies"`
		Optional     map[string][]string `toml:"optional-dependencies"`
	} `toml:"project"`
	Groups map[string][]any `toml:"dependency-groups"`
	Tool   struct {
		UV struct {
			Sources   map[string]any `toml:"sources"`
			Workspace *struct {
				Members []string `toml:"members"`
				Exclude []string `toml:"exclude"`
			} `toml:"workspace"`
		} `toml:"uv"`
		Poetry struct {
			Name         string         `toml:"name"`
			Readme       any            `toml:"readme"`
			Dependencies map[string]any `toml:"dependencies"`
			Dev          map[string]any `toml:"dev-dependencies"`
			Groups       map[string]struct {
				Dependencies map[string]any `toml:"dependencies"`
			} `toml:"group"`
		} `toml:"poetry"`
		PDM struct {
			Dev map[string][]string `toml:"dev-dependencies"`
		} `toml:"pdm"`
	} `toml:"tool"`
}

// tomlMistake gives an error of a TOML text its line.
func tomlMistake(file string, err error) error {
	var parse toml.ParseError
	if errors.As(err, &parse) {
		return &lineError{place{file, parse.Position.Line}, errors.New(parse.Message)}
	}
	return err
}

// pythonFiles are what an install reads beside the manifest.
var pythonFiles = []string{"requirements*.txt", "constraints*.txt", "poetry.lock", "poetry.toml", "uv.lock", "uv.toml", "pdm.lock", "Pipfile", "Pipfile.lock", "setup.py", "setup.cfg", ".python-version"}

// python links the packages of a repository.
type python struct {
	*repository
	dirs   map[string]*Package
	parsed map[*Package]*pyproject
	of     map[*Package]*Package // the top of the workspace
	byName map[*Package]map[string]*Package
}

// pythonPackages reads pyproject.toml files, and requirements and setup files where a folder has no other.
func pythonPackages(r *repository) []*Package {
	manifests := r.named("pyproject.toml")
	has := map[string]bool{}
	for _, m := range manifests {
		has[path.Dir(m)] = true
	}
	for _, name := range []string{"setup.py", "setup.cfg", "requirements.txt"} {
		for _, m := range r.named(name) {
			if !has[path.Dir(m)] {
				has[path.Dir(m)] = true
				manifests = append(manifests, m)
			}
		}
	}
	all, parsed := each(r, manifests, Python, func(p *Package, text []byte) (*pyproject, error) {
		j := &pyproject{text: text}
		if path.Ext(p.Manifest) == ".toml" {
			if err := toml.Unmarshal(text, j); err != nil {
				return nil, tomlMistake(p.Manifest, err)
			}
		}
		if p.Name = j.Project.Name; p.Name == "" {
			p.Name = j.Tool.Poetry.Name
		}
		return j, nil
	})
	y := &python{r, byDir(all), parsed, map[*Package]*Package{}, map[*Package]map[string]*Package{}}
	for _, top := range all {
		y.workspace(top, all)
	}
	for _, p := range all {
		y.link(p)
	}
	return all
}

var separators = regexp.MustCompile(`[-_.]+`)

// normal is the name of a package as all its spellings have it.
func normal(name string) string { return separators.ReplaceAllString(strings.ToLower(name), "-") }

// workspace finds the members of a workspace: the lock of the top lists them all.
func (y *python) workspace(top *Package, all []*Package) {
	if y.parsed[top] == nil || y.parsed[top].Tool.UV.Workspace == nil {
		return
	}
	said := y.parsed[top].Tool.UV.Workspace
	patterns := slices.Clone(said.Members)
	for _, out := range said.Exclude {
		patterns = append(patterns, "!"+out)
	}
	in := append(members(all, top.Dir, patterns), top)
	y.byName[top] = map[string]*Package{}
	for _, p := range in {
		y.of[p], p.group, p.along = top, string(Python)+" "+top.Dir, in
		p.own = append(p.own, y.some(top.Dir, "uv.lock", "uv.toml", ".python-version")...)
		name := normal(p.Name)
		if other := y.byName[top][name]; other != nil && p.Name != "" && p.Failure == nil {
			p.Failure = place{p.Manifest, lineOf(y.parsed[p].text, "name", p.Name)}.errorf("%s is named %q too", other.Manifest, p.Name)
		}
		y.byName[top][name] = p
	}
}

var (
	fileAfter   = regexp.MustCompile(`@\s*file:(?://)?(?:\$\{PROJECT_ROOT\}/)?(\S+)`)
	editable    = regexp.MustCompile(`^\s*(?:-e|--editable)[\s=]+(?:file:(?://)?)?(?:\$\{PROJECT_ROOT\}/)?([^\s;#]+)`)
	included    = regexp.MustCompile(`^\s*(?:-r|-c|--requirement|--constraint)[\s=]*([^\s;#]+)`)
	plainPath   = regexp.MustCompile(`^\s*(\.{1,2}(?:/[^\s;#\[]*)?)(?:\[[^\]]*\])?\s*(?:[;#].*)?$`)
	distributed = []string{".whl", ".gz", ".zip", ".bz2"}
)

// link finds what a package needs.
func (y *python) link(p *Package) {
	p.own = append(p.own, y.some(p.Dir, pythonFiles...)...)
	j := y.parsed[p]
	if j == nil {
		return
	}
	y.readme(p, j.Project.Readme)
	y.readme(p, j.Tool.Poetry.Readme)
	for _, one := range j.requirements() {
		y.requirement(p, place{p.Manifest, lineOf(j.text, one)}, p.Dir, one)
	}
	y.table(p, j.Tool.UV.Sources)
	if top := y.of[p]; top != nil && top != p && y.parsed[top] != nil {
		shared := y.parsed[top].Tool.UV.Sources // they hold for members too
		for _, name := range slices.Sorted(maps.Keys(shared)) {
			if _, own := j.Tool.UV.Sources[name]; !own && j.asks(name) {
				y.source(p, top, name, shared[name])
			}
		}
	}
	for _, list := range j.tables() {
		y.table(p, list)
	}
	seen := map[string]bool{}
	for _, file := range y.some(p.Dir, "requirements*.txt", "constraints*.txt") {
		y.file(p, file, seen)
	}
}

// readme adds the file that a build reads the description from.
func (y *python) readme(p *Package, said any) {
	name, _ := said.(string)
	if of, is := said.(map[string]any); is {
		name, _ = of["file"].(string)
	}
	if name != "" {
		p.own = append(p.own, y.some(p.Dir, name)...)
	}
}

// requirements lists all requirements that are written as texts.
func (j *pyproject) requirements() (all []string) {
	all = append(all, j.Project.Dependencies...)
	for _, list := range j.Project.Optional {
		all = append(all, list...)
	}
	for _, list := range j.Groups {
		for _, one := range list {
			if text, is := one.(string); is {
				all = append(all, text)
			}
		}
	}
	for _, list := range j.Tool.PDM.Dev {
		all = append(all, list...)
	}
	slices.Sort(all)
	return all
}

var requiredName = regexp.MustCompile(`^\s*([A-Za-z0-9][A-Za-z0-9._-]*)`)

// asks reports whether a name is among the requirements.
func (j *pyproject) asks(name string) bool {
	return slices.ContainsFunc(j.requirements(), func(one string) bool {
		found := requiredName.FindStringSubmatch(one)
		return found != nil && normal(found[1]) == normal(name)
	})
}

// tables lists all dependencies that are written as tables.
func (j *pyproject) tables() []map[string]any {
	all := []map[string]any{j.Tool.Poetry.Dependencies, j.Tool.Poetry.Dev}
	for _, group := range j.Tool.Poetry.Groups {
		all = append(all, group.Dependencies)
	}
	return all
}

// table adds what a table of dependencies tells.
func (y *python) table(p *Package, list map[string]any) {
	for _, name := range slices.Sorted(maps.Keys(list)) {
		y.source(p, p, name, list[name])
	}
}

// source adds what a table, or a list of them, tells of where a dependency is. Paths are relative to the package that says so.
func (y *python) source(p, by *Package, name string, said any) {
	switch said := said.(type) {
	case []any:
		for _, one := range said {
			y.source(p, by, name, one)
		}
	case []map[string]any:
		for _, one := range said {
			y.source(p, by, name, one)
		}
	case map[string]any:
		at := place{by.Manifest, lineOf(y.parsed[by].text, name)}
		if to, is := said["path"].(string); is {
			y.local(p, at, path.Join(by.Dir, to))
		}
		if in, _ := said["workspace"].(bool); in {
			to := y.byName[y.of[by]][normal(name)]
			if to != p {
				p.needs = append(p.needs, need{at: at, name: name + " of its workspace", to: to})
			}
		}
	}
}

// requirement adds what a line of requirements names in the repository.
func (y *python) requirement(p *Package, at place, dir, line string) {
	for _, form := range []*regexp.Regexp{editable, fileAfter, plainPath} {
		if found := form.FindStringSubmatch(line); found != nil {
			to, _, _ := strings.Cut(found[1], "[")
			if !path.IsAbs(to) && !strings.Contains(to, "://") && !strings.Contains(to, "git+") {
				y.local(p, at, path.Join(dir, to))
			}
			return
		}
	}
}

// file reads a file of requirements, and those that it includes.
func (y *python) file(p *Package, name string, seen map[string]bool) {
	if seen[name] {
		return
	}
	seen[name] = true
	text, err := y.content(name)
	if err != nil {
		p.Failure = place{file: name}.malformed(err)
		return
	}
	p.own = append(p.own, name)
	number := 0
	for line := range strings.Lines(string(text)) {
		number++
		at := place{name, number}
		if found := included.FindStringSubmatch(line); found != nil {
			if to := path.Join(path.Dir(name), found[1]); y.has(to) {
				y.file(p, to, seen)
			} else if !strings.Contains(found[1], "://") {
				p.needs = append(p.needs, need{at: at, name: to})
			}
			continue
		}
		y.requirement(p, at, path.Dir(name), strings.TrimRight(line, "\r\n"))
	}
}

// local adds a folder or an archive.
func (y *python) local(p *Package, at place, to string) {
	switch {
	case y.has(to) && slices.Contains(distributed, path.Ext(to)):
		p.own = append(p.own, to)
	case y.dirs[to] != p:
		p.needs = append(p.needs, need{at: at, name: "the package in " + to, to: y.dirs[to]})
	}
}
