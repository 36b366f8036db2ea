// Package build carries out a plan: it finds what steps take in, reuses or packs their layers, and puts images
// together in the store.
//
// It is the scheduler, and alone starts workers for steps. It prints nothing and reports events; where bases come from
// is given to it.
package build

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/image"
	"imbricat/internal/layer"
	"imbricat/internal/order"
	"imbricat/internal/plan"
	"imbricat/internal/platform"
	"imbricat/internal/reference"
	"imbricat/internal/sandbox"
	"imbricat/internal/store"
	"imbricat/internal/trace"
	"imbricat/internal/tree"
)

// Bases finds images that units start from or take from.
type Bases interface {
	// Resolve finds the image for a platform without fetching its layers. An image without the platform is an
	// *image.NoPlatformError.
	Resolve(ctx context.Context, ref reference.Reference, p platform.Platform) (*Resolved, error)
}

// Shared is a shared cache. What it finds lies in the store afterwards; what it does not find in time is not there.
type Shared interface {
	// Run looks for runs of a command by its key.
	Run(ctx context.Context, key digest.Key)
	// Layer looks for the record of a layer by its key.
	Layer(ctx context.Context, key digest.Key)
	// Index looks for what a foreign layer holds.
	Index(ctx context.Context, id digest.DiffID)
	// Writes tells whether what was finished will be shared.
	Writes() bool
}

// Resolved is an image for one platform that is ready to be brought into the store.
type Resolved struct {
	Name       string            // as people see it
	Root       digest.Descriptor // what the reference stands for: an index or a manifest
	Descriptor digest.Descriptor // the platform's manifest
	// Here tells whether the store has all of it.
	Here func(ctx context.Context) bool
	// Bring puts the manifest with all that it needs into the store.
	Bring func(ctx context.Context) error
	// Lend puts the manifest and the config alone into the store, and notes where the layers can be had; nil where they
	// cannot be had one by one.
	Lend func(ctx context.Context) error
}

