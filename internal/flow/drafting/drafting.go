// Package drafting drafts a recipe for a project that has none, and writes it. It never replaces a recipe unasked, and prints nothing.
package drafting

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"imbricat/internal/flow"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/files"
	"imbricat/internal/spec/draft"
	"imbricat/internal/spec/facts"
)

// Of drafts a recipe for a project.
func Of(p workspace.Project, o draft.Options) (*draft.Draft, error) {
	if branch := facts.BranchOf(p.Dir); branch != "" {
		o.Branch = branch
	}
	root, err := os.OpenRoot(p.Dir) // links of the project lead nowhere but into it
	if err != nil {
		return nil, flow.Usagef("reading the project: %w", err)
	}
	defer root.Close()
	d, err := draft.Of(root.FS(), o)
	var nothing draft.NothingError
	switch {
	case errors.As(err, &nothing):
		return nil, flow.Usagef("%w; docs/recipe.md shows how a recipe is written by hand", err)
	case err != nil:
		return nil, flow.Usagef("reading the project %s: %w", p.Dir, err)
	}
	var known []string
	for _, b := range d.Bases {
		known = append(known, b.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(o.Bases)) {
		switch {
		case len(known) == 0:
			return nil, flow.Usagef("--base %s: the draft needs no base", name)
		case !slices.Contains(known, name):
			return nil, flow.Usagef("--base %s: the draft has no such base; it has %s", name, strings.Join(known, ", "))
		}
	}
	return d, nil
}

// Write writes a draft as the project's recipe. One that is there is replaced only where that is asked for.
func Write(p workspace.Project, d *draft.Draft, replace bool) error {
	path := p.RecipePath()
	if _, err := os.Lstat(path); err == nil && !replace {
		return flow.Refusedf("%s is there already, and is left as it is; --replace writes over it, and --print only shows the draft", path)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return files.Replace(path, []byte(d.Text), 0o644)
}
