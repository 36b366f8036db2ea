// Package facts finds the named values of a build: from version control, the environment, the platform, and those
// given by hand.
//
// It reads what the recipe's expressions ask for and nothing more. It never runs a program and never writes.
package facts

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/recipe"
)

// Options say where facts come from.
type Options struct {
	Dir    string                           // the project folder
	Lookup func(name string) (string, bool) // the environment
	Given  map[string]string                // facts given by hand; they replace the recipe's
	Now    func() time.Time                 // the clock, for tags that ask for it
	// Unversioned leaves version control alone: nothing is known of it.
	Unversioned bool
	Own         []string // files that this program writes, relative to the project folder: they make nothing dirty
}

// Facts are the values of one build.
type Facts struct {
	Git *Git

	recipe *recipe.Recipe
	given  map[string]string
	git    map[string]any
	date   map[string]any
	now    map[string]any
	run    map[string]any
	env    map[string]any
	epoch  *time.Time
	files  manifests
}

// Gather collects what the recipe's expressions use. The error is a *recipe.Errors where the recipe is to be mended.
func Gather(r *recipe.Recipe, o Options) (*Facts, error) {
	f := &Facts{date: map[string]any{}, run: map[string]any{}, recipe: r, given: o.Given, git: map[string]any{}, env: map[string]any{}, files: manifests{dir: o.Dir}}
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
	if f.Git = (&Git{}); !o.Unversioned {
		f.Git, err = openGit(o.Dir)
	}
	if err != nil && len(asked) > 0 {
		return nil, err
	}
	if branch, set := o.Lookup(BranchVariable); set && branch != "" && f.Git.Branch == "" {
		f.Git.Branch = branch // a pipeline's detached commit
	}
	if number, set := o.Lookup(RunVariable); set && number != "" {
		f.run["number"] = number
	}
	f.fillDate()
	f.now = dateFields(o.Now().UTC())
	return f, f.fillGit(asked["dirty"], o.Own)
}

// Variables of the environment that a pipeline tells its own facts in.
const (
	BranchVariable = "IMBRICAT_BRANCH"     // the branch, where a commit is checked out without one
	RunVariable    = "IMBRICAT_RUN_NUMBER" // the number of the pipeline's run
)

// Run is the number of the pipeline's run; "" where nobody gave one.
func (f *Facts) Run() string {
	number, _ := f.run["number"].(string)
	return number
}

// fillDate tells the date of SOURCE_DATE_EPOCH, or else of the commit, in UTC. The clock is not asked: the same sources have
// the same date.
func (f *Facts) fillDate() {
	when, known := f.Epoch()
	if !known && f.Git.Known() {
		when, known = f.Git.head.Committer.When.UTC(), true
	}
	if !known {
		return
	}
	f.date = dateFields(when)
}

// dateFields tells a time in the forms that expressions know: week is that of ISO 8601, such as 2026-W48.
func dateFields(when time.Time) map[string]any {
	year, week := when.ISOWeek()
	fields := map[string]any{"week": fmt.Sprintf("%04d-W%02d", year, week)}
	for name, form := range map[string]string{"iso": "2006-01-02", "plain": "20060102", "minute": "20060102-1504", "year": "2006", "month": "01", "day": "02"} {
		fields[name] = when.Format(form)
	}
	return fields
}

// why tells why a fact has no value.
func (f *Facts) why(root, name string) string {
	switch {
	case root == "run":
		return "set " + RunVariable
	case root == "date":
		return "the project folder has no commit, and SOURCE_DATE_EPOCH is not set"
	case root != "git":
		return ""
	case !f.Git.Known():
		return "the project folder is not under version control, or has no commit"
	case name == "branch":
		return "a commit is checked out and no branch; check the branch out, or set " + BranchVariable
	case name == "tag" && f.Git.Shallow():
		return "no tag is on the commit, and the clone is shallow, so it may lack tags: fetch them"
	case name == "tag":
		return "no tag is on the commit"
	}
	return ""
}

