// Package plan expands a recipe with its facts into what is to be built: one unit for each stage or image and
// platform, with every expression evaluated and every path checked.
//
// It does no input or output and knows no keys: what can be reused is the builder's question. A plan is never changed
// once it is made.
package plan

import (
	"time"

	"imbricat/internal/image"
	"imbricat/internal/platform"
	"imbricat/internal/recipe"
	"imbricat/internal/reference"
)

// Plan is what a build is to do. Units stand in an order in which each comes after those that it needs.
type Plan struct {
	File    *recipe.File
	Silence []string // codes of warnings that are not given
	Images  []*Image
	Units   []*Unit
	Secrets map[string]Secret // those that run steps use
	Share   string            // the shared cache that the recipe names: a reference as text, or empty
	Mode    string            // which way things go there: read, write or both
}

// Image is one image over all its platforms.
type Image struct {
	Name         string
	Units        []*Unit // one for each platform, in the recipe's order
	Destinations []Destination
}

// Destination is a repository with the tags that hold for this build.
type Destination struct {
	Name       string
	Repository reference.Reference
	Tags       []string
	Prefixes   []string // those of the tags that are moving prefixes of a version
	Named      []string // those of the tags that name a commit, or a tag of version control
	Held       []Held   // tags whose condition does not hold
	Fixed      []string // patterns of tags that never move to another digest
}

// Held is a tag that is not to be written, with the condition that does not hold.
type Held struct {
	Tag, When string
	Git       []string // what the condition asks of version control: "branch", "tag", …
}

// UnitID tells units apart.
type UnitID struct {
	Name     string
	Platform platform.Platform
}

// String is how people see a unit.
func (id UnitID) String() string { return id.Name + " " + id.Platform.String() }

// Unit is a stage or an image for one platform.
type Unit struct {
	ID          UnitID
	IsImage     bool
	Pos         recipe.Pos
	Machine     platform.Platform // that the base is for and that run steps run on; not the ID's where the stage is to run here
	Base        Base
	Steps       []Step
	Settings    image.Settings    // images only
	Annotations map[string]string // images only
	Version     string            // the fact "version" where the recipe has one
	Compression string            // images only: gzip, zstd or none
	Stack       recipe.Stack      // images only
	Checks      []Check           // images only
}

// Check is what an image must fulfil before it is shipped. Do is as in the recipe, with Command and Get evaluated beside it.
type Check struct {
	Do        recipe.Checked
	Command   []string // of a *recipe.TryCheck
	Arguments []string // of one too
	Get       string
}

// Base is what a unit starts from; the zero value is nothing at all.
type Base struct {
	Kind      recipe.BaseKind
	Pos       recipe.Pos
	Reference reference.Reference // ReferenceBase
	Unit      *Unit               // ImageBase, StageBase
}

// Step is a step with everything evaluated.
type Step struct {
	Label   string // the step's name, or what it does
	Pos     recipe.Pos
	Silence []string // codes of warnings that the step does not give
	// RisingTimes gives all files that the step leaves a time after that of every file below it.
	RisingTimes bool
	Do          Action
}

// Action is one of Copy, Take, Write, Link, Unpack, Fetch, Remove, Run. It tells all that it names, so that nobody else need
// know which kinds there are. Paths in the image are absolute and clean.
type Action interface {
	// Sources are what it takes of the project folder.
	Sources() []Source
	// Units are the stages and images of the recipe that it takes files of.
	Units() []*Unit
	// References are the images elsewhere that it takes files of.
	References() []ImageUse
	// Downloads are what it takes from addresses.
	Downloads() []Download
}

// Source is what an action takes of the project folder.
type Source struct {
	From       string // a path or a pattern, with slashes, relative to the project folder
	Pos        recipe.Pos
	Single     bool // it is one file, and no pattern
	LeaveOut   []string
	Structure  bool
	Follow     bool
	Attributes []string
}

// ImageUse is an image elsewhere that an action takes files of.
type ImageUse struct {
	Reference reference.Reference
	Pos       recipe.Pos
}

// Download is a file from an address.
type Download struct {
	Address string
	SHA256  string // in lower case
}

// nothing is of what an action does not name.
type nothing struct{}

func (nothing) Sources() []Source      { return nil }
func (nothing) Units() []*Unit         { return nil }
func (nothing) References() []ImageUse { return nil }
func (nothing) Downloads() []Download  { return nil }

// Target is where a step lays things in the image.
type Target struct {
	Path   string // absolute, clean
	Folder bool   // written with a slash at the end
}

