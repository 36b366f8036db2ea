// Package workspace has what use cases work with: a recipe with its facts, expanded, the lock beside it, the store, and the places
// that references lead to; and it gathers from these what the engine asks for. It does no use case itself and prints nothing.
package workspace

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/redact"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/project"
	"imbricat/internal/spec/recipe"
)

// Project is where a recipe lies.
type Project struct {
	Dir  string // the project folder
	File string // the recipe, absolute or relative to the folder
	Text []byte // the recipe itself, in place of the file; nil: the file is read
	Here string // where one stands, relative to the folder, with slashes; empty: in it
	// StoreDir is the folder of the store, which is no part of the project where it lies in it; empty: elsewhere.
	StoreDir string
	// Unversioned takes no notice of version control: what lies there is in a working tree by chance.
	Unversioned bool
	// Pinned are what bases stand for that the lock does not hold.
	Pinned map[string]digest.Digest
	Writes []string // files below the folder that are written meanwhile, relative to it: no input of anything
}

// RecipePath is the recipe's file.
func (p Project) RecipePath() string {
	if filepath.IsAbs(p.File) {
		return p.File
	}
	return filepath.Join(p.Dir, p.File)
}

// Name names the project for the store and the logbook: its recipe's whole path. A recipe that is not there has none.
func (p Project) Name() (string, error) {
	path, err := filepath.Abs(p.RecipePath())
	if err == nil && p.Text != nil { // as it is named once it is written
		var dir string
		dir, err = filepath.EvalSymlinks(filepath.Dir(path))
		path = filepath.Join(dir, filepath.Base(path))
	} else if err == nil {
		path, err = filepath.EvalSymlinks(path)
	}
	return path, err
}

// maxRecipe is more than a recipe may have, in bytes, so that the parser's own bound speaks.
const maxRecipe = 5 << 20

// Recipe reads and parses the recipe.
func (p Project) Recipe() (*recipe.Recipe, error) {
	path := p.RecipePath()
	if p.Text != nil {
		return recipe.Parse(filepath.ToSlash(p.File), p.Text)
	}
	text, err := readRecipe(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, flow.Usagef("there is no recipe %s: `imbricat init` drafts one, and --dir names another folder", path)
	}
	if err != nil {
		return nil, flow.Usagef("reading the recipe: %w", err)
	}
	return recipe.ParseGraph(filepath.ToSlash(p.File), text, p.find)
}

// LockPath is the lock beside the recipe.
func (p Project) LockPath() string {
	return filepath.Join(filepath.Dir(p.RecipePath()), recipe.LockName)
}

// Lock reads the lock; without one it is nil.
func (p Project) Lock() (*lock.Lock, error) {
	l, err := p.lock()
	if err != nil || len(p.Pinned) == 0 {
		return l, err
	}
	if l == nil {
		l = &lock.Lock{}
	}
	own := *l
	own.Bases = maps.Clone(p.Pinned)
	maps.Copy(own.Bases, l.Bases)
	return &own, nil
}

// lock reads the lock as it is written.
func (p Project) lock() (*lock.Lock, error) {
	text, err := os.ReadFile(p.LockPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, flow.Usagef("reading the lock: %w", err)
	}
	l, err := lock.Parse(p.LockPath(), text)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	return l, nil
}

// Choice is what somebody chooses of what a recipe tells.
type Choice struct {
	Images    []string            // none: all
	Among     []string            // only what is among these; nil: everything
	Stages    bool                // Images may name stages too
	Checks    bool                // stages that checks name are planned too
	Unused    bool                // stages that nothing needs are planned too
	Platforms []platform.Platform // none: all
	Facts     map[string]string   // that replace the recipe's
	Redactor  *redact.Redactor    // is told of what the environment holds of secrets
}

// Planned is a recipe with its facts, expanded.
type Planned struct {
	Project
	Recipe *recipe.Recipe
	Facts  *facts.Facts
	Plan   *plan.Plan

	// Whole is the plan over all platforms, where some were chosen; nil: Plan is, or it is not known.
	Whole *plan.Plan

	packages func() (*project.Graph, error)
	told     *told
}

// Expand reads the recipe, gathers its facts and expands it.
func (p Project) Expand(c Choice) (*Planned, error) {
	r, err := p.Recipe()
	if err == nil {
		var planned *Planned
		if planned, err = p.expand(r, c); err == nil {
			return planned, nil
		}
	}
	var wrong *recipe.Errors
	if errors.As(err, &wrong) {
		return nil, p.everything(wrong, c)
	}
	return nil, err
}

func (p Project) expand(r *recipe.Recipe, c Choice) (*Planned, error) {
	for _, one := range r.Secrets {
		if one.Env != "" {
			c.Redactor.Add([]byte(os.Getenv(one.Env)))
		}
	}
	f, err := facts.Gather(r, facts.Options{Dir: p.Dir, Lookup: os.LookupEnv, Given: c.Facts, Now: time.Now, Own: p.Writes, Unversioned: p.Unversioned})
	if err != nil {
		return nil, err
	}
	if c.Images, err = p.named(r, c.Images); err != nil {
		return nil, err
	}
	images, nothing := c.among(r)
	planned := &Planned{Project: p, Recipe: r, Facts: f, told: &told{}}
	planned.packages = sync.OnceValues(planned.readPackages)
	o := plan.Options{Packages: planned.packages, Images: images, Nothing: nothing, Stages: c.Stages, Checks: c.Checks, Unused: c.Unused, Platforms: c.Platforms, Here: platform.Here(), Scope: f.Scope}
	if planned.Plan, err = plan.Expand(r, o); err == nil && len(c.Platforms) > 0 {
		o.Platforms = nil
		planned.Whole, _ = plan.Expand(r, o) // another platform may lack values that this one needs not
	}
	if err != nil {
		return nil, err
	}
	return planned, nil
}

// among returns what is chosen of the stages and images that Among has; nothing where that is none.
func (c Choice) among(r *recipe.Recipe) (names []string, nothing bool) {
	if c.Among == nil {
		return c.Images, false
	}
	chosen := func(s *recipe.Stage, matches func(string) bool) {
		if slices.Contains(c.Among, s.Name) && (len(c.Images) == 0 || slices.ContainsFunc(c.Images, matches)) {
			names = append(names, s.Name)
		}
	}
	for i := range r.Images {
		chosen(&r.Images[i].Stage, r.Images[i].Matches)
	}
	for i := range r.Stages {
		if c.Stages && len(c.Images) > 0 {
			chosen(&r.Stages[i], r.Stages[i].Matches)
		}
	}
	for _, name := range c.Images { // a name that the recipe does not have is told all the same
		if !r.Has(name) {
			names = append(names, name)
		}
	}
	return names, len(names) == 0
}

// Inside returns a path relative to a folder, with slashes, where it lies in it.
func Inside(dir, path string) (string, bool) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", false
	}
	below, err := filepath.Rel(dir, abs)
	return filepath.ToSlash(below), err == nil && filepath.IsLocal(below) && below != "."
}