// Values returns the facts of the recipe that are the same for every platform, for a receipt. Facts whose text is one of the
// covered ones are left out.
func (f *Facts) Values(p platform.Platform, covered func(text string) bool) map[string]string {
	byPlatform := map[string]bool{}
	for range f.recipe.Facts { // facts may need each other in any order
		for _, fact := range f.recipe.Facts {
			for _, e := range fact.Value.Expressions() {
				needs := e.Uses("facts")
				if len(e.Uses("platform")) > 0 || slices.ContainsFunc(needs, func(name string) bool { return byPlatform[f.known(fact.In, name)] }) {
					byPlatform[recipe.Named(fact.In, fact.Name)] = true
				}
			}
		}
	}
	all := map[string]string{}
	scopes := map[string]*recipe.Scope{}
	for _, fact := range f.recipe.Facts {
		scope := scopes[fact.In]
		if scope == nil {
			var err error
			if scope, err = f.Scope(fact.In, p); err != nil {
				return nil
			}
			scopes[fact.In] = scope
		}
		name := recipe.Named(fact.In, fact.Name)
		if text := fmt.Sprint(scope.Facts[fact.Name]); !byPlatform[name] && !covered(text) {
			all[name] = text
		}
	}
	return all
}

// fact finds what a folder's recipe calls by a name: a fact of its own, or of the first recipe; -1 where there is none.
func (f *Facts) fact(folder, name string) int {
	is := func(in string) func(recipe.Fact) bool {
		return func(one recipe.Fact) bool { return one.Name == name && one.In == in }
	}
	if i := slices.IndexFunc(f.recipe.Facts, is(folder)); i >= 0 {
		return i
	}
	return slices.IndexFunc(f.recipe.Facts, is(""))
}

// known is what the graph calls the fact that a folder's recipe calls by a name.
func (f *Facts) known(folder, name string) string {
	if i := f.fact(folder, name); i >= 0 {
		return recipe.Named(f.recipe.Facts[i].In, name)
	}
	return name
}

