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
func (p *Packages) Sources(g *project.Graph, like Source) ([]Source, error) {
	var found []*project.Package
	for _, name := range p.Names {
		some, err := g.Find(name, p.In)
		if err != nil {
			return nil, err
		}
		found = append(found, some...)
	}
	return p.of(g, found, like)
}

// of returns what packages take. Folders are those of the whole project, so that packages find each other.
func (p *Packages) of(g *project.Graph, found []*project.Package, like Source) (all []Source, err error) {
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

// ofPackages returns what packages take, and reports what is wrong with each.
func (e *evaluator) ofPackages(p *Packages, names []recipe.Template, like Source) []Source {
	if e.options.Packages == nil {
		e.report(like.Pos, "packages are known in a project folder alone")
		return nil
	}
	g, err := e.options.Packages()
	if err != nil {
		e.add(like.Pos, err)
		return nil
	}
	var found []*project.Package
	for _, template := range names {
		name := e.text(template)
		p.Names = append(p.Names, name)
		some, err := e.packages(g, p, name)
		if err == nil && len(names) > 1 { // what is wrong with it has its own place
			_, err = g.Select(some)
		}
		if err != nil {
			e.add(template.Pos, err)
			continue
		}
		found = append(found, some...)
	}
	all, err := p.of(g, found, like)
	if err != nil {
		e.add(like.Pos, err)
	}
	return all
}

// packages finds those that a name means.
func (e *evaluator) packages(g *project.Graph, p *Packages, name string) ([]*project.Package, error) {
	if name == "" {
		return nil, fmt.Errorf("%s-of is empty; write . for the package of this folder", p.Of)
	}
	some, err := g.Find(name, p.In)
	var unknown *project.UnknownError
	if errors.As(err, &unknown) {
		if word := recipe.Nearest(name, unknown.Known); word != "" {
			return nil, fmt.Errorf("%w; did you mean %q?", err, word)
		}
	}
	return some, err
}
