package project

import (
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/BurntSushi/toml"
)

// cargoToml is what counts of a Cargo.toml.
type cargoToml struct {
	text    []byte
	Package *struct {
		Name      string `toml:"name"`
		Workspace string `toml:"workspace"`
		Build     any    `toml:"build"`
	} `toml:"package"`
	Workspace *struct {
		Members      []string       `toml:"members"`
		Exclude      []string       `toml:"exclude"`
		Dependencies map[string]any `toml:"dependencies"`
	} `toml:"workspace"`
	cargoDependencies
	Target map[string]cargoDependencies `toml:"target"`
	Patch  map[string]map[string]any    `toml:"patch"`
	Old    map[string]any               `toml:"replace"`
}

// cargoDependencies are those of a crate, or of some platforms.
type cargoDependencies struct {
	Normal map[string]any `toml:"dependencies"`
	Dev    map[string]any `toml:"dev-dependencies"`
	Build  map[string]any `toml:"build-dependencies"`
}

// cargo links the crates of a repository.
type cargo struct {
	*repository
	all    []*Package
	dirs   map[string]*Package
	parsed map[*Package]*cargoToml
}

// crates reads Cargo.toml files and their workspaces.
func crates(r *repository) []*Package {
	all, parsed := each(r, r.named("Cargo.toml"), Cargo, func(p *Package, text []byte) (*cargoToml, error) {
		j := &cargoToml{text: text}
		if err := toml.Unmarshal(text, j); err != nil {
			return nil, tomlMistake(p.Manifest, err)
		}
		if j.Package != nil {
			p.Name = j.Package.Name
		}
		return j, nil
	})
	c := &cargo{r, all, byDir(all), parsed}
	for _, p := range all {
		p.group = string(Cargo)
		// Cargo wants the roots of a crate to be there before it fetches anything.
		p.own = r.some(p.Dir, "Cargo.lock", ".cargo", "rust-toolchain", "rust-toolchain.toml", "src/lib.rs", "src/main.rs")
	}
	for _, p := range all {
		c.link(p)
	}
	for _, p := range all {
		c.join(p)
	}
	return all
}

// top returns the top of a crate's workspace; nil for none.
func (c *cargo) top(p *Package) *Package {
	if j := c.parsed[p]; j != nil && j.Package != nil && j.Package.Workspace != "" {
		return c.dirs[path.Join(p.Dir, j.Package.Workspace)]
	}
	for _, dir := range above(p.Dir) {
		top := c.dirs[dir]
		if top == nil || c.parsed[top] == nil || c.parsed[top].Workspace == nil {
			continue
		}
		for _, out := range c.parsed[top].Workspace.Exclude {
			if _, excluded := inside(path.Join(dir, out), p.Dir); excluded {
				return nil
			}
		}
		return top
	}
	return nil
}

// join has a crate read with its workspace. Members that are named by themselves must be there; those of patterns need not.
func (c *cargo) join(p *Package) {
	top := c.top(p)
	if top == nil || c.parsed[top] == nil || c.parsed[top].Workspace == nil {
		return
	}
	if top != p {
		p.own = append(p.own, c.some(top.Dir, "Cargo.lock", ".cargo", "rust-toolchain", "rust-toolchain.toml")...)
		p.needs = append(p.needs, need{at: place{file: top.Manifest}, name: top.String(), to: top, manifest: true})
		p.along = append(p.along, top)
	}
	for _, member := range c.parsed[top].Workspace.Members {
		if strings.ContainsAny(member, "*?[") {
			continue
		}
		dir := path.Join(top.Dir, member)
		if to := c.dirs[dir]; to != nil {
			p.along = append(p.along, to)
		} else {
			p.needs = append(p.needs, need{at: place{top.Manifest, lineOf(c.parsed[top].text, `"`+member+`"`)}, name: "the member " + dir})
		}
	}
}

// link finds what a crate needs.
func (c *cargo) link(p *Package) {
	j := c.parsed[p]
	if j == nil {
		return
	}
	for _, part := range append([]cargoDependencies{j.cargoDependencies}, slices.Collect(maps.Values(j.Target))...) {
		c.list(p, part.Normal, true)
		c.list(p, part.Build, true)
		c.list(p, part.Dev, false)
	}
	for _, list := range j.Patch {
		c.list(p, list, false)
	}
	c.list(p, j.Old, false)
}

// list adds the dependencies with a path, or with one that the workspace gives.
func (c *cargo) list(p *Package, list map[string]any, strict bool) {
	for _, name := range slices.Sorted(maps.Keys(list)) {
		said, _ := list[name].(map[string]any)
		by := p
		if shared, _ := said["workspace"].(bool); shared {
			if by = c.top(p); by == nil || c.parsed[by] == nil || c.parsed[by].Workspace == nil {
				p.needs = append(p.needs, need{at: place{p.Manifest, lineOf(c.parsed[p].text, name)}, name: name + " of a workspace that it is no member of"})
				continue
			}
			said, _ = c.parsed[by].Workspace.Dependencies[name].(map[string]any)
		}
		to, is := said["path"].(string)
		if dir := path.Join(by.Dir, to); is && c.dirs[dir] != p {
			p.needs = append(p.needs, need{at: place{p.Manifest, lineOf(c.parsed[p].text, name)}, name: "the crate in " + dir, to: c.dirs[dir], strict: strict})
		}
	}
}
