// Package engine carries out a plan: it finds what steps take in, reuses or makes what they lay down, and puts images together in
// the store. It is the graph of that work, and says what depends on what; how each piece is done is other packages' matter.
// It prints nothing and reports events; what is elsewhere is given to it.
package engine

import (
	"context"
	"errors"
	"time"

	"imbricat/internal/baseimage"
	"imbricat/internal/compose"
	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/executor"
	"imbricat/internal/explain"
	"imbricat/internal/layering"
	"imbricat/internal/order"
	"imbricat/internal/plan"
	"imbricat/internal/platform"
	"imbricat/internal/sources"
	"imbricat/internal/store"
	"imbricat/internal/trace"
	"imbricat/internal/tree"

	"imbricat/internal/command"
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
	// Created gives the time that an image is said to be made, from which paths of the project folder it takes in.
	Created(ctx context.Context, touches func(path string) bool) (time.Time, error)
	// Committed reports whether images are said to be made from a commit.
	Committed() bool
	// Difference tells how the project folder differs from that commit.
	Difference() (Difference, error)
}

// Inputs are what a plan is carried out on. All fields must be set but those that say otherwise.
type Inputs struct {
	Plan     *plan.Plan
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
	Divisions    map[string]*order.Rules
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

	forget func(trace.Entry) bool // of tests: what is left out of traces
}

// Result is what a build made.
type Result struct {
	Images []ImageResult
	Steps  []StepResult
	Took   time.Duration
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
}

// Run builds every image of the plan. Everything that can be found wrong without work is found first, and then there is no
// result. Of a build that fails later the result holds what was done.
func Run(ctx context.Context, o Options) (*Result, error) {
	result, err := run(ctx, o)
	var away *store.AwayError
	for range mostRetries {
		switch {
		case ctx.Err() != nil:
			return result, err
		case errors.As(err, &away) && len(away.Places) > 0:
			// What a shared cache had is not to be had any more: it is made here.
			o.Sink.Send(event.Warning{Code: event.SharedCache, Text: away.Error() + "; what needs it is built here"})
			o.Store.ForgetPlaces(away.Places)
			o.Shared = nil
		case errors.Is(err, compose.ErrForgotten):
			o.Sink.Send(event.Warning{Code: event.Damaged, Text: err.Error() + "; it is read again"})
		default:
			return result, err
		}
		result, err = run(ctx, o)
	}
	return result, err
}

// mostRetries bounds how often a build begins again without what turned out to be of no use.
const mostRetries = 3

func run(ctx context.Context, o Options) (*Result, error) {
	started := time.Now()
	w := newWork(ctx, o, false)
	defer w.close()
	if err := w.prepare(ctx); err != nil {
		return nil, err
	}
	for _, u := range o.Plan.Units {
		w.unit(u)
	}
	var images []*imageNode
	for _, img := range o.Plan.Images {
		images = append(images, w.image(img))
	}
	err := w.graph.Run(ctx)
	result := &Result{Steps: w.results()}
	for _, i := range images {
		if i.result.Descriptor.Digest != "" {
			result.Images = append(result.Images, i.result)
		}
	}
	if err == nil {
		w.noteParts()
	}
	var away *store.AwayError
	if o.Shared != nil && o.Shared.Writes() && ctx.Err() == nil && !errors.As(err, &away) {
		w.gather(ctx, result)
	}
	w.tools.Project.Save()
	// What could not be synced is only looked at once more, when the machine has started again.
	_ = o.Store.SyncSnapshots()
	for _, text := range o.Store.Spoilt() {
		o.Sink.Send(event.Warning{Code: event.Damaged, Text: text})
	}
	result.Took = time.Since(started)
	return result, err
}
