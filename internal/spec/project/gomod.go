package project

import (
	"errors"
	"path"
	"slices"

	"golang.org/x/mod/modfile"
)

// goModules reads go.mod files and the workspaces that use them. What replaces lead to counts as Go has it: those of the module that is
// built, and of the workspace, and not those of what it needs.
func goModules(r *repository) []*Package {
	as := func(_, version string) (string, error) { return version, nil }
	all, parsed := each(r, r.named("go.mod"), Go, func(p *Package, text []byte) (*modfile.File, error) {
		f, err := modfile.Parse(p.Manifest, text, as)
		if err != nil {
			return nil, goMistake(p.Manifest, err)
		}
		if f.Module != nil {
			p.Name = f.Module.Mod.Path
		}
		return f, nil
	})
	dirs := byDir(all)
	for _, p := range all {
		p.group = string(Go)
		p.own = r.some(p.Dir, "go.sum", "vendor/modules.txt")
		if f := parsed[p]; f != nil {
			p.needs = replaced(p, f.Replace, func(name string) bool {
				return slices.ContainsFunc(f.Require, func(one *modfile.Require) bool { return one.Mod.Path == name })
			}, dirs)
		}
	}
	for _, file := range r.named("go.work") {
		goWorkspace(r, file, dirs, parsed)
	}
	return all
}

// goMistake gives an error of a go.mod its line.
func goMistake(file string, err error) error {
	var list modfile.ErrorList
	if errors.As(err, &list) && len(list) > 0 {
		one := list[0]
		return &lineError{place{file, one.Pos.Line}, one.Err}
	}
	return err
}

// replaced are the modules of the repository that replaces lead to. One that nothing requires need not be there.
func replaced(p *Package, all []*modfile.Replace, required func(string) bool, dirs map[string]*Package) (needs []need) {
	for _, one := range all {
		if !modfile.IsDirectoryPath(one.New.Path) {
			continue
		}
		at := place{path.Join(p.Dir, path.Base(p.Manifest)), one.Syntax.Start.Line}
		to := dirs[path.Join(p.Dir, one.New.Path)]
		if to != nil || required(one.Old.Path) {
			needs = append(needs, need{at: at, name: one.Old.Path + " in " + path.Join(p.Dir, one.New.Path), to: to, first: true})
		}
	}
	return needs
}

// goWorkspace adds what a go.work makes of the modules that it uses: each is built with all others beside it.
func goWorkspace(r *repository, file string, dirs map[string]*Package, parsed map[*Package]*modfile.File) {
	dir := path.Dir(file)
	text, err := r.content(file)
	var work *modfile.WorkFile
	if err == nil {
		if work, err = modfile.ParseWork(file, text, nil); err != nil {
			err = goMistake(file, err)
		}
	}
	if err != nil {
		failure := place{file: file}.malformed(err)
		for _, p := range dirs {
			if _, below := inside(dir, p.Dir); below && p.Failure == nil {
				p.Failure = failure
			}
		}
		return
	}
	var used []*Package
	byName := map[string]*Package{}
	var missing []need
	for _, use := range work.Use {
		at := path.Join(dir, use.Path)
		if p := dirs[at]; p != nil {
			used = append(used, p)
			byName[p.Name] = p
		} else {
			missing = append(missing, need{at: place{file, use.Syntax.Start.Line}, name: "the module in " + at})
		}
	}
	of := &Package{Dir: dir, Manifest: file}
	for _, p := range used {
		p.along = used
		p.own = append(p.own, file)
		p.own = append(p.own, r.some(dir, "go.work.sum")...)
		p.needs = append(p.needs, missing...)
		f := parsed[p]
		if f == nil {
			continue
		}
		for _, one := range f.Require {
			if to := byName[one.Mod.Path]; to != nil {
				p.needs = append(p.needs, need{at: place{p.Manifest, one.Syntax.Start.Line}, name: one.Mod.Path, to: to})
			}
		}
		p.needs = append(p.needs, replaced(of, work.Replace, func(string) bool { return false }, dirs)...)
	}
}
