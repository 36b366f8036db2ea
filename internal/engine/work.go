package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sort"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/census"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/image"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/compose"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/graph"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/pack"
	"imbricat/internal/engine/sources"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/once"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// work is one carrying out of a plan: the graph, and what its nodes have in common. The maps belong to the graph's loop.
type work struct {
	o      Options
	dryRun bool // what is not known yet is not made
	end    context.CancelFunc
	graph  *graph.Graph

	scratch *filetree.Scratch
	library *baseimage.Library
	tools   *compose.Tools
	fetcher *compose.Fetcher
	runner  *command.Runner
	divider *layering.Divider
	packer  *pack.Packer
	dating  *dating

	found     map[baseKey]*baseimage.Found
	bases     map[baseKey]*baseNode
	downloads map[string]*downloadNode // by checksum
	units     map[*plan.Unit]*unitNode
	runs      map[digest.Key]*runNode  // by the IDs of commands
	packs     map[digest.Key]*packNode // by the IDs of layers
	told      claims                   // by events so far
	views     *step.Views
}

// newWork begins work; what several pieces of it wait for ends with ctx, or when the work is closed.
func newWork(ctx context.Context, o Options, dryRun bool) *work {
	ctx, end := context.WithCancel(ctx)
	w := &work{o: o, dryRun: dryRun, end: end, graph: graph.New(o.KeepGoing || dryRun), scratch: filetree.NewScratch(o.Store.TemporaryFolder),
		found: map[baseKey]*baseimage.Found{}, bases: map[baseKey]*baseNode{}, downloads: map[string]*downloadNode{}, units: map[*plan.Unit]*unitNode{},
		runs: map[digest.Key]*runNode{}, packs: map[digest.Key]*packNode{}, told: newClaims(), views: step.NewViews()}
	warner := &warner{sink: o.Sink, silence: o.Plan.Silence, told: map[[2]string]bool{}}
	w.library = baseimage.NewLibrary(ctx, o.Store, w.scratch)
	marks := &census.Classes{}
	w.tools = compose.NewTools(ctx, compose.Tools{File: o.Plan.File, Store: o.Store, Project: sources.NewProject(ctx, o.Folder, o.Memory, marks),
		Marks: marks, Scratch: w.scratch, Times: o.History, Warner: warner})
	w.fetcher = &compose.Fetcher{Store: o.Store, From: o.Downloads}
	w.divider = layering.NewDivider(ctx, layering.Divider{Store: o.Store, Rules: o.Divisions, Predecessors: o.Predecessors, Warner: warner})
	packer := pack.Packer{Store: o.Store, Sink: o.Sink}
	runner := command.Runner{Plan: o.Plan, Store: o.Store, Library: w.library, Executor: o.Executor, Secrets: o.Secrets, Past: o.Past, Warner: warner,
		Sink: w.sink(), Project: o.Project, Build: o.Build, Forget: o.forget}
	if o.Shared != nil {
		packer.Shared, runner.Shared = o.Shared, o.Shared
	}
	w.packer, w.runner = pack.New(packer), command.NewRunner(runner)
	w.dating = &dating{o: &w.o, tools: w.tools, times: once.NewMap[string, created](ctx)}
	return w
}

func (w *work) close() {
	w.end()
	w.scratch.Close()
}

// sink takes the events of steps. Nothing happens to a step while it is only looked at.
func (w *work) sink() event.Sink {
	if w.dryRun {
		return event.Discard
	}
	return w.o.Sink
}

// warner sends warnings, each once, unless the recipe or a step silences them.
type warner struct {
	sink    event.Sink
	silence []string
	mutex   sync.Mutex
	told    map[[2]string]bool
}

// Warn implements the warners of other packages.
func (w *warner) Warn(s *plan.Step, code, text string) {
	if slices.Contains(w.silence, code) || s != nil && slices.Contains(s.Silence, code) {
		return
	}
	w.mutex.Lock()
	told := w.told[[2]string{code, text}]
	w.told[[2]string{code, text}] = true
	w.mutex.Unlock()
	if !told {
		w.sink.Send(event.Warning{Code: code, Text: text})
	}
}

// baseKey tells bases apart.
type baseKey struct {
	ref      string
	platform platform.Platform
}

func keyOf(ref reference.Reference, u *plan.Unit) baseKey {
	return baseKey{ref.String(), u.Machine}
}

// prepare finds every base and every source before any work, and reports all that is wrong at once.
func (w *work) prepare(ctx context.Context) error {
	problems := &recipe.Errors{File: w.o.Plan.File}
	for _, u := range w.o.Plan.Units {
		for i := range u.Steps {
			compose.Check(w.tools, &u.Steps[i], problems.Add)
		}
	}
	for _, d := range w.o.Plan.Doubts {
		w.tools.Warner.Warn(&plan.Step{Silence: d.Silence}, d.Code, w.o.Plan.File.Describe(d.Pos, d.Text))
	}
	err := w.resolve(ctx, problems)
	if err == nil && !w.dryRun {
		err = w.checkMachine(ctx)
	}
	// What is wrong with the recipe comes before what is wrong with a registry.
	if len(problems.Problems) == 0 || ctx.Err() != nil {
		return err
	}
	sort.SliceStable(problems.Problems, func(i, j int) bool {
		x, y := problems.Problems[i].Pos, problems.Problems[j].Pos
		return x.Line < y.Line || x.Line == y.Line && x.Column < y.Column
	})
	return problems
}

