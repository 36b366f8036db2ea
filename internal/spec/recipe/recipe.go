// Package recipe turns the text of imbricat.yaml into a typed recipe in which every value knows its position.
//
// Parsing is strict and complete: every mistake that the text alone shows is found and reported at once. The package
// reads no file, no environment and no version control: expressions are compiled and type-checked here and evaluated
// with a Scope that package facts provides.
package recipe

import (
	"slices"

	"imbricat/internal/ground/platform"
)

// Version is the format that this program reads and writes.
const Version = 1

// DefaultName is the file that a recipe is looked for in.
const DefaultName = "imbricat.yaml"

// LockName is the file that holds what a recipe's references were resolved to.
const LockName = "imbricat.lock"

// Pos is a place in the recipe's text: line and column count from 1.
type Pos struct{ Line, Column int }

// Recipe is a parsed recipe. Images and stages stand in the order of the text.
type Recipe struct {
	File    *File
	Sources []Sources // of each recipe of the graph that says something
	Facts   []Fact
	Secrets []Secret
	Stages  []Stage
	Images  []Image
	Silence []string // codes of warnings that are not given
	Cache   *Cache   // nil: none is named
	// Notify are addresses that are told what ship and push did.
	Notify []Notice
	// Authorities are files of the project with certificates that commands are to believe.
	Authorities []Authority

	needs map[string][]string // stage or image → those that its bases, steps, values and checks name
}

// Needs returns the stages and images that a stage or an image names, on whatever platform or condition.
func (r *Recipe) Needs(name string) []string { return r.needs[name] }

// Has reports whether a stage or an image is meant by a name or a pattern.
func (r *Recipe) Has(name string) bool {
	return slices.ContainsFunc(r.Images, func(i Image) bool { return i.Matches(name) }) || slices.ContainsFunc(r.Stages, func(s Stage) bool { return s.Matches(name) })
}

// Names lists the images and stages.
func (r *Recipe) Names() (all []string) {
	for i := range r.Images {
		all = append(all, r.Images[i].Name)
	}
	for i := range r.Stages {
		all = append(all, r.Stages[i].Name)
	}
	return all
}

// Authority is a file of the project with certificates.
type Authority struct {
	Pos  Pos
	File string
}

// Notice is an address that is told of runs.
type Notice struct {
	Pos    Pos
	To     Template
	Secret string   // that signs what it is told; empty: it is not signed
	On     []string // outcomes of a receipt
}

// Cache is the shared cache that a recipe names.
type Cache struct {
	Pos   Pos
	Share Template // a repository, or a folder that starts with ./, ../ or /
	// Direction is read, write or both.
	Direction string
}

// units are the stages and images of a folder's recipe.
func (r *Recipe) units(folder string) (all []*Stage) {
	for i := range r.Stages {
		all = append(all, &r.Stages[i])
	}
	for i := range r.Images {
		all = append(all, &r.Images[i].Stage)
	}
	return slices.DeleteFunc(all, func(s *Stage) bool { return s.In != folder })
}

// silence has no step of a stage or an image give the warnings.
func (s *Stage) silence(codes []string) {
	quieten := func(steps []Step) []Step {
		steps = slices.Clone(steps) // images of one entry share them
		for i := range steps {
			steps[i].Silence = append(slices.Clone(steps[i].Silence), codes...)
		}
		return steps
	}
	if len(codes) == 0 {
		return
	}
	s.Steps, s.For = quieten(s.Steps), slices.Clone(s.For)
	for i := range s.For {
		s.For[i].Steps = quieten(s.For[i].Steps)
	}
}

// Sources says what of the project folder may be taken in.
type Sources struct {
	In              string   // the folder for which it says so, with all below it; empty: the project folder
	LeaveOut        []string // patterns with gitignore's semantics, relative to the folder
	HonourGitignore bool
}

// Fact is a named value of a build.
type Fact struct {
	In    string // the folder of its recipe
	Name  string
	Pos   Pos
	Value Template // not given: it must be given by hand
	// Allowed are the values that it may have; none: any.
	Allowed []string
	About   string // what it is, for people
}

// BaseKind tells what a stage or an image starts from.
type BaseKind int

// The kinds of base.
const (
	NoBase BaseKind = iota
	ReferenceBase
	ImageBase
	StageBase
)

// Base is what a stage or an image starts from.
type Base struct {
	Kind      BaseKind
	Pos       Pos
	Reference Template // ReferenceBase
	Explicit  bool     // ReferenceBase: it is written as one, so that a plain name is the store's
	Name      string   // ImageBase, StageBase
	plain     bool     // the name alone is written: whether it is an image or a stage is found out
}

// Stage is a file tree made by steps, from which images and other stages take.
type Stage struct {
	Name     string // as the graph has it
	In       string // the folder of its recipe, relative to the project folder; empty: the same
	Pos      Pos
	Base     Base
	Here     bool // run steps run on this machine's platform, whatever the wanted one
	Steps    []Step
	Defaults Defaults
	For      []Variant // what differs by platform

	// Said is all that the recipe says of it, in a form that formatting and comments do not change.
	Said string
	// Held is that without what makes no difference to what it holds: where it goes, and what is held against it.
	Held string

	results []UnitUse     // of whose files its values are made
	content []*Expression // of what it holds: all but those of where it goes and what is held against it
	all     []*Expression
}

