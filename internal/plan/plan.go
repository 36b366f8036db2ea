// Package plan expands a recipe with its facts into what is to be built: one unit for each stage or image and
// platform, with every expression evaluated and every path checked.
//
// It does no input or output and knows no keys: what can be reused is the builder's question. A plan is never changed
// once it is made.
package plan

import (
	"imbricat/internal/image"
	"imbricat/internal/platform"
	"imbricat/internal/recipe"
	"imbricat/internal/reference"
)

// Plan is what a build is to do. Units stand in an order in which each comes after those that it needs.
type Plan struct {
	File   *recipe.File
	Images []*Image
	Units  []*Unit
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
	Held       []string // tags whose condition does not hold
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
	Base        Base
	Steps       []Step
	Settings    image.Settings    // images only
	Annotations map[string]string // images only
	Version     string            // the fact "version" where the recipe has one
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
	Label string // the step's name, or what it does
	Pos   recipe.Pos
	Do    Action
}

// Action is one of Copy, Take, Write, Link. Paths in the image are absolute and clean; Folder remembers that the
// person wrote a slash at the end.
type Action interface{ isAction() }

// Target is where a step lays things in the image.
type Target struct {
	Path   string // absolute, clean
	Folder bool   // written with a slash at the end
}

// Owner is a numeric owner and group.
type Owner struct{ UID, GID int }

// Copy takes files of the project folder in.
type Copy struct {
	From     []string // slashes, relative to the project folder
	FromPos  []recipe.Pos
	To       Target
	LeaveOut []string
	Owner    Owner
	Mode     ModeRule
}

// Take takes files out of another unit or of an image elsewhere.
type Take struct {
	Unit      *Unit // nil: Reference
	Reference reference.Reference
	Pos       recipe.Pos
	Paths     []string // absolute, clean; may hold patterns
	PathPos   []recipe.Pos
	To        Target
	Owner     *Owner // nil: as it is there
	Mode      ModeRule
}

// Write makes a file.
type Write struct {
	To    Target
	Text  string
	Owner Owner
	Mode  ModeRule
}

// Link makes a symbolic link.
type Link struct {
	To     Target
	Target string
	Owner  Owner
}

func (Copy) isAction()  {}
func (Take) isAction()  {}
func (Write) isAction() {}
func (Link) isAction()  {}
