package workspace

import (
	"context"
	"errors"
	"fmt"
	"io"

	"imbricat/internal/content/tree"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/project"
	"imbricat/internal/spec/recipe"
)

// maxManifest is more than a dependency manifest has, in bytes.
const maxManifest = 4 << 20

// Packages reads the dependency manifests of the project folder, as far as the recipe does not leave them out.
func (p *Planned) Packages() (*project.Graph, error) {
	source, err := p.Source(p.StoreDir)
	if err != nil {
		return nil, err
	}
	defer source.Close()
	return project.Read(folderFiles{source})
}

// folderFiles are those of the project folder.
type folderFiles struct{ source *tree.Source }

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
		if one := &survey.Picked[i]; one.Kind == tree.File {
			all = append(all, one.Path)
		}
	}
	return all, nil
}

// Read implements project.Files.
func (f folderFiles) Read(name string) ([]byte, error) {
	opener := f.source.Opener()
	defer opener.Close()
	file, _, err := opener.Open(name)
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

// PackagesAt reads the dependency manifests of a commit, as far as its recipe does not leave them out.
func (p *Planned) PackagesAt(ctx context.Context, r *recipe.Recipe, g *facts.Git, commit string) (*project.Graph, error) {
	source, err := p.SourceAsSaid(r, p.StoreDir)
	if err != nil {
		return nil, err
	}
	defer source.Close()
	return project.Read(commitFiles{ctx, g, commit, source.Covers(".", nil)})
}

// commitFiles are those of a commit.
type commitFiles struct {
	ctx    context.Context
	git    *facts.Git
	commit string
	covers func(path string) bool
}

// Paths implements project.Files.
func (f commitFiles) Paths() ([]string, error) { return f.git.Names(f.ctx, f.commit, f.covers) }

// Read implements project.Files.
func (f commitFiles) Read(name string) ([]byte, error) {
	text, err := f.git.File(f.commit, name, maxManifest+1)
	return bounded(text, err)
}