// Defaults are what the steps of a stage or an image have where they do not say otherwise.
type Defaults struct {
	Access
	AlsoFor    []string // kinds of steps that the access holds for, and that keep what is there otherwise: take, unpack
	LinesBy    Template // run steps: the shell
	Strict     *bool    // run steps; nil: not given
	WorkingDir Template // run steps
	User       Template // run steps
	Env        []Pair   // run steps
}

// For is the access of a kind of step that has what it takes as it is there unless it is asked for.
func (d Defaults) For(kind string) Access {
	if slices.Contains(d.AlsoFor, kind) {
		return d.Access
	}
	return Access{}
}

// Image is a stage that also gets settings, platforms and destinations.
type Image struct {
	Stage
	Of          string              // the entry of the recipe that stands for this image and others; empty: for this one alone
	Each        map[string]string   // the values that this one has of the entry's lists
	Platforms   []platform.Platform // never empty
	Settings    Settings
	Annotations []Pair
	Publish     []Destination
	Compression string // gzip, zstd or none; empty: gzip
	Stack       Stack
	Checks      []Check
	// AlsoNeeds are patterns of paths that the image depends on and that nothing else tells, relative to the recipe's folder.
	AlsoNeeds []string
}

// Variant is what a stage or an image has besides, or instead, for one platform.
type Variant struct {
	Pos      Pos
	Platform platform.Platform
	Base     *Base // nil: the image's own
	Steps    []Step
	Settings Settings // of an image
	Checks   []Check  // of one too
}

// Step is one entry of a stage or an image.
type Step struct {
	Name string // as the person named it, or empty
	Pos  Pos
	Only []platform.Platform // empty: for all
	When *Expression         // nil: always
	// Silence holds codes of warnings that this step does not give.
	Silence []string
	// Annotations are of the layers that hold what the step lays down.
	Annotations []Pair
	// RisingTimes gives all files that the step leaves a time after that of every file below it.
	RisingTimes bool
	Do          Action
}

// Access is the owner and mode that a step gives to what it lays down; empty templates leave the default.
type Access struct {
	Owner Template
	Mode  Template
}

// Or fills what is not given from defaults.
func (a Access) Or(d Access) Access {
	if !a.Owner.Given {
		a.Owner = d.Owner
	}
	if !a.Mode.Given {
		a.Mode = d.Mode
	}
	return a
}

// Pair is a key with its value; keys are unique within their list.
type Pair struct {
	Key   string
	Value Template
}

// Settings are what a container runtime reads from the image's config. A nil list was not given; an empty one clears. An empty value
// of Env or Labels drops what is inherited.
type Settings struct {
	Entrypoint []Template
	Command    []Template
	Env        []Pair
	User       Template
	WorkingDir Template
	Ports      []Template
	Volumes    []Template
	NoPorts    bool // none are inherited
	NoVolumes  bool
	Labels     []Pair
	StopSignal Template
	Author     Template
}

// Destination is a repository with the tags to write there.
type Destination struct {
	Name string
	Pos  Pos
	To   Template
	Tags []Tag
	// Fixed are patterns (path.Match) of tags that never move to another digest.
	Fixed []string
	// Refuse has values that no tag may hold refused instead of mended.
	Refuse bool
	// Requires are platforms that an index must have which the tags are to stand on.
	Requires []platform.Platform
	// Checks are held besides those of the image before the tags are written there.
	Checks []Check
	// OnFailure is the repository that an image of which a check does not hold goes to, by digest alone; not given: to none.
	OnFailure Template
}

// Tag is a tag to write, always or on a condition.
type Tag struct {
	Name Template
	When *Expression // nil: always
	// Prefixes adds the moving prefixes of a version: 1.4 and 1 for 1.4.0.
	Prefixes bool
	// For has the tag stand on the images for these platforms, one tag for each, and not on the index; empty: on the index.
	For []platform.Platform
}

// EachStep calls visit for every step of the recipe, for every platform.
func (r *Recipe) EachStep(visit func(*Step)) {
	stage := func(s *Stage) {
		for i := range s.Steps {
			visit(&s.Steps[i])
		}
		for n := range s.For {
			for i := range s.For[n].Steps {
				visit(&s.For[n].Steps[i])
			}
		}
	}
	for i := range r.Stages {
		stage(&r.Stages[i])
	}
	for i := range r.Images {
		stage(&r.Images[i].Stage)
	}
}

// SaysNetwork reports whether the run step at a place says whether it has a network.
func (r *Recipe) SaysNetwork(pos Pos) (says bool) {
	r.EachStep(func(s *Step) {
		if run, is := s.Do.(*Run); is && s.Pos == pos {
			says = says || run.SaysNet
		}
	})
	return says
}

// Expressions calls visit for every expression of the recipe.
func (r *Recipe) Expressions(visit func(*Expression)) {
	for _, e := range r.File.expressions {
		visit(e)
	}
}