// Options are what a build needs. All fields must be set but those that say otherwise.
type Options struct {
	Plan   *plan.Plan
	Store  *store.Store
	Source *tree.Source
	Memory *Memory // of the source's file digests
	Bases  Bases
	Sink   event.Sink
	// Created gives the time that an image is said to be made, from which paths of the project folder it takes in.
	Created func(ctx context.Context, touches func(path string) bool) (time.Time, error)
	// Difference tells how the project folder differs from the commit that images are said to be made from; nil where nobody
	// is told so.
	Difference func() (Difference, error)
	// CommitTimes gives for each path of the project folder the time of the last commit that touched it, in seconds.
	CommitTimes func(ctx context.Context) (func(path string) int64, error)
	// Download gives what an address holds, with its size in bytes or -1.
	Download func(ctx context.Context, address string) (io.ReadCloser, int64, error)
	// Project names the project folder, for finding what its steps made last.
	Project string
	// Fresh are the steps, by label or number, that are done again; FreshAll does all of them again.
	Fresh    []string
	FreshAll bool
	// Sandbox opens what commands run in; nil where there are none.
	Sandbox func(ctx context.Context) (*sandbox.Box, error)
	// Secret gives the value of a secret that a step uses.
	Secret func(ctx context.Context, name string, s plan.Secret) ([]byte, error)
	// Shared is the shared cache; nil where none is used.
	Shared Shared
	// Build names this build in what it keeps.
	Build string
	// Past gives the steps of the last build of a unit, in order; nil where none is known.
	Past func(unit, platform string) []PastStep
	// Jobs is how many commands run at a time; 0: as many as there are processors, and at least 4.
	Jobs int
	// KeepGoing finishes what does not need what failed.
	KeepGoing bool
	// Annotations are set on every image unless the recipe says otherwise.
	Annotations map[string]string

	// Weigh lets a preview tell what the layers of images hold.
	Weigh bool
	// Divisions are the rules of the lock, by image.
	Divisions map[string]*order.Rules
	// Predecessor gives the image of a unit that was published last, for policies that follow it; nil where there is none.
	Predecessor func(ctx context.Context, u *plan.Unit) (*Predecessor, error)

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
	Reason   string
	Files    int
	Bytes    int64             // of the files
	Layer    digest.Descriptor // the largest of its layers
	DiffID   digest.DiffID     // of the layer, where it is the step's alone
	Layers   int               // that hold something of it
	Packed   int64             // bytes of these
	Took     time.Duration
	Spared   time.Duration // what it took when it was done, where it is reused

	// Of a command also: all that there is to say of the reason, its record, and what its key is made of.
	More   []string
	Run    *store.Run
	Inputs string

	run  digest.Key // names the command with what lies below it
	done bool       // what became of it is known
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
		case errors.Is(err, errForgotten):
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

// errForgotten is wrapped where the store has lost what a build relied on, and the next one does not.
var errForgotten = errors.New("the store has it no more")

func run(ctx context.Context, o Options) (*Result, error) {
	started := time.Now()
	b := newBuilder(o)
	defer b.close()
	if err := b.prepare(ctx); err != nil {
		return nil, err
	}
	result := &Result{}
	group := newCrew(ctx, o.KeepGoing)
	whole := ctx
	ctx = group.ctx
	b.ctx = ctx
	for _, u := range o.Plan.Units {
		group.Go(func() error {
			_, err := b.unit(ctx, u)
			return err
		})
	}
	images := make([]ImageResult, len(o.Plan.Images))
	for i, img := range o.Plan.Images {
		group.Go(func() (err error) {
			images[i], err = b.image(ctx, img)
			return err
		})
	}
	err := group.Wait()
	for _, one := range images {
		if one.Descriptor.Digest != "" {
			result.Images = append(result.Images, one)
		}
	}
	for _, u := range o.Plan.Units {
		s := b.units[u]
		for _, t := range s.trees {
			if t.refilled.Load() {
				t.report.Outcome, t.report.Reason = event.Ran, refilled
			}
		}
		for _, step := range s.steps {
			if step.Label != "" && (s.err == nil || step.done) {
				result.Steps = append(result.Steps, step)
			}
		}
	}
	creditFirst(result.Steps)
	if err == nil {
		b.noteParts()
	}
	var away *store.AwayError
	if o.Shared != nil && o.Shared.Writes() && whole.Err() == nil && !errors.As(err, &away) {
		b.gather(whole, result)
	}
	b.o.Memory.Save(o.Source)
	// What could not be synced is only looked at once more, when the machine has started again.
	_ = b.o.Store.SyncSnapshots()
	for _, text := range b.o.Store.Spoilt() {
		b.o.Sink.Send(event.Warning{Code: event.Damaged, Text: text})
	}
	result.Took = time.Since(started)
	return result, err
}

// creditFirst lets the first of several steps with one layer be the one that ran: which of them came first in time is
// chance, and results are to be the same every time.
func creditFirst(steps []StepResult) {
	first := map[string]*StepResult{}
	for i := range steps {
		s := &steps[i]
		id := cmp.Or(string(s.run), string(s.Layer.Digest))
		if id == "" {
			continue
		}
		known := first[id]
		if known == nil {
			first[id] = s
			if s.run != "" && s.Layer.Digest != "" && first[string(s.Layer.Digest)] == nil {
				first[string(s.Layer.Digest)] = s // a later step with this layer has nothing to pack
			}
		} else if s.run == "" && known.run != "" && strings.HasPrefix(s.Reason, notPacked) {
			s.Outcome, s.Reason, s.Took = event.Reused, asAnother, 0
		} else if s.run == "" && known.run != "" {
			continue
		} else if known.Reason == asAnother && s.Reason != asAnother {
			known.Outcome, s.Outcome = s.Outcome, known.Outcome
			known.Reason, s.Reason = s.Reason, known.Reason
			known.Took, s.Took = s.Took, known.Took
			known.More, s.More = s.More, known.More
			known.Spared, s.Spared = s.Spared, known.Spared
		}
	}
}

// builder is the state of one build.
type builder struct {
	o        Options
	looking  bool // nothing is to be run
	units    map[*plan.Unit]*unitState
	bases    map[baseKey]*base
	layers   flights[digest.Key, *packedLayer]
	layered  flights[digest.DiffID, *packedContents]
	archives flights[string, *packedContents]
	fetches  flights[string, *fetched]
	picks    flights[string, *copied]
	times    flights[string, time.Time]
	runs     flights[digest.Key, *stepTree]
	unpacked flights[digest.Key, string]
	indexed  flights[digest.Key, map[string]*tree.Entry]
	boxes    flights[string, *sandbox.Box]
	turns    sync.Map      // by the names of kept directories, a chan struct{} that whoever has it in this build has filled
	jobs     chan struct{} // bounds how many commands run at once
	packing  chan struct{} // bounds how many layers are packed at once

	markMutex sync.Mutex
	marks     map[digest.Content]mark
	told      map[string]bool // warnings

	secretsOnce sync.Once
	secretsErr  error

	closeMutex sync.Mutex
	closers    []func()

	ctx context.Context // of the whole build, once that has begun
}

// whole gives the context of work that others may wait for as well: it ends with the build, and not with whoever asked
// first, whose own end is no matter of theirs.
func (b *builder) whole(ctx context.Context) context.Context {
	if b.ctx != nil {
		return b.ctx
	}
	return ctx
}

// leastJobs is how many commands run at once on the smallest machine: most wait for something now and then.
const leastJobs = 4

// maxPacking bounds the layers packed at once: each compresses on all cores anyway.
const maxPacking = 4

func newBuilder(o Options) *builder {
	b := &builder{o: o, units: map[*plan.Unit]*unitState{}, bases: map[baseKey]*base{},
		marks: map[digest.Content]mark{}, told: map[string]bool{},
		packing: make(chan struct{}, min(maxPacking, runtime.GOMAXPROCS(0)))}
	if o.Jobs <= 0 {
		o.Jobs = max(leastJobs, runtime.GOMAXPROCS(0))
	}
	b.jobs = make(chan struct{}, o.Jobs)
	for _, u := range o.Plan.Units {
		b.units[u] = &unitState{done: make(chan struct{}), parts: map[*stepTree]*divided{}}
	}
	return b
}

func (b *builder) close() {
	for _, act := range b.closers {
		act()
	}
}

// unitState is what a unit came to. It is written by the goroutine that works on the unit and read when done is closed.
type unitState struct {
	once  sync.Once
	done  chan struct{}
	err   error
	base  *image.Base // of the registry or the store, below all own layers
	trees []*stepTree // one for each step
	own   []*stepTree // own trees and those of the units below
	floor []*stepTree // layers of an image of the recipe that this one starts from; they stay as they are
	loose []*stepTree // trees above these, that are divided into layers
	below []*stepTree // steps of the units below
	of    *base       // whose layers lie lowest, or nil
	steps []StepResult
	info  baseInfo

	layers   []*stepTree   // of an image: what it is made of above its base, lowest first
	expected int           // how many trees will be loose
	follows  digest.Digest // the image whose division was followed
	arranged bool

	mutex   sync.Mutex
	parts   map[*stepTree]*divided
	view    *tree.View  // what lies below, without what is pending
	pending []*stepTree // laid over the view when somebody looks at it
	bare    bool        // the view is empty
}

// see gives the unit's view with all steps so far.
func (s *unitState) see(ctx context.Context) (*tree.View, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for len(s.pending) > 0 {
		t := s.pending[0]
		entries, err := t.all(ctx)
		if err == nil {
			err = s.view.Apply(entries, t)
		}
		if err != nil {
			return nil, err
		}
		s.pending, s.bare = s.pending[1:], s.bare && len(entries) == 0
	}
	return s.view, nil
}

// agrees tells whether the view still has what a step saw of it. Where nothing lies below nothing need be looked at.
func (s *unitState) agrees(ctx context.Context, seen map[string]string) (bool, error) {
	s.mutex.Lock()
	bare := s.bare && len(s.pending) == 0
	s.mutex.Unlock()
	if bare {
		for _, line := range seen {
			if line != absent {
				return false, nil
			}
		}
		return true, nil
	}
	view, err := s.see(ctx)
	if err != nil {
		return false, err
	}
	for path, line := range seen {
		n, _ := view.Lookup(path)
		if lineOf(n) != line {
			return false, nil
		}
	}
	return true, nil
}

// baseInfo names the base for annotations.
type baseInfo struct {
	name   string
	digest digest.Digest
}

// unit works on a unit once, whoever asks first, and waits for it.
func (b *builder) unit(ctx context.Context, u *plan.Unit) (*unitState, error) {
	s := b.units[u]
	s.once.Do(func() {
		defer close(s.done)
		ctx := b.whole(ctx)
		if s.err = b.start(ctx, u, s); s.err == nil {
			s.err = b.steps(ctx, u, s)
		}
	})
	select {
	case <-s.done:
		return s, s.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// start gives a unit the view and the layers that it builds on.
func (b *builder) start(ctx context.Context, u *plan.Unit, s *unitState) error {
	switch {
	case u.Base.Unit != nil:
		below, err := b.unit(ctx, u.Base.Unit)
		if err != nil {
			return err
		}
		view, err := below.see(ctx)
		if err != nil {
			return err
		}
		s.view, s.base, s.info, s.of = view.Clone(), below.base, below.info, below.of
		s.below = slices.Concat(below.below, below.trees)
		loose := len(below.own) - len(below.loose)
		for i, t := range below.own {
			if u.IsImage {
				t = t.packedAs(layer.Compression(u.Compression))
			}
			s.own = append(s.own, t)
			if i >= loose && !u.Base.Unit.IsImage {
				s.loose = append(s.loose, t)
			}
		}
		if s.floor = below.floor; u.Base.Unit.IsImage {
			s.floor = below.layers
		}
		if u.Base.Unit.IsImage && s.base == nil {
			s.base = &image.Base{}
		}
		return nil
	case u.Base.Reference != (reference.Reference{}):
		base := b.bases[keyOf(u.Base.Reference, u)]
		if err := base.load(ctx, b); err != nil {
			return fmt.Errorf("the base %s: %w", base.resolved.Name, err)
		}
		s.view, s.of = base.view.Clone(), base
		s.base = &image.Base{Config: *base.config, Layers: base.layers}
		s.info = baseInfo{base.resolved.Name, base.resolved.Root.Digest}
		return nil
	}
	s.view, s.bare = tree.NewView(), true
	return nil
}

// steps works out what each step lays down; the layers of an image are packed side by side with that.
func (b *builder) steps(ctx context.Context, u *plan.Unit, s *unitState) error {
	group, ctx := errgroup.WithContext(ctx)
	s.expected = len(s.loose) + len(u.Steps)
	early := u.IsImage && b.early(u, s)
	pack := func(t *stepTree) {
		if early {
			group.Go(func() error {
				parts, err := b.partsOf(ctx, u, s, t)
				if err != nil {
					return err
				}
				return b.pack(ctx, t, parts)
			})
		}
	}
	for _, below := range s.loose {
		pack(below)
	}
	err := b.composeAll(ctx, u, s, b.o.Sink, pack)
	if err == nil && u.IsImage {
		if err = b.arrange(ctx, u, s); err == nil && !early {
			for _, t := range s.loose {
				group.Go(func() error { return b.pack(ctx, t, s.layersOf(t)) })
			}
		}
	}
	if packErr := group.Wait(); packErr != nil && (err == nil || !errors.Is(packErr, context.Canceled)) {
		err = packErr
	}
	if err != nil || u.IsImage {
		return err
	}
	for i := range s.steps {
		if s.steps[i].run == "" {
			s.steps[i].Outcome, s.steps[i].Reason, s.steps[i].done = event.Skipped, noLayer, true
		}
	}
	return nil
}

// composeAll works out what each step lays down, in order, lays it over the unit's view, and hands it on.
func (b *builder) composeAll(ctx context.Context, u *plan.Unit, s *unitState, sink event.Sink, next func(*stepTree)) error {
	s.steps = make([]StepResult, len(u.Steps))
	for i := range u.Steps {
		began := time.Now()
		label := u.Steps[i].Label
		task := event.Task{ID: fmt.Sprintf("%s#%04d", u.ID, i), Unit: u.ID.Name, Platform: u.ID.Platform.String(), Place: placeOf(u, i), Label: label, Fresh: b.fresh(u, i)}
		t, err := b.compose(ctx, u, &u.Steps[i], s, task, sink)
		if err != nil {
			outcome, why := event.Failed, err.Error()
			if ctx.Err() != nil {
				outcome, why = event.Skipped, endedFirst
			}
			sink.Send(event.Finished{Task: task, Outcome: outcome, Reason: why, Took: time.Since(began)})
			s.steps[i] = StepResult{Unit: u.ID.Name, Platform: u.ID.Platform, Place: placeOf(u, i), Label: label, Outcome: outcome, Reason: why, Took: time.Since(began), done: true}
			return err
		}
		b.warn(u, &u.Steps[i], t.doubts)
		if err := b.warnStale(ctx, u, i, s, t); err != nil {
			return err
		}
		t.compression, t.ofImage = layer.Compression(u.Compression), u.IsImage
		t.lineage = keyOfText(fmt.Sprintf("lineage %q %q %d %q", b.o.Project, u.ID, i, t.compression.Format()))
		t.task, t.report = task, &s.steps[i]
		s.trees = append(s.trees, t)
		s.steps[i] = StepResult{Unit: u.ID.Name, Platform: u.ID.Platform, Place: placeOf(u, i), Label: label, Files: t.files, Bytes: t.bytes}
		if t.ran != nil {
			b.reportRun(t, !u.IsImage || t.empty, sink)
		}
		if t.ran != nil && t.empty {
			continue
		}
		if t.empty {
			// An empty layer would be noise.
			s.steps[i].Outcome, s.steps[i].Reason, s.steps[i].done = event.Skipped, nothing, true
			sink.Send(event.Finished{Task: task, Outcome: event.Skipped, Reason: s.steps[i].Reason})
			continue
		}
		if t.ran == nil && !u.IsImage {
			sink.Send(event.Finished{Task: task, Outcome: event.Skipped, Reason: noLayer, Detail: "no layer"})
		}
		s.mutex.Lock()
		s.pending = append(s.pending, t)
		s.mutex.Unlock()
		s.own, s.loose = append(s.own, t), append(s.loose, t)
		next(t)
	}
	return nil
}

// layersOf gives the layers that a step's tree is in.
func (s *unitState) layersOf(t *stepTree) (layers []*stepTree) {
	for _, l := range s.layers {
		if l.is(t) {
			layers = append(layers, l)
		}
	}
	return layers
}

// reportRun tells how a command went; over tells that no layer is packed for it.
func (b *builder) reportRun(t *stepTree, over bool, sink event.Sink) {
	t.report.run, t.report.Outcome, t.report.Reason, t.report.Took = t.ran.key, t.ran.outcome, t.ran.why.text, t.ran.took
	t.report.More, t.report.Run, t.report.Inputs, t.report.done = t.ran.why.more, t.ran.record, t.ran.inputs, true
	if t.ran.outcome == event.Reused && t.ran.record != nil && t.ran.why.text != asAnother {
		t.report.Spared = time.Duration(t.ran.record.Millis) * time.Millisecond
	}
	if over {
		done := event.Finished{Task: t.task, Outcome: t.ran.outcome, Reason: t.ran.why.text, Took: t.ran.took}
		if t.files > 0 {
			done.Detail = fmt.Sprintf("%s, %s", plural(t.files, "file"), humanize.Bytes(uint64(t.bytes)))
		}
		sink.Send(done)
	}
}

// strata gives the trees of the base and of steps, lowest first.
func (s *unitState) strata(own []*stepTree) []*stratum {
	var all []*stratum
	if s.of != nil {
		s.of.strataOnce.Do(func() { s.of.strata = s.of.stratify() })
		all = append(all, s.of.strata...)
	}
	for _, t := range own {
		all = append(all, t.stratum())
	}
	return all
}

// identity names what strata gives, without looking at it.
func (s *unitState) identity(own []*stepTree) digest.Key {
	var text strings.Builder
	if s.of != nil {
		fmt.Fprintln(&text, s.of.resolved.Descriptor.Digest)
	}
	for _, t := range own {
		fmt.Fprintln(&text, t.key)
	}
	return keyOfText(text.String())
}

// placeOf names a step by where it stands.
func placeOf(u *plan.Unit, i int) string { return fmt.Sprintf("%s:%d", u.ID.Name, i+1) }

// fresh tells whether a step was asked to be done again.
func (b *builder) fresh(u *plan.Unit, i int) bool {
	return b.o.FreshAll || slices.Contains(b.o.Fresh, u.Steps[i].Label) || slices.Contains(b.o.Fresh, placeOf(u, i))
}

// image puts the platforms' images and the index over them into the store, under the image's name.
func (b *builder) image(ctx context.Context, img *plan.Image) (ImageResult, error) {
	result := ImageResult{Name: img.Name, Destinations: img.Destinations}
	var offers []image.Offer
	var annotations map[string]string
	dirty, err := b.dirty(img)
	if err != nil {
		return result, err
	}
	for _, u := range img.Units {
		s, err := b.unit(ctx, u)
		if err != nil {
			return result, err
		}
		made, created, common, err := b.assemble(ctx, u, s, len(dirty) > 0)
		if err != nil {
			return result, fmt.Errorf("%s: %w", u.ID, err)
		}
		result.Platforms = append(result.Platforms, made)
		if result.Created.IsZero() || created.After(result.Created) {
			result.Created = created
		}
		offers = append(offers, image.Offer{Platform: made.Platform, Descriptor: made.Descriptor})
		annotations = sameIn(annotations, common, annotations == nil)
	}
	text, err := image.Encode(image.Index(offers, annotations))
	if err != nil {
		return result, err
	}
	result.Descriptor, err = b.o.Store.PutBytes(indexMediaType, text)
	if err != nil {
		return result, err
	}
	return result, b.o.Store.NameOf(ctx, b.o.Store.Project, img.Name, result.Descriptor)
}

// sameIn keeps the annotations that all platforms share.
func sameIn(a, b map[string]string, first bool) map[string]string {
	if first {
		return b
	}
	same := map[string]string{}
	for key, value := range a {
		if other, has := b[key]; has && other == value {
			same[key] = value
		}
	}
	return same
}
