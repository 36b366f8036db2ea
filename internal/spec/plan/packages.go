package plan

import (
	"errors"
	"fmt"
	"strings"

	"imbricat/internal/ground/ignore"
	"imbricat/internal/spec/project"
	"imbricat/internal/spec/recipe"
)

// Sources returns what the packages take of the project folder, as sources that are like a given one. The errors are those of finding packages
// and what they need.
func (p *Packages) Sources(g *project.Graph, like Source) (all []Source, err error) {
	for _, name := range p.Names {
		some, err := p.of(g, name, like)
		if err != nil {
			return nil, err
		}
		all = append(all, some...)
	}
	return all, nil
}

// of returns what one of the packages takes. Folders are those of the whole project, so that packages find each other.
func (p *Packages) of(g *project.Graph, name string, like Source) (all []Source, err error) {
	found, err := g.Find(name, p.In)
	if err != nil {
		return nil, err
	}
	selected, err := g.Select(found)
	if err != nil {
		return nil, err
	}
	like.In = ""
	add := func(from string, leaveOut []string) {
		one := like
		one.From, one.LeaveOut = from, leaveOut
		all = append(all, one)
	}
	files := selected.Manifests
	if p.Of == recipe.SourcesOf {
		files = selected.Files
		for _, f := range selected.Folders {
			without := append([]string(nil), p.Without...)
			for _, dir := range f.Without {
				without = append(without, "/"+escaped(dir)+"/")
			}
			add(f.Dir, without)
		}
	}
	for _, file := range files {
		if !ignore.New(p.Without...).MatchAll(below(g, file), false) {
			add(file, nil)
		}
	}
	return all, nil
}

// below is a file's path in the folder of its package.
func below(g *project.Graph, file string) string {
	if of := g.Of(file); of != nil && of.Dir != "." {
		return strings.TrimPrefix(file, of.Dir+"/")
	}
	return file
}

// escaped is a path as a pattern that nothing else matches.
func escaped(p string) string {
	var out strings.Builder
	for _, c := range p {
		if strings.ContainsRune(`\*?[!# `, c) {
			out.WriteByte('\\')
		}
		out.WriteRune(c)
	}
	return out.String()
}

// ofPackage returns what a package takes, and reports what is wrong with it.
func (e *evaluator) ofPackage(p *Packages, name string, like Source) []Source {
	if name == "" {
		e.report(like.Pos, "%s-of is empty; write . for the package of this folder", p.Of)
		return nil
	}
	if e.options.Packages == nil {
		e.report(like.Pos, "packages are known in a project folder alone")
		return nil
	}
	g, err := e.options.Packages()
	if err != nil {
		e.add(like.Pos, err)
		return nil
	}
	all, err := p.of(g, name, like)
	var unknown *project.UnknownError
	switch {
	case errors.As(err, &unknown):
		near := ""
		if word := recipe.Nearest(name, unknown.Known); word != "" {
			near = fmt.Sprintf("; did you mean %q?", word)
		}
		e.report(like.Pos, "%s%s", err, near)
	case err != nil:
		e.add(like.Pos, err)
	}
	return all
}
