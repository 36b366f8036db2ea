// Package plan expands a recipe with its facts into what is to be built: one unit for each stage or image and
// platform, with every expression evaluated and every path checked.
//
// It does no input or output and knows no keys: what can be reused is the builder's question. A plan is never changed
// once it is made.
package plan

import (
	"slices"

	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/recipe"
	"imbricat/internal/spec/retention"
)

// Plan is what a build is to do. Units stand in an order in which each comes after those that it needs.
type Plan struct {
	File    *recipe.File
	Silence []string // codes of warnings that are not given
	Doubts  []Doubt
	Images  []*Image
	Stages  []*Unit // that are asked for by themselves
	Units   []*Unit
	Secrets map[string]Secret // those that run steps use
	Notify  []Notice
	Share   string // the shared cache that the recipe names: a reference as text, or empty
	// Direction is which way things go there: read, write or both.
	Direction string
}

// Notice is an address that is told of runs.
type Notice struct {
	To     string
	Secret string   // that signs what it is told; empty: it is not signed
	On     []string // outcomes of a receipt
}

// Image is one image over all its platforms.
type Image struct {
	Name         string
	Units        []*Unit // one for each platform, in the recipe's order
	Destinations []Destination
	// Said is where the recipe publishes it, where somebody has it go elsewhere; nil: Destinations are.
	Said []Destination
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
	// Platform is whose image the tags stand on; the zero value: on the index over all platforms.
	Platform platform.Platform
	// Requires are platforms that the index must have.
	Requires []platform.Platform
	// OnFailure is where the image goes, by digest alone, when a check of it does not hold; the zero value: nowhere.
	OnFailure reference.Reference
}

// Whole reports whether the index goes there, and not the image for one platform.
func (d *Destination) Whole() bool { return d.Platform == platform.Platform{} }

// Single is the platform whose image goes there, as people see it; empty where the index does.
func (d *Destination) Single() string {
	if d.Whole() {
		return ""
	}
	return d.Platform.String()
}

// HeldTags returns the tags that are held back.
func (d *Destination) HeldTags() []string {
	names := []string{}
	for _, h := range d.Held {
		names = append(names, h.Tag)
	}
	return names
}

// Destinations returns where the recipe publishes an image of the plan; none where it has no such image.
func (p *Plan) Destinations(image string) []Destination {
	for _, i := range p.Images {
		if i.Name == image {
			if i.Said != nil {
				return i.Said
			}
			return i.Destinations
		}
	}
	return nil
}

// MovingTags returns the tags of a repository that the plan moves, or would where their conditions held.
func (p *Plan) MovingTags(repository string) (moving []string) {
	for _, i := range p.Images {
		for _, d := range i.Destinations {
			if d.Repository.String() != repository {
				continue
			}
			for _, tag := range d.Tags {
				if slices.Contains(d.Prefixes, tag) || !slices.Contains(d.Named, tag) && !retention.Match(d.Fixed, tag) {
					moving = append(moving, tag)
				}
			}
			moving = append(moving, d.HeldTags()...)
		}
	}
	return moving
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
	Of          string // of an image of lists: the entry of the recipe that stands for it and others
	Pos         recipe.Pos
	Machine     platform.Platform // that the base is for and that run steps run on; not the ID's where the stage is to run here
	Base        Base
	Steps       []Step
	Values      ImageValues        // images only; without those of Late
	Late        *Late[ImageValues] // nil: all values are known
	Version     string             // the fact "version" where the recipe has one
	Compression string             // images only: gzip, zstd or none
	Stack       recipe.Stack       // images only
	Checks      []Check            // images only
	ChecksOf    []string           // of a stage that nothing but checks needs: the images whose checks name it
}

// Needs lists the units that a unit starts from, takes files of, or makes values of, each once.
func (u *Unit) Needs() []*Unit {
	var all []*Unit
	add := func(more ...*Unit) {
		for _, one := range more {
			if one != nil && !slices.Contains(all, one) {
				all = append(all, one)
			}
		}
	}
	add(u.Base.Unit)
	for _, s := range u.Steps {
		if add(s.Do.Units()...); s.Late != nil {
			add(s.Late.Needs...)
		}
	}
	if u.Late != nil {
		add(u.Late.Needs...)
	}
	return all
}

// Check is what an image must fulfil before it is shipped. Do is as in the recipe, with Command and Get evaluated beside it.
type Check struct {
	Pos recipe.Pos
	// Destination is the one that it is held for; empty: it is the image's, and is held wherever that goes.
	Destination string
	Do          recipe.Checked
	Command     []string // of a *recipe.TryCheck
	Arguments   []string // of one too
	Env         []string // NAME=VALUE, sorted; of one too
	Get         string
	Stage       *Unit // of a *recipe.StageCheck; nil where checks are not planned
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
	// Annotations are of the layers that hold what the step lays down.
	Annotations map[string]string
	// RisingTimes gives all files that the step leaves a time after that of every file below it.
	RisingTimes bool
	Do          Action        // without the values of Late
	Late        *Late[Action] // nil: all values are known
}

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

// Named reports whether something is to be looked up.
func (o Owner) Named() bool { return o.User != "" || o.Group != "" }

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
	In       string // the folder of its recipe below the project folder
	Env      string
	File     string // relative to that folder, or absolute
	Command  []string
	SSHAgent bool
	Needs    []string // secrets that Text is made of
	// Text makes the secret of others; nil: it comes from elsewhere.
	Text func(values map[string]string) (string, error)
}
