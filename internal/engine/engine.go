// Package engine carries out a plan: it finds what steps take in, reuses or makes what they lay down, and puts images together in
// the store. It is the graph of that work, and says what depends on what; how each piece is done is other packages' matter.
// It prints nothing and reports events; what is elsewhere is given to it.
package engine

import (
	"context"
	"time"

	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/compose"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/explain"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/sources"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/paths"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/division"
	"imbricat/internal/spec/plan"
)

// Shared is a shared cache. What it finds lies in the store afterwards; what it does not find in time is not there.
type Shared interface {
	baseimage.Indexes
	// Run looks for runs of a command by its key.
	Run(ctx context.Context, key digest.Key)
	// Layer looks for the record of a layer by its key.
	Layer(ctx context.Context, key digest.Key)
	// Writes reports whether what was finished will be shared.
	Writes() bool
}

// History is what version control and the facts know of the project folder.
type History interface {
	compose.CommitTimes
	// Created returns the time that an image is said to be made, from which paths of the project folder it takes in.
	Created(ctx context.Context, touches paths.Set) (time.Time, error)
	// Revision returns the newest commit that touched what an image takes in, or what is said of it; empty: there is none. It is given the
	// image's units for all platforms, and which files of the project folder are taken in; nil: none are.
	Revision(ctx context.Context, of []*plan.Unit, takes paths.Set) (string, error)
	// Says names what the recipe, the lock and files that values ask for say of an image now; empty where that is not known.
	Says(ctx context.Context, of []*plan.Unit) (string, error)
	// Edited lists those of changed files by which they say otherwise than in the commit that is checked out.
	Edited(ctx context.Context, of []*plan.Unit, changed []string) ([]string, error)
	// Committed reports whether images are said to be made from a commit.
	Committed() bool
	// Difference tells how the project folder differs from that commit.
	Difference() (Difference, error)
}

// Difference is how the project folder differs from its commit, in paths relative to it.
type Difference struct {
	Changed []string        // known to version control and other than in the commit
	Tracked map[string]bool // what the commit has
}

// Inputs are what a plan is carried out on. All fields must be set but those that say otherwise.
type Inputs struct {
	Plan *plan.Plan
	// Whole is the plan over all platforms, where Plan is for some; nil: it is, or what the others take in is not known.
	Whole    *plan.Plan
	Store    *store.Store
	Folder   *tree.Source    // the project folder
	Memory   *sources.Memory // of its files
	Bases    baseimage.Finder
	History  History
	Executor executor.Executor // of commands
	Sink     event.Sink
	// Project names the project folder, for finding what its steps made last.
	Project string
	// Fresh are the steps, by label or place, that are done again; FreshAll does all of them again.
	Fresh    []string
	FreshAll bool
	// Divisions are the rules of the lock, by image.
	Divisions    map[string]*division.Rules
	Predecessors layering.Predecessors // may be nil
	Shared       Shared                // may be nil
	Past         explain.Past          // may be nil
}

// Options are what a build needs. All fields must be set but those that say otherwise.
type Options struct {
	Inputs
	Downloads compose.Downloader
	Secrets   command.Secrets
	// Build names this build in what it keeps.
	Build string
	// KeepGoing finishes what does not need what failed.
	KeepGoing bool
	// Annotations are set on every image unless the recipe says otherwise.
	Annotations map[string]string

	// Gather collects what others may want of the build in its result, as is done for a shared cache that is written to.
	Gather bool
	// Take is what is wanted as files; nil: nothing is.
	Take *Taking
	// Done is called when all is built, with the steps in the order of the recipe, whose files can be read until it returns; nil: nobody asks.
	Done func(ctx context.Context, r *Result, steps []*Done) error

	forget func(trace.Entry) bool // of tests: what is left out of traces
}

// Result is what a build made.
type Result struct {
	Images []ImageResult
	Steps  []StepResult
	// Checked holds the stages that only checks need, with what their commands failed of; nil: they are built.
	Checked map[*plan.Unit]error
	Took    time.Duration
	// Of a build that shares: the runs that it used, the layers of trees, and the foreign layers.
	Runs   []*store.Run
	Layers map[digest.Key]*store.Record
	Bases  []digest.DiffID
}

// ImageResult is one image over its platforms.
type ImageResult struct {
	Name         string
	Descriptor   digest.Descriptor // of the index
	Created      time.Time
	Platforms    []PlatformResult
	Destinations []plan.Destination
}

// PlatformResult is an image for one platform.
type PlatformResult struct {
	Platform   platform.Platform
	Descriptor digest.Descriptor
	Layers     int
	Packed     int64 // bytes of all layers as they are stored
	Unpacked   int64 // bytes of the tars of the image's own layers
}

// StepResult tells how a step of an image went.
type StepResult struct {
	Unit     string
	Platform platform.Platform
	Place    string // gauge:3
	Label    string
	Outcome  event.Outcome
	Reason   event.Reason
	Files    int
	Bytes    int64             // of the files
	Layer    digest.Descriptor // the largest of its layers
	DiffID   digest.DiffID     // of the layer, where it is the step's alone
	Layers   int               // that hold something of it
	Packed   int64             // bytes of these
	Took     time.Duration
	Spared   time.Duration // what it took when it was done, where it is reused

	// Of a command also: its record, and what its key is made of.
	Run    *store.Run
	Inputs string
	Failed int        // how often it failed before it ended well
	Before *store.Run // the last run of the same command on this machine, where it ran now; nil: there is none
}
