package affected

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// direct finds what of a unit itself is affected, whatever it needs.
func (f *finder) direct(ctx context.Context, u *unit, source *tree.Source) error {
	f.said(u)
	f.asked(u)
	for _, one := range u.plans {
		f.based(u, one)
		if err := f.sources(ctx, u, one, source); err != nil {
			return err
		}
	}
	for _, pattern := range u.also {
		for _, p := range f.changed {
			if is, _ := doublestar.Match(path.Join(u.says.In, pattern), p); is {
				u.because(p, "also-needs "+pattern)
			}
		}
	}
	return nil
}

// said compares what the recipes say of a unit.
func (f *finder) said(u *unit) {
	file := f.p.Recipe.File.NameAt(u.says.Pos)
	before, alsoBefore := f.before.Unit(u.name)
	after, _ := f.after.Unit(u.name)
	switch {
	case before == nil:
		u.because(file, "it is new")
		return
	case after == nil || after.Said != u.says.Said:
		u.because(file, "the recipe that is checked out says otherwise than that of "+short(f.between.Until))
		return
	case before.Said != u.says.Said || !slices.Equal(alsoBefore, u.also):
		u.because(file, "what it says of "+u.name+" changed")
	}
	_, now := f.p.Recipe.Asks(u.says)
	_, was := f.before.Asks(before)
	_, then := f.after.Asks(after)
	for _, fact := range now.Facts {
		same := func(other recipe.Fact) bool { return sameFact(fact, other) }
		switch {
		case !slices.ContainsFunc(was.Facts, same):
			u.because(f.p.Recipe.File.NameAt(fact.Pos), "the fact "+recipe.Named(fact.In, fact.Name))
		case !slices.ContainsFunc(then.Facts, same):
			u.because("the fact "+recipe.Named(fact.In, fact.Name), "the recipe that is checked out says otherwise than that of "+short(f.between.Until))
		}
	}
	for _, folder := range f.takesFrom(u) {
		if was, is := f.before.LeftOut(folder), f.after.LeftOut(folder); was != is {
			u.because(file, "what is left out of the project folder changed")
		}
	}
}

func sameFact(a, b recipe.Fact) bool {
	return a.Name == b.Name && a.In == b.In && a.Value.Source() == b.Value.Source()
}

// takesFrom lists what a unit takes of the project folder.
func (f *finder) takesFrom(u *unit) (all []string) {
	for _, one := range u.plans {
		for _, s := range one.Steps {
			for _, source := range s.Do.Sources() {
				all = append(all, source.From)
			}
		}
	}
	return all
}

// asked finds what a unit's values ask for that may differ.
func (f *finder) asked(u *unit) {
	content, all := f.p.Recipe.Asks(u.says)
	moved := f.between.Since != f.between.Until
	for _, name := range content.Git {
		switch {
		case (name == "commit" || name == "short") && moved:
			u.because("git."+name, "each commit has another")
		case name == "tag" && f.tags[0] != f.tags[1]:
			u.because("git.tag", "the commits have other tags")
		case name == "branch":
			u.because("git.branch", "nothing tells on which branch "+short(f.between.Since)+" was built")
		case name == "dirty" && f.dirty:
			u.because("git.dirty", "something is not committed")
		}
	}
	if _, fixed := f.p.Facts.Epoch(); content.Date && moved && !fixed {
		u.because("date", "each commit has another")
	}
	for _, p := range f.changed {
		if slices.Contains(all.Files, p) {
			u.because(p, "a field of it is asked for")
		}
		if all.AnyFile && recipe.Related(u.says.In, p) {
			u.because(p, "it may be the file whose computed name is asked for")
		}
	}
}

// based finds bases, and images that are taken from, that may stand for something else, and a division that differs.
func (f *finder) based(u *unit, one *plan.Unit) {
	refs := []reference.Reference{one.Base.Reference}
	for _, s := range one.Steps {
		for _, use := range s.Do.References() {
			refs = append(refs, use.Reference)
		}
	}
	for _, ref := range refs {
		switch {
		case ref == reference.Reference{} || ref.Digest != "":
		case ref.Kind == reference.Layout || ref.Kind == reference.Archive:
			f.layout(u, ref)
		default:
			was, is := f.locked.Held(ref.String()), f.now.Held(ref.String())
			switch {
			case is == "":
				u.because(ref.String(), "no lock holds it, so it may stand for something else")
			case was != is:
				u.because(recipe.LockName, ref.String())
			}
		}
	}
	if one.IsImage && one.Stack.MayLock() && f.locked.Divided(u.name) != f.now.Divided(u.name) {
		u.because(recipe.LockName, "how "+u.name+" is divided into layers")
	}
}

func (f *finder) layout(u *unit, ref reference.Reference) {
	clean := path.Clean(ref.Path)
	if path.IsAbs(clean) || clean == ".." || strings.HasPrefix(clean, "../") {
		u.because(ref.String(), "it is outside of the project folder")
		return
	}
	known := false
	for _, p := range f.changed {
		if p == clean || strings.HasPrefix(p, clean+"/") {
			u.because(p, ref.String())
		}
	}
	if f.o.Until == "" {
		for p := range f.tracked {
			known = known || p == clean || strings.HasPrefix(p, clean+"/")
		}
		if !known {
			u.because(ref.String(), "it is in no commit, so it may be another one")
		}
	}
}

