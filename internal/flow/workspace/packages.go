package workspace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/files"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/project"
	"imbricat/internal/spec/recipe"
)

// maxManifest is more than a dependency manifest has, in bytes.
const maxManifest = 4 << 20

// Packages are those of the project folder, as far as the recipe does not leave their manifests out. They are read once.
func (p *Planned) Packages() (*project.Graph, error) { return p.packages() }

func (p *Planned) readPackages() (*project.Graph, error) {
	source, err := p.Source(p.StoreDir)
	if err != nil {
		return nil, err
	}
	defer source.Close()
	return project.Read(folderFiles{p.Dir, source})
}

// folderFiles are those of the project folder.
type folderFiles struct {
	dir    string
	source *tree.Source
}

// Paths implements project.Files.
func (f folderFiles) Paths() (all []string, err error) {
	survey, err := f.source.Pick(".", tree.PickOptions{})
	if errors.Is(err, tree.ErrAllLeftOut) || errors.Is(err, tree.ErrNoMatch) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("looking for packages: %w", err)
	}
	for i := range survey.Picked {
		if one := &survey.Picked[i]; one.Kind != tree.Folder { // a link may lead to a manifest
			all = append(all, one.Path)
		}
	}
	return all, nil
}

// Read implements project.Files.
func (f folderFiles) Read(name string) ([]byte, error) {
	file, err := files.OpenRegularIn(f.dir, name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, maxManifest+1))
	return bounded(text, err)
}

func bounded(text []byte, err error) ([]byte, error) {
	if err == nil && len(text) > maxManifest {
		err = fmt.Errorf("it has more than %d bytes: too many for a manifest", maxManifest)
	}
	return text, err
}

// Ends has the packages of the project folder at two ends of its history.
type Ends struct{ Since, Until *project.Graph }

// PackagesBetween reads dependency manifests as two commits have them, as far as their recipes do not leave them out; an empty until is the
// work tree. Changed are all paths that may differ, sorted.
func (p *Planned) PackagesBetween(ctx context.Context, recipes [2]*recipe.Recipe, commits [2]string, changed []string) (e Ends, err error) {
	now, err := p.Source(p.StoreDir)
	if err != nil {
		return e, err
	}
	defer now.Close()
	var until project.Files = folderFiles{p.Dir, now}
	if commits[1] == "" {
		e.Until, err = p.packages()
	} else {
		said, openErr := p.SourceAsSaid(recipes[1], p.StoreDir)
		if openErr != nil {
			return e, openErr
		}
		defer said.Close()
		until = commitFiles{ctx, p.Facts.Git, commits[1], said.Covers(".", nil)}
		e.Until, err = project.Read(until)
	}
	if err != nil {
		return e, err
	}
	then, err := p.SourceAsSaid(recipes[0], p.StoreDir)
	if err != nil {
		return e, err
	}
	defer then.Close()
	covers := then.Covers(".", nil)
	differs := func(p string) bool { _, is := slices.BinarySearch(changed, p); return is }
	was := commitFiles{ctx, p.Facts.Git, commits[0], func(p string) bool { return differs(p) && covers(p) }}
	same, err := alike(e.Until, was, changed, slices.Equal(ignoredOf(recipes[0]), ignoredOf(recipes[1])))
	if same || err != nil {
		e.Since = e.Until
		return e, err
	}
	e.Since, err = project.Read(changedFiles{until, was, differs, covers})
	return e, err
}

// alike reports whether nothing that changed counts for packages: which files there are, and what manifests hold.
func alike(g *project.Graph, was project.Files, changed []string, sameIgnored bool) (bool, error) {
	if len(changed) == 0 || !sameIgnored {
		return sameIgnored, nil
	}
	before, err := was.Paths()
	if err != nil {
		return false, err
	}
	for _, p := range changed {
		_, there := slices.BinarySearch(before, p)
		if g.Reads(p) || there != g.Has(p) {
			return false, nil
		}
	}
	return true, nil
}

// ignoredOf is what a recipe leaves out of the project folder, for comparing.
func ignoredOf(r *recipe.Recipe) (all []string) {
	for _, one := range ignored(r) {
		all = append(all, fmt.Sprintf("%q %q %t", one.In, one.LeaveOut, one.HonourGitignore))
	}
	return all
}

// commitFiles are those of a commit.
type commitFiles struct {
	ctx    context.Context
	git    *facts.Git
	commit string
	wanted func(path string) bool
}

// Paths implements project.Files.
func (f commitFiles) Paths() ([]string, error) { return f.git.Names(f.ctx, f.commit, f.wanted) }

// Read implements project.Files.
func (f commitFiles) Read(name string) ([]byte, error) {
	text, err := f.git.File(f.commit, name, maxManifest+1)
	return bounded(text, err)
}

// changedFiles are those of some files that did not change, and the others as they were.
type changedFiles struct {
	project.Files
	was             project.Files
	differs, covers func(path string) bool
}

// Paths implements project.Files.
func (f changedFiles) Paths() ([]string, error) {
	all, err := f.Files.Paths()
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(p string) bool { return f.differs(p) || !f.covers(p) })
	was, err := f.was.Paths()
	return append(all, was...), err
}

// Read implements project.Files.
func (f changedFiles) Read(name string) ([]byte, error) {
	if f.differs(name) {
		return f.was.Read(name)
	}
	return f.Files.Read(name)
}
