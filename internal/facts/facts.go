// Package facts finds the named values of a build: from version control, the environment, the platform, and those
// given by hand.
//
// It reads what the recipe's expressions ask for and nothing more. It never runs a program and never writes.
package facts

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/platform"
	"imbricat/internal/recipe"
)

// Options say where facts come from.
type Options struct {
	Dir    string                           // the project folder
	Lookup func(name string) (string, bool) // the environment
	Given  map[string]string                // facts given by hand; they replace the recipe's
}

// Facts are the values of one build.
type Facts struct {
	Git *Git

	recipe *recipe.Recipe
	given  map[string]string
	git    map[string]any
	env    map[string]any
	epoch  *time.Time
	files  manifests
}

// Gather collects what the recipe's expressions use. The error is a *recipe.Errors where the recipe is to be mended.
func Gather(r *recipe.Recipe, o Options) (*Facts, error) {
	f := &Facts{recipe: r, given: o.Given, git: map[string]any{}, env: map[string]any{}, files: manifests{dir: o.Dir}}
	if err := f.checkGiven(); err != nil {
		return nil, err
	}
	if err := f.readEpoch(o.Lookup); err != nil {
		return nil, err
	}
	asked := map[string]bool{}
	r.Expressions(func(e *recipe.Expression) {
		for _, name := range e.Uses("git") {
			asked[name] = true
		}
		for _, name := range e.Uses("env") {
			if value, set := o.Lookup(name); set {
				f.env[name] = value
			}
		}
	})
	var err error
	if f.Git, err = openGit(o.Dir); err != nil && len(asked) > 0 {
		return nil, err
	}
	return f, f.fillGit(asked["dirty"])
}

func (f *Facts) fillGit(dirty bool) error {
	if !f.Git.Known() {
		return nil
	}
	for name, value := range map[string]string{
		"commit": f.Git.Commit, "short": f.Git.Commit[:7], "tag": f.Git.Tag, "branch": f.Git.Branch,
	} {
		if value != "" {
			f.git[name] = value
		}
	}
	if dirty {
		answer, err := f.Git.Dirty()
		if err != nil {
			return err
		}
		f.git["dirty"] = answer
	}
	return nil
}

func (f *Facts) checkGiven() error {
	var known []string
	for _, fact := range f.recipe.Facts {
		known = append(known, fact.Name)
	}
	var names []string
	for name := range f.given {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		if slices.Contains(known, name) {
			continue
		}
		hint := "write it under facts: in the recipe"
		if near := recipe.Nearest(name, known); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return &UnknownFact{Name: name, Hint: hint}
	}
	return nil
}

// UnknownFact is a fact given by hand that the recipe does not have.
type UnknownFact struct{ Name, Hint string }

func (e *UnknownFact) Error() string {
	return fmt.Sprintf("the recipe has no fact %q: %s", e.Name, e.Hint)
}

// readEpoch takes SOURCE_DATE_EPOCH as the reproducible-builds specification of that name defines it.
func (f *Facts) readEpoch(lookup func(string) (string, bool)) error {
	text, set := lookup("SOURCE_DATE_EPOCH")
	if !set || text == "" {
		return nil
	}
	seconds, err := strconv.ParseInt(text, 10, 64)
	if err != nil || seconds < 0 || seconds > 253402300799 {
		return &BadEpoch{text}
	}
	when := time.Unix(seconds, 0).UTC()
	f.epoch = &when
	return nil
}

// BadEpoch is a SOURCE_DATE_EPOCH that is no time.
type BadEpoch struct{ Text string }

func (e *BadEpoch) Error() string {
	return fmt.Sprintf("SOURCE_DATE_EPOCH is %q: want whole seconds since 1970", e.Text)
}

// Epoch is the time that SOURCE_DATE_EPOCH gives.
func (f *Facts) Epoch() (time.Time, bool) {
	if f.epoch == nil {
		return time.Time{}, false
	}
	return *f.epoch, true
}

// Known gives what is known of the version and what was given by hand, by name, for a record of the build. Values of the
// environment are left out: they may be nobody's business.
func (f *Facts) Known() map[string]string {
	all := map[string]string{}
	for name, value := range f.git {
		all["git."+name] = fmt.Sprint(value)
	}
	maps.Copy(all, f.given)
	return all
}

// Scope evaluates the facts for one platform.
func (f *Facts) Scope(p platform.Platform) (*recipe.Scope, error) {
	s := &recipe.Scope{
		Git:      f.git,
		Env:      f.env,
		Platform: map[string]any{"os": p.OS, "architecture": p.Architecture, "variant": p.Variant},
		Facts:    map[string]any{},
		File:     f.files.Field,
	}
	e := &evaluation{facts: f, scope: s, state: map[string]int{}}
	for _, fact := range f.recipe.Facts {
		if err := e.fact(fact.Name, nil); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// evaluation computes facts in the order in which they need each other.
type evaluation struct {
	facts *Facts
	scope *recipe.Scope
	state map[string]int // 1: begun, 2: done
}

func (e *evaluation) fact(name string, path []string) error {
	if e.state[name] == 2 {
		return nil
	}
	index := slices.IndexFunc(e.facts.recipe.Facts, func(f recipe.Fact) bool { return f.Name == name })
	if index < 0 {
		return nil
	}
	fact := e.facts.recipe.Facts[index]
	path = append(path, name)
	if e.state[name] == 1 {
		return e.facts.recipe.File.Problem(fact.Pos, "the fact %q needs itself: %s", name, strings.Join(path, " needs "))
	}
	e.state[name] = 1
	if given, ok := e.facts.given[name]; ok {
		e.scope.Facts[name] = given
		e.state[name] = 2
		return nil
	}
	for _, expression := range fact.Value.Expressions() {
		for _, needed := range expression.Uses("facts") {
			if err := e.fact(needed, path); err != nil {
				return err
			}
		}
	}
	value, err := fact.Value.Value(e.scope)
	if err != nil {
		return err
	}
	if value == nil {
		return e.facts.recipe.File.Problem(fact.Pos, "the fact %q has no value here; give a default with ??", name)
	}
	e.scope.Facts[name] = value
	e.state[name] = 2
	return nil
}
