package project

import (
	"encoding/xml"
	"errors"
	"io"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// msbuild is what counts of a project file or one that it imports.
type msbuild struct {
	references, imports []reference
}

// reference is a path as a file names it.
type reference struct {
	at   place
	path string
}

// readMSBuild reads references to projects and imports, whatever their conditions are.
func readMSBuild(file string, text []byte) (*msbuild, error) {
	m := &msbuild{}
	d := xmlDecoder(text)
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return m, nil
		}
		if err != nil {
			return nil, xmlMistake(file, err)
		}
		start, is := token.(xml.StartElement)
		if !is {
			continue
		}
		line, _ := d.InputPos()
		for _, a := range start.Attr {
			switch {
			case start.Name.Local == "ProjectReference" && a.Name.Local == "Include":
				for one := range strings.SplitSeq(a.Value, ";") {
					if one = strings.TrimSpace(one); one != "" {
						m.references = append(m.references, reference{place{file, line}, one})
					}
				}
			case start.Name.Local == "Import" && a.Name.Local == "Project":
				m.imports = append(m.imports, reference{place{file, line}, a.Value})
			}
		}
	}
}

// dotnet links the projects of a repository.
type dotnet struct {
	*repository
	byFile map[string]*Package
	files  map[string]*msbuild // those that are imported; nil: it cannot be read
	errs   map[string]error
}

// aroundDotnet are files of a folder or of the nearest above it, and allAbove those of each folder above.
var (
	aroundDotnet = []string{"Directory.Build.props", "Directory.Build.targets", "Directory.Packages.props", "global.json"}
	allAbove     = []string{"nuget.config", "NuGet.config", "NuGet.Config", ".config/dotnet-tools.json"}
)

// dotnetProjects reads the project files of .NET, with the files that they import or that hold in their folders.
func dotnetProjects(r *repository) []*Package {
	all, parsed := each(r, r.ending(".csproj", ".fsproj", ".vbproj"), DotNet, func(p *Package, text []byte) (*msbuild, error) {
		p.Name = strings.TrimSuffix(path.Base(p.Manifest), path.Ext(p.Manifest))
		return readMSBuild(p.Manifest, text)
	})
	n := &dotnet{r, map[string]*Package{}, map[string]*msbuild{}, map[string]error{}}
	for _, p := range all {
		n.byFile[p.Manifest] = p
	}
	for _, p := range all {
		p.own = append(p.own, r.some(p.Dir, "packages.lock.json")...)
		seen := map[string]bool{p.Manifest: true}
		if parsed[p] != nil {
			n.link(p, p.Dir, parsed[p], seen)
		}
		for _, name := range aroundDotnet {
			for _, dir := range above(p.Dir) {
				if file := path.Join(dir, name); r.has(file) {
					n.imported(p, file, seen)
					break
				}
			}
		}
		for _, dir := range above(p.Dir) {
			p.own = append(p.own, r.some(dir, allAbove...)...)
		}
	}
	return all
}

// imported adds a file that holds for a project.
func (n *dotnet) imported(p *Package, file string, seen map[string]bool) {
	if seen[file] {
		return
	}
	seen[file] = true
	p.own = append(p.own, file)
	if path.Ext(file) == ".json" {
		return
	}
	m, known := n.files[file]
	if !known {
		text, err := n.content(file)
		if err == nil {
			m, err = readMSBuild(file, text)
		}
		if err != nil {
			n.errs[file] = place{file: file}.malformed(err)
		}
		n.files[file] = m
	}
	if m == nil {
		p.Failure = n.errs[file]
		return
	}
	n.link(p, path.Dir(file), m, seen)
}

// link adds what a file names. Paths are those of the project where they are references, and of the file where they are imports.
func (n *dotnet) link(p *Package, dir string, m *msbuild, seen map[string]bool) {
	for _, one := range m.imports {
		if to, known := resolved(one.path, dir, p.Dir); known && n.has(to) {
			n.imported(p, to, seen) // one that is not there comes with the tools, or holds where it is
		}
	}
	for _, one := range m.references {
		to, known := resolved(one.path, dir, p.Dir)
		switch {
		case !known:
			p.Failure = one.at.errorf("what %s stands for is not known", one.path)
		case strings.ContainsAny(to, "*?"):
			for _, file := range slices.Sorted(maps.Keys(n.byFile)) {
				if matched, _ := doublestar.Match(to, file); matched && n.byFile[file] != p {
					p.needs = append(p.needs, need{at: one.at, name: file, to: n.byFile[file], strict: true})
				}
			}
		case n.byFile[to] != p:
			p.needs = append(p.needs, need{at: one.at, name: to, to: n.byFile[to], strict: true})
		}
	}
}

// resolved returns the path that a file of dir names for a project of another folder.
func resolved(text, dir, project string) (string, bool) {
	text = strings.ReplaceAll(text, `\`, "/")
	from := project
	for _, own := range []struct{ name, dir string }{{"$(MSBuildThisFileDirectory)", dir}, {"$(MSBuildProjectDirectory)", project}, {"$(ProjectDir)", project}} {
		if rest, is := strings.CutPrefix(text, own.name); is {
			text, from = strings.TrimPrefix(rest, "/"), own.dir
		}
	}
	return path.Join(from, text), !strings.ContainsAny(text, "$%@")
}
