// Package affected tells which images and stages of a recipe a change between two commits may touch, and by which way.
//
// It never leaves out what could differ: what cannot be known counts as affected, with the reason. It builds nothing and asks nobody.
package affected

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"imbricat/internal/flow"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Options say between what.
type Options struct {
	Since string // a revision; empty: none is known, so that everything is affected
	Until string // a revision; empty: the work tree, with what is not committed
	Store string // the folder of the store, which is no input
}

// Chain is the way from a cause to a stage or an image, the cause first.
type Chain []string

// Unit is a stage or an image that is affected.
type Unit struct {
	Name   string
	Image  bool
	Chains []Chain // at least one
}

// Result is what is affected. Units stand in the order of the plan, what they need before them.
type Result struct {
	Since, Until string // commits; an empty Until is the work tree
	Units        []Unit
	Rest         []string // images that are not affected
	Notes        []string // why the answer may be wider than it need be
}

// mostChains bounds how many ways are told of a unit.
const mostChains = 5

// finder looks for what is affected.
type finder struct {
	p             *workspace.Planned
	o             Options
	between       *facts.Between
	changed       []string // paths of the project
	before, after *recipe.Recipe
	locked, now   *lock.Lock // the locks at both ends; nil: none
	tags          [2]string
	tracked       map[string]bool   // what the commit that is checked out has; of the work tree alone
	dirty         bool              // something is not committed
	selections    map[string]*taken // what selections of files take, by all that they say
	units         []*unit           // in the order of the plan
	byName        map[string]*unit
	result        *Result
	ends          *workspace.Ends // nil: nothing asked for packages
	endsWide      string          // why they are not known
}

// unit is a stage or an image over all platforms.
type unit struct {
	name   string
	image  bool
	plans  []*plan.Unit
	says   *recipe.Stage
	also   []string // also-needs
	chains []Chain
}

// because notes a way to a unit, each once.
func (u *unit) because(chain ...string) {
	if len(u.chains) < mostChains && !slices.ContainsFunc(u.chains, func(c Chain) bool { return slices.Equal(c, chain) }) {
		u.chains = append(u.chains, chain)
	}
}

// Find finds what is affected. The plan must have all images, with stages that nothing needs and those of checks.
func Find(ctx context.Context, p *workspace.Planned, o Options) (*Result, error) {
	f := &finder{p: p, o: o, selections: map[string]*taken{}, result: &Result{}}
	f.gather()
	wide, err := f.compare(ctx)
	if err != nil {
		return nil, err
	}
	if wide != "" {
		f.result.Notes = append(f.result.Notes, wide)
		for _, u := range f.units {
			u.because(wide)
		}
		return f.done(), nil
	}
	source, err := p.Source(o.Store)
	if o.Until != "" { // what is ignored in the work tree need not have been then
		source, err = p.SourceAsSaid(f.after, o.Store)
	}
	if err != nil {
		return nil, err
	}
	defer source.Close()
	for _, u := range f.units {
		if err := f.direct(ctx, u, source); err != nil {
			return nil, err
		}
	}
	f.spread()
	f.elsewhere()
	if p.Facts.Git.Shallow() {
		f.result.Notes = append(f.result.Notes, "the clone is shallow: images that no commit of it touched are dated by its oldest one, which another clone need not have")
	}
	return f.done(), nil
}

// gather lists the units of the plan by their names.
func (f *finder) gather() {
	f.byName = map[string]*unit{}
	for _, one := range f.p.Plan.Units {
		u := f.byName[one.ID.Name]
		if u == nil {
			u = &unit{name: one.ID.Name, image: one.IsImage}
			u.says, u.also = f.p.Recipe.Unit(u.name)
			f.byName[u.name] = u
			f.units = append(f.units, u)
		}
		u.plans = append(u.plans, one)
	}
}

// compare reads both ends. Wide tells why everything is affected; empty: it is not known to be.
func (f *finder) compare(ctx context.Context) (wide string, err error) {
	git := f.p.Facts.Git
	if f.o.Since == "" {
		return "no commit is known since which to compare", nil
	}
	if !git.Known() {
		return "", flow.Usagef("the project folder is in no git repository with a commit, so nothing tells what changed")
	}
	f.between, err = git.Between(ctx, f.o.Since, f.o.Until)
	switch {
	case errors.Is(err, facts.ErrNoCommit):
		return fmt.Sprintf("%s: a shallow clone may lack it, or history was written anew", err), nil
	case err != nil:
		return "", flow.WrongUse(err)
	case f.between.Open:
		return "the clone is shallow and ends before it can be told which commits lie between: fetch the history", nil
	}
	f.result.Since, f.changed = f.between.Since, f.between.Changed
	if f.o.Until != "" {
		f.result.Until = f.between.Until
	}
	if err := f.uncommitted(); err != nil {
		return "", err
	}
	if f.before, err = f.p.RecipeAt(ctx, git, f.between.Since); err != nil {
		return fmt.Sprintf("the recipe of %s cannot be compared: %s", short(f.between.Since), firstLine(err)), nil
	}
	f.after = f.p.Recipe
	if f.o.Until != "" {
		if f.after, err = f.p.RecipeAt(ctx, git, f.between.Until); err != nil {
			return fmt.Sprintf("the recipe of %s cannot be compared: %s", short(f.between.Until), firstLine(err)), nil
		}
	}
	if wide = f.outside(); wide != "" {
		return wide, nil
	}
	if wide, err = f.locks(); wide != "" || err != nil {
		return wide, err
	}
	for i, commit := range []string{f.between.Since, f.between.Until} {
		if f.tags[i], err = git.TagOf(commit); err != nil {
			return "", err
		}
	}
	return "", nil
}