// sources finds changed files that a unit takes in.
func (f *finder) sources(ctx context.Context, u *unit, one *plan.Unit, source *tree.Source) error {
	for i := range one.Steps {
		why := fmt.Sprintf("%s (%s:%d)", one.Steps[i].Label, u.name, i+1)
		c, isCopy := one.Steps[i].Do.(plan.Copy)
		ofPackages := isCopy && c.Packages != nil
		if ofPackages {
			f.needs(ctx, u, c, why)
		}
		for _, s := range one.Steps[i].Do.Sources() {
			t, err := f.takes(s, source)
			if err != nil {
				return err
			}
			for _, cause := range t.causes {
				chain := cause[:1:1]
				if ofPackages {
					chain = append(chain, f.packageOf(ctx, cause[0])...)
				}
				u.because(append(append(chain, why), cause[1:]...)...)
			}
			if isCopy && c.CommitTimes {
				f.touched(u, t.covers, "it touched files that get the times of commits")
			}
		}
	}
	if one.IsImage && len(u.chains) == 0 {
		f.touched(u, engine.DatedBy(engine.Inputs{Plan: f.p.Plan, Folder: source}, one), "it touched what "+u.name+" is dated by")
		return f.originates(ctx, u)
	}
	return nil
}

// originates finds a commit that changed what is said of an image, or what that asks for, though nothing may be left of that: the revision
// that the image tells is that commit.
func (f *finder) originates(ctx context.Context, u *unit) error {
	origin := f.p.Origin(ctx, u.plans)
	f.touched(u, origin.Asks, "it touched what values of "+u.name+" ask for")
	commit, err := f.between.Decided(origin.Told(), origin.Decides)
	if commit != "" {
		u.because("commit "+short(commit), "it touched what the recipe or the lock says of "+u.name)
	}
	return err
}

// taken is what a selection of files takes of what may differ. Steps of many images share one.
type taken struct {
	covers func(path string) bool
	causes [][]string // a path each, and what is to be said of it besides
}

// because notes a path, as far as anybody is told.
func (t *taken) because(cause ...string) {
	if len(t.causes) < mostChains {
		t.causes = append(t.causes, cause)
	}
}

// takes finds what a selection takes of what may differ, once.
func (f *finder) takes(s plan.Source, source *tree.Source) (*taken, error) {
	s.Pos = recipe.Pos{}
	key := fmt.Sprintf("%#v", s)
	if known := f.selections[key]; known != nil {
		return known, nil
	}
	t := &taken{covers: f.covers(source, s)}
	f.selections[key] = t
	for _, p := range f.changed {
		switch {
		case t.covers(p), strings.HasPrefix(s.From, p+"/"): // a link or a submodule above it
			t.because(p)
		case path.Base(p) == ".gitignore" && honoured(f.p.Recipe, p) && recipe.Related(path.Dir(p), s.From), path.Base(p) == ".gitattributes" && recipe.Related(path.Dir(p), s.From):
			t.because(p)
		}
	}
	return t, f.picked(t, s, source)
}

// covers returns what tells whether a path is among what a source takes.
func (f *finder) covers(source *tree.Source, s plan.Source) func(string) bool {
	if s.Single {
		return func(p string) bool { return p == path.Clean(s.From) }
	}
	return source.Covers(s.From, s.LeaveOut)
}

// touched finds a commit that touched paths, though nothing may be left of that: dates are taken of it.
func (f *finder) touched(u *unit, touches func(string) bool, why string) {
	if commit := f.between.Touched(touches); commit != "" {
		u.because("commit "+short(commit), why)
	}
}

// honoured reports whether an ignore file is read.
func honoured(r *recipe.Recipe, p string) bool {
	return slices.ContainsFunc(r.Sources, func(s recipe.Sources) bool {
		return s.HonourGitignore && (s.In == "" || strings.HasPrefix(p, s.In+"/"))
	})
}

// picked looks at what a copy takes in now: through links, and what no commit has.
func (f *finder) picked(t *taken, s plan.Source, source *tree.Source) error {
	if f.o.Until != "" {
		if s.Follow {
			t.because(s.From, "it follows links, and where they led is not known")
		}
		return nil
	}
	got, err := source.Pick(s.From, tree.PickOptions{LeaveOut: s.LeaveOut, Structure: s.Structure, In: s.In, Follow: s.Follow, Attributes: s.Attributes})
	if errors.Is(err, tree.ErrNoMatch) || errors.Is(err, os.ErrNotExist) { // a pipeline may make it before it builds
		t.because(s.From, "it is not there yet, so it may be anything")
		return nil
	}
	if errors.Is(err, tree.ErrAllLeftOut) {
		return nil // the build tells it
	}
	if err != nil {
		return err
	}
	for i := range got.Picked {
		p := &got.Picked[i]
		if p.Kind != tree.File {
			continue
		}
		_, changed := slices.BinarySearch(f.changed, p.Path)
		switch {
		case changed && !t.covers(p.Path): // else it was told
			t.because(p.Path)
		case !changed && !f.tracked[p.Path]:
			t.because(p.Path, "it is in no commit, so it may be another one")
		case s.Follow && !t.covers(p.Path): // a link led there, and what was there may have come by another way
			for _, other := range f.changed {
				if !source.Exists(other) {
					t.because(other, "it may have been behind a link that is followed")
				}
			}
		}
	}
	return nil
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}