func (f *Facts) fillGit(dirty bool, own []string) error {
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
		answer, err := f.Git.Dirty(own...)
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
		for _, name := range []string{fact.Name, recipe.Named(fact.In, fact.Name)} {
			if !slices.Contains(known, name) {
				known = append(known, name)
			}
		}
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

// Known returns what is known of the version and what was given by hand, by name, for a record of the build. Values of the
// environment are left out: they may be nobody's business.
func (f *Facts) Known() map[string]string {
	all := map[string]string{}
	for name, value := range f.git {
		all["git."+name] = fmt.Sprint(value)
	}
	maps.Copy(all, f.given)
	return all
}

// givenFor is the value that was given by hand for a fact: under its name in the graph, or for all facts of its name.
func (f *Facts) givenFor(fact recipe.Fact) (string, bool) {
	if value, is := f.given[recipe.Named(fact.In, fact.Name)]; is {
		return value, true
	}
	value, is := f.given[fact.Name]
	return value, is
}

// Scope evaluates the facts for one platform as a folder's recipe has them: its own, and those of the first recipe for which it has none.
func (f *Facts) Scope(folder string, p platform.Platform) (*recipe.Scope, error) {
	s := &recipe.Scope{
		Git:      f.git,
		Env:      f.env,
		Date:     f.date,
		Now:      f.now,
		Run:      f.run,
		Why:      f.why,
		Platform: map[string]any{"os": p.OS, "architecture": p.Architecture, "variant": p.Variant},
		Facts:    map[string]any{},
	}
	s.File = f.filesOf(folder)
	e := &evaluation{facts: f, folder: folder, platform: p, scope: s, state: map[string]int{}, fails: map[string]error{}}
	all := &recipe.Errors{File: f.recipe.File} // all that is wrong, not the first alone
	for _, fact := range f.recipe.Facts {
		if fact.In != folder && fact.In != "" {
			continue
		}
		var own *recipe.Errors
		if err := e.fact(fact.Name, nil); errors.As(err, &own) {
			for _, p := range own.Problems {
				all.Add(p.Pos, "%s", p.Message)
			}
		} else if err != nil {
			return nil, err
		}
	}
	if len(all.Problems) > 0 {
		return nil, all
	}
	return s, nil
}

// evaluation computes facts in the order in which they need each other.
type evaluation struct {
	facts  *Facts
	folder string // whose recipe names the facts
	scope  *recipe.Scope
	state  map[string]int // 1: begun, 2: done, 3: failed
	fails  map[string]error

	platform platform.Platform
	first    *recipe.Scope // of the first recipe
	firstErr error
}

// fact computes a fact once, with those that it needs. What went wrong is told to all that need it.
func (e *evaluation) fact(name string, path []string) error {
	switch e.state[name] {
	case 2:
		return nil
	case 3:
		return e.fails[name]
	}
	err := e.compute(name, path)
	if err != nil {
		e.state[name], e.fails[name] = 3, err
	}
	return err
}

// foreign takes over a fact of the first recipe.
func (e *evaluation) foreign(fact recipe.Fact) error {
	if e.first == nil {
		e.first, e.firstErr = e.facts.Scope(fact.In, e.platform)
	}
	if e.firstErr != nil {
		return e.firstErr
	}
	e.scope.Facts[fact.Name] = e.first.Facts[fact.Name]
	e.state[fact.Name] = 2
	return nil
}

func (e *evaluation) compute(name string, path []string) error {
	index := e.facts.fact(e.folder, name)
	if index < 0 {
		return nil
	}
	fact := e.facts.recipe.Facts[index]
	path = append(path, name)
	if e.state[name] == 1 {
		return e.facts.recipe.File.Problem(fact.Pos, "the fact %q needs itself: %s", name, strings.Join(path, " needs "))
	}
	e.state[name] = 1
	if given, ok := e.facts.givenFor(fact); ok {
		if err := e.allowed(fact, given); err != nil {
			return err
		}
		e.scope.Facts[name] = given
		e.state[name] = 2
		return nil
	}
	if fact.In != e.folder { // it is the first recipe's, and means what that one calls by its names
		return e.foreign(fact)
	}
	if !fact.Value.Given {
		return e.facts.recipe.File.Problem(fact.Pos, "the fact %q is to be given: --fact %s=VALUE%s", name, name, oneOf(fact.Allowed))
	}
	for _, expression := range fact.Value.Expressions() {
		for _, needed := range expression.Uses("facts") {
			if err := e.fact(needed, path); err != nil {
				return err
			}
		}
	}
	e.scope.Fact = name
	value, err := fact.Value.Value(e.scope)
	e.scope.Fact = ""
	if err != nil {
		return err
	}
	if value == nil {
		return e.facts.recipe.File.Problem(fact.Pos, "the fact %q has no value here; give a default with ??", name)
	}
	if err := e.allowed(fact, value); err != nil {
		return err
	}
	e.scope.Facts[name] = value
	e.state[name] = 2
	return nil
}

// allowed refuses a value that a fact may not have.
func (e *evaluation) allowed(fact recipe.Fact, value any) error {
	if text := fmt.Sprint(value); len(fact.Allowed) > 0 && !slices.Contains(fact.Allowed, text) {
		return e.facts.recipe.File.Problem(fact.Pos, "the fact %q cannot be %q%s", fact.Name, text, oneOf(fact.Allowed))
	}
	return nil
}

func oneOf(allowed []string) string {
	if len(allowed) == 0 {
		return ""
	}
	return ": it is one of " + strings.Join(allowed, ", ")
}

// Told is what people may give by hand, with what it is now.
type Told struct {
	Name    string
	Value   string // for this machine's platform
	Given   bool   // by hand
	Default string // as the recipe writes it; empty: it must be given
	Allowed []string
	About   string
}

// Tell lists the facts of the recipe, in its order. Values that are covered are left out.
func (f *Facts) Tell(p platform.Platform, covered func(text string) bool) (list []Told, err error) {
	scopes := map[string]*recipe.Scope{}
	for _, fact := range f.recipe.Facts {
		if scopes[fact.In] == nil {
			if scopes[fact.In], err = f.Scope(fact.In, p); err != nil {
				return nil, err
			}
		}
		one := Told{Name: recipe.Named(fact.In, fact.Name), Default: fact.Value.Source(), Allowed: fact.Allowed, About: fact.About}
		_, one.Given = f.givenFor(fact)
		if text := fmt.Sprint(scopes[fact.In].Facts[fact.Name]); !covered(text) {
			one.Value = text
		}
		list = append(list, one)
	}
	return list, nil
}