// Owner is an owner and a group, as numbers or as names that are looked up in the image. A group of -1 is the primary
// group of the user who is named.
type Owner struct {
	UID, GID    int
	User, Group string // names; empty where the number holds
}

// Named tells whether something is to be looked up.
func (o Owner) Named() bool { return o.User != "" || o.Group != "" }

// Copy takes files of the project folder in.
type Copy struct {
	nothing
	From        []string // slashes, relative to the project folder
	FromPos     []recipe.Pos
	To          Target
	LeaveOut    []string
	Structure   bool
	Follow      bool
	CommitTimes bool
	Attributes  []string
	Owner       Owner
	OwnerPos    recipe.Pos
	Mode        ModeRule
}

// Take takes files out of another unit or of an image elsewhere.
type Take struct {
	nothing
	Unit      *Unit // nil: Reference
	Reference reference.Reference
	Pos       recipe.Pos
	Paths     []string // absolute, clean; may hold patterns
	PathPos   []recipe.Pos
	To        Target
	Owner     *Owner // nil: as it is there
	OwnerPos  recipe.Pos
	Mode      ModeRule
}

// Write makes a file.
type Write struct {
	nothing
	To       Target
	Text     string
	Owner    Owner
	OwnerPos recipe.Pos
	Mode     ModeRule
}

// Link makes a symbolic link.
type Link struct {
	nothing
	To     Target
	Target string
	Owner  Owner

	OwnerPos recipe.Pos
}

// Unpack lays down what an archive holds.
type Unpack struct {
	nothing
	From     string // of the project folder; empty: Address
	FromPos  recipe.Pos
	Address  string
	SHA256   string // of the archive, in lower case; may be empty for one of the project
	To       Target
	Strip    int
	LeaveOut []string
	Spread   []string
	AtMost   int64  // bytes that it may unpack to
	Owner    *Owner // nil: as the archive says
	OwnerPos recipe.Pos
	Mode     ModeRule
}

// Fetch lays down a file from an address.
type Fetch struct {
	nothing
	Address  string
	Pos      recipe.Pos
	SHA256   string
	To       Target
	Owner    Owner
	OwnerPos recipe.Pos
	Mode     ModeRule
}

// Remove deletes what lies below.
type Remove struct {
	nothing
	Paths   []string // absolute, clean; may hold patterns
	PathPos []recipe.Pos
}

// Run runs a command in what lies below.
type Run struct {
	nothing
	Lines    []string // of a shell, each of which must succeed
	Args     []string // a program with its arguments, where there are no lines
	In       string   // absolute, clean; empty: as the base says
	InPos    recipe.Pos
	User     *Owner // nil: as the base says
	UserPos  recipe.Pos
	Env      map[string]string
	Keep     []Keep // sorted by name, so that no two steps wait for each other in a circle
	Secrets  []SecretUse
	Network  bool
	FreshTmp bool
	Within   time.Duration
	Expires  time.Duration // 0: never
}

// Keep gives a kept directory to a run step.
type Keep struct {
	Name   string // with the platform, where each has its own
	At     string // absolute, clean
	AtOnce bool
}

// SecretUse gives a secret to a run step.
type SecretUse struct{ Name, At string }

// Secret says where a secret comes from.
type Secret struct {
	Pos      recipe.Pos
	Env      string
	File     string // relative to the project folder, or absolute
	Command  []string
	SSHAgent bool
}

// Sources implements Action.
func (c Copy) Sources() (all []Source) {
	for i, from := range c.From {
		all = append(all, Source{From: from, Pos: c.FromPos[i], LeaveOut: c.LeaveOut, Structure: c.Structure, Follow: c.Follow, Attributes: c.Attributes})
	}
	return all
}

// Units implements Action.
func (t Take) Units() []*Unit {
	if t.Unit == nil {
		return nil
	}
	return []*Unit{t.Unit}
}

// References implements Action.
func (t Take) References() []ImageUse {
	if t.Unit != nil {
		return nil
	}
	return []ImageUse{{t.Reference, t.Pos}}
}

// Sources implements Action.
func (u Unpack) Sources() []Source {
	if u.From == "" {
		return nil
	}
	return []Source{{From: u.From, Pos: u.FromPos, Single: true}}
}

// Downloads implements Action.
func (u Unpack) Downloads() []Download {
	if u.Address == "" {
		return nil
	}
	return []Download{{u.Address, u.SHA256}}
}

// Downloads implements Action.
func (f Fetch) Downloads() []Download { return []Download{{f.Address, f.SHA256}} }