// uncommitted adds what the work tree has that the commit has not.
func (f *finder) uncommitted() error {
	if f.o.Until != "" {
		return nil
	}
	now, err := f.p.Facts.Git.WorkTree()
	if err != nil {
		return err
	}
	own := func(p string) bool { return slices.Contains(f.p.Writes, p) }
	more := slices.DeleteFunc(slices.Concat(now.Changed, now.Untracked), own)
	f.tracked, f.dirty = now.Tracked, len(more) > 0
	f.changed = append(f.changed, more...)
	slices.Sort(f.changed)
	f.changed = slices.Compact(f.changed)
	return nil
}

// outside tells of what holds for all units of several recipes and differs.
func (f *finder) outside() string {
	authorities := func(r *recipe.Recipe) (files []string) {
		for _, one := range r.Authorities {
			files = append(files, one.File)
		}
		return files
	}
	if !slices.Equal(authorities(f.before), authorities(f.after)) {
		return "the recipe names other authorities"
	}
	for _, file := range authorities(f.after) {
		if slices.Contains(f.changed, file) {
			return "the certificates in " + file + " changed"
		}
	}
	return ""
}

// locks reads the locks of both ends.
func (f *finder) locks() (wide string, err error) {
	git := f.p.Facts.Git
	if f.locked, err = f.p.LockAt(git, f.between.Since); err != nil {
		return fmt.Sprintf("the lock of %s cannot be read: %s", short(f.between.Since), firstLine(err)), nil
	}
	if f.o.Until == "" {
		f.now, err = f.p.Lock()
		return "", err
	}
	if f.now, err = f.p.LockAt(git, f.between.Until); err != nil {
		return fmt.Sprintf("the lock of %s cannot be read: %s", short(f.between.Until), firstLine(err)), nil
	}
	return "", nil
}

// spread carries what is affected on to what needs it.
func (f *finder) spread() {
	for _, u := range f.units { // each stands behind those that it needs
		for _, one := range u.plans {
			for _, need := range one.Needs() {
				if below := f.byName[need.ID.Name]; below != nil && below != u && len(below.chains) > 0 {
					u.because(append(slices.Clone(below.chains[0]), below.name)...)
				}
			}
		}
	}
	// A stage of a check is no part of the image, but the image is held against it.
	for _, u := range f.units {
		for _, one := range u.plans {
			for _, c := range one.Checks {
				if c.Stage == nil {
					continue
				}
				if stage := f.byName[c.Stage.ID.Name]; stage != nil && len(stage.chains) > 0 {
					u.because(append(slices.Clone(stage.chains[0]), "the check "+stage.name)...)
				}
			}
		}
	}
}

// elsewhere adds what the later recipe has and the one that is checked out has not.
func (f *finder) elsewhere() {
	add := func(s *recipe.Stage, image bool) {
		if f.byName[s.Name] == nil {
			f.units = append(f.units, &unit{name: s.Name, image: image, chains: []Chain{{f.after.File.NameAt(s.Pos), "the recipe that is checked out does not have it"}}})
		}
	}
	for i := range f.after.Stages {
		add(&f.after.Stages[i], false)
	}
	for i := range f.after.Images {
		add(&f.after.Images[i].Stage, true)
	}
}

func (f *finder) done() *Result {
	for _, u := range f.units {
		switch {
		case len(u.chains) > 0:
			f.result.Units = append(f.result.Units, Unit{Name: u.name, Image: u.image, Chains: u.chains})
		case u.image:
			f.result.Rest = append(f.result.Rest, u.name)
		}
	}
	return f.result
}

// Images are the names of the images that are affected.
func (r *Result) Images() []string {
	names := []string{}
	for _, u := range r.Units {
		if u.Image {
			names = append(names, u.Name)
		}
	}
	return names
}

func short(commit string) string { return commit[:min(len(commit), 12)] }