// checkMachine finds out before any work whether the commands of the plan can be run.
func (w *work) checkMachine(ctx context.Context) error {
	wanted := executor.Wanted{Platforms: map[platform.Platform][]string{}}
	for _, u := range w.o.Plan.Units {
		if slices.ContainsFunc(u.Steps, func(s plan.Step) bool { return compose.Of(s.Do) == nil }) {
			wanted.Platforms[u.Machine] = append(wanted.Platforms[u.Machine], u.ID.String())
		}
		if slices.ContainsFunc(u.Steps, func(s plan.Step) bool { do, is := s.Do.(plan.Run); return is && len(do.Hosts) > 0 }) {
			wanted.Hosts = append(wanted.Hosts, u.ID.String())
		}
	}
	if len(wanted.Platforms) == 0 {
		return nil
	}
	return w.o.Executor.Check(ctx, wanted)
}

// ofReference says what could not be had, once: a registry's own error names the repository too.
func ofReference(what string, ref reference.Reference, err error) error {
	if repository := ref.Host + "/" + ref.Repository + ": "; strings.HasPrefix(err.Error(), repository) {
		return fmt.Errorf("%s %w", what, err)
	}
	return fmt.Errorf("%s %s: %w", what, ref, err)
}

// resolve asks for all bases at once. A base that is missing or lacks the platform is a problem of the recipe; a
// registry that cannot be reached or refuses is an error of its own.
func (w *work) resolve(ctx context.Context, problems *recipe.Errors) error {
	var mutex sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(8)
	asked := map[baseKey]bool{}
	ask := func(pos recipe.Pos, what string, ref reference.Reference, u *plan.Unit) {
		key := keyOf(ref, u)
		if asked[key] {
			return
		}
		asked[key] = true
		group.Go(func() error {
			found, err := w.o.Bases.Resolve(ctx, ref, u.Machine)
			mutex.Lock()
			defer mutex.Unlock()
			var lacks *image.NoPlatformError
			if errors.As(err, &lacks) || errors.Is(err, fs.ErrNotExist) {
				problems.Add(pos, "%s", ofReference(what, ref, err))
				return nil
			}
			if err != nil {
				return ofReference(what, ref, err)
			}
			w.found[key] = found
			return nil
		})
	}
	for _, u := range w.o.Plan.Units {
		if u.Base.Kind == recipe.ReferenceBase {
			ask(u.Base.Pos, "the base", u.Base.Reference, u)
		}
		for _, s := range u.Steps {
			for _, use := range s.Do.References() {
				ask(use.Pos, "the image", use.Reference, u)
			}
		}
	}
	return group.Wait()
}

// notYet is why something cannot be known without work, where only that is wanted which can.
type notYet struct{ why string }

func (n *notYet) Error() string { return n.why }

// baseNode is an image elsewhere that is brought and read.
type baseNode struct {
	node *graph.Node
	base *baseimage.Base
}

// base returns the node of an image. What says in messages what it is for: "the base", "the image".
func (w *work) base(ref reference.Reference, u *plan.Unit, what string) *baseNode {
	key := keyOf(ref, u)
	if known := w.bases[key]; known != nil {
		return known
	}
	found := w.found[key]
	n := &baseNode{}
	w.bases[key] = n
	n.node = w.graph.Add(what+" "+found.Name, func(ctx context.Context) (func(), error) {
		if w.dryRun && !found.Source.IsLocal(ctx) {
			if what == "the base" {
				return nil, &notYet{"the base is not in the store yet"}
			}
			return nil, &notYet{ref.String() + " is not in the store yet"}
		}
		var indexes baseimage.Indexes
		if w.o.Shared != nil {
			indexes = w.o.Shared
		}
		base, err := w.library.Load(ctx, found, indexes)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", what, found.Name, err)
		}
		return func() { n.base = base }, nil
	})
	return n
}

// downloadNode is a file from an address that is fetched.
type downloadNode struct {
	node *graph.Node
	file *compose.Fetched
}

// download returns the node of a file, which the first step that names it tells of.
func (w *work) download(d plan.Download, tell event.Reporter, in step.Name) *downloadNode {
	if known := w.downloads[d.SHA256]; known != nil {
		return known
	}
	n := &downloadNode{}
	w.downloads[d.SHA256] = n
	n.node = w.graph.Add("fetch "+d.Address, func(ctx context.Context) (func(), error) {
		file, kept := w.fetcher.Kept(d.SHA256)
		switch {
		case kept && !tell.Task.Fresh:
		case w.dryRun && !kept:
			return nil, &notYet{d.Address + " is not fetched yet"}
		case !w.dryRun:
			var err error
			if file, err = w.fetcher.Fetch(ctx, d.Address, d.SHA256, tell); err != nil {
				return nil, inStep(in, tell.Task, err)
			}
		}
		return func() { n.file = file }, nil
	})
	return n
}

// inStep says in which step something went wrong.
func inStep(in step.Name, task event.Task, err error) error {
	var failed *command.FailedError
	_, placed := err.(*recipe.Errors) // itself: what is said around it would be lost
	if err == nil || placed || errors.Is(err, context.Canceled) || errors.As(err, &failed) {
		return err // it tells its place, or none is needed
	}
	return fmt.Errorf("%s, %s: %w", in.Unit, task.Label, err)
}
