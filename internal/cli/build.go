package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/engine/sources"
	"imbricat/internal/flow"
	"imbricat/internal/flow/bases"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/printable"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/phrase"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/download"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/order"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

func buildCommand() *cli.Command {
	return &cli.Command{
		Name: "build", Usage: "builds images into the store", ArgsUsage: "[IMAGE…] [--fresh [STEP…]]",
		Description: "Builds the images of the recipe, or those named, for all their platforms. What has not changed is reused.\n\n" +
			"Example: imbricat build gauge --platform linux/arm64 --fact version=1.4.0",
		Flags: append([]cli.Flag{platformFlag(), factFlag(),
			sandboxFlag(), jobsFlag(), keepGoingFlag(), freshFlag()}, slices.Concat(shareFlags(), runFlags())...),
		Action: func(ctx context.Context, c *cli.Command) error { return runBuild(ctx, newSession(c)) },
	}
}

func freshFlag() cli.Flag {
	return &cli.BoolFlag{Name: "fresh", Usage: "do every step again; with names of steps behind the images, only these"}
}

// builder gathers what a build or its preview needs. close ends the use of the project folder.
func (s *session) builder(ctx context.Context, p *planned, st *store.Store, sink event.Sink) (engine.Options, func(), error) {
	dir, err := filepath.Abs(s.cmd.String("dir"))
	if err != nil {
		return engine.Options{}, nil, err
	}
	unnamed := []string{p.recipe.File.Name, path.Join(path.Dir(p.recipe.File.Name), recipe.LockName), ".git"}
	// A store inside the project changes with every build, and so does what a run writes down; taking it in would never end.
	unnamed = append(unnamed, s.writes()...)
	if below, inside := inside(dir, st.Dir()); inside {
		unnamed = append(unnamed, below)
	}
	source, err := tree.OpenSource(dir, tree.SourceOptions{
		LeaveOut: p.recipe.Sources.LeaveOut, HonourGitignore: p.recipe.Sources.HonourGitignore, Unnamed: unnamed,
	})
	if err != nil {
		return engine.Options{}, nil, flow.WrongUse(err)
	}
	held, err := s.readLock()
	if err != nil {
		return engine.Options{}, nil, err
	}
	opener, err := s.opener(st)
	if err != nil {
		return engine.Options{}, nil, err
	}
	opener.Dir = dir
	annotations := map[string]string{}
	if g := p.facts.Git; g.Known() {
		annotations[v1.AnnotationRevision] = g.Commit
		if g.Source != "" {
			annotations[v1.AnnotationSource] = g.Source
		}
	}
	told := event.Quiet(sink, p.recipe.Silence)
	o := engine.Options{
		Inputs: engine.Inputs{
			Plan: p.plan, Store: st, Folder: source, Memory: sources.OpenMemory(st, dir, sources.MemoryOptions{Names: objectNames(p.facts.Git)}), Sink: sink,
			Bases:    &bases.Finder{Places: opener, Store: st, Lock: held, Sink: told},
			History:  newProjectHistory(p, told),
			Executor: s.executor(ctx, st, told), Project: dir, Divisions: divisions(held),
		},
		Downloads: downloads{download.New("imbricat/" + version())}, Secrets: secretFiles{dir, s.err}, KeepGoing: s.cmd.Bool("keep-going"),
		Annotations: annotations,
	}
	if followed(p.plan) {
		o.Predecessors = &predecessors{s: s, st: st, p: p.plan, roots: map[string]reference.Reference{}}
	}
	return o, func() { source.Close() }, nil
}

// downloads gets what addresses hold.
type downloads struct{ *download.Client }

// Download implements compose.Downloader.
func (d downloads) Download(ctx context.Context, address string) (io.ReadCloser, int64, error) {
	return d.Get(ctx, address)
}

// projectHistory is what version control and the facts know of a project.
type projectHistory struct {
	p          *planned
	sink       event.Sink
	difference func() (engine.Difference, error)
}

func newProjectHistory(p *planned, sink event.Sink) *projectHistory {
	return &projectHistory{p, sink, sync.OnceValues(func() (engine.Difference, error) {
		d, err := p.facts.Git.Difference()
		return engine.Difference(d), err
	})}
}

// CommitTimes implements engine.History.
func (h *projectHistory) CommitTimes(ctx context.Context) (func(string) int64, error) {
	times, err := h.p.facts.Git.Times(ctx)
	return func(path string) int64 {
		if when, known := times[path]; known {
			return when.Unix()
		}
		return 0
	}, err
}

// Created implements engine.History.
func (h *projectHistory) Created(ctx context.Context, touches func(string) bool) (time.Time, error) {
	if epoch, given := h.p.facts.Epoch(); given {
		return epoch, nil
	}
	when, known, err := h.p.facts.Git.Newest(ctx, touches)
	if h.p.facts.Git.Guessed() {
		h.sink.Send(event.Warning{Code: event.Shallow, Text: "the clone is shallow, so images are dated by its oldest commit, and a full clone may give others: fetch the history, or set SOURCE_DATE_EPOCH"})
	}
	if err != nil || known {
		return when, err
	}
	return layer.Epoch, nil
}

// Committed implements engine.History.
func (h *projectHistory) Committed() bool {
	return h.p.facts.Git.Known() && slices.ContainsFunc(h.p.plan.Images, func(i *plan.Image) bool { return len(i.Destinations) > 0 })
}

// Difference implements engine.History.
func (h *projectHistory) Difference() (engine.Difference, error) { return h.difference() }

// divisions are those of a lock, if there is one.
func divisions(l *lock.Lock) map[string]*order.Rules {
	if l == nil {
		return nil
	}
	return l.Images
}

// objectNames gives what version control calls the bytes of a file that is as it left it.
func objectNames(g *facts.Git) func(path string, s tree.Stat) string {
	all := sync.OnceValue(g.Objects)
	return func(path string, s tree.Stat) string {
		one, known := all()[path]
		if !known || one.State != (facts.FileState{Size: s.Size, ModTime: s.ModTime, Change: s.Change, Inode: uint32(s.Inode)}) {
			return ""
		}
		return one.ID
	}
}

// inside gives a path relative to a folder, with slashes, where it lies in it.
func inside(dir, path string) (string, bool) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", false
	}
	below, err := filepath.Rel(dir, abs)
	return filepath.ToSlash(below), err == nil && filepath.IsLocal(below) && below != "."
}

func runBuild(ctx context.Context, s *session) (err error) {
	r, err := s.begin("build")
	if err != nil {
		return err
	}
	defer func() { err = r.close(ctx, err) }()
	images, steps, err := s.freshSteps()
	if err != nil {
		return err
	}
	p, err := s.makePlan(images)
	if err != nil {
		return err
	}
	r.from(p)
	st, err := s.openStore()
	if err != nil {
		return err
	}
	if err := checkSteps(p.plan, steps); err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	r.part = "build"
	document, result, err := s.build(ctx, p, st, view, s.cmd.Bool("fresh") && len(steps) == 0, steps)
	r.built(document)
	if err != nil && (result == nil || !s.cmd.Bool("keep-going")) {
		return err
	}
	view.Close(document.Summary(result.Took))
	return errors.Join(err, s.result(document, func() error { return report.WriteBuild(s.out, s.paint, document) }))
}

// build builds what is planned, with the shared cache and the logbook. There is a document wherever there is a result.
func (s *session) build(ctx context.Context, p *planned, st *store.Store, view event.Sink, freshAll bool, fresh []string) (*report.Build, *engine.Result, error) {
	told := &warnings{sink: view}
	o, done, err := s.builder(ctx, p, st, told)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	o.FreshAll, o.Fresh = freshAll, fresh
	cache, err := s.shareIn(p, st, &o)
	if err != nil {
		return nil, nil, err
	}
	log := s.beginEntry(st, p, &o)
	result, err := engine.Run(ctx, o)
	log.end(ctx, result, err)
	notePast(ctx, s, st, result)
	publish(ctx, p, cache, result, o.Sink)
	if result == nil {
		return nil, nil, err
	}
	document := buildDocument(result)
	document.Warnings, document.Number = told.sorted(), log.build.Number
	for i := range document.Steps {
		one := &document.Steps[i]
		one.Step, one.Reason = s.veil.cover(one.Step), s.veil.cover(one.Reason)
	}
	for i := range document.Warnings {
		document.Warnings[i].Text = s.veil.cover(document.Warnings[i].Text)
	}
	if cache != nil {
		moved := cache.Stats()
		document.Shared = &receipt.Shared{Place: cache.Place(), Requests: moved.Requests, Read: moved.Read, Written: moved.Written}
	}
	return document, result, err
}

// warnings passes events on and keeps the warnings among them.
type warnings struct {
	sink  event.Sink
	mutex sync.Mutex
	list  []receipt.Warning
}

// Send implements event.Sink.
func (w *warnings) Send(e event.Event) {
	if one, is := e.(event.Warning); is {
		w.mutex.Lock()
		defer w.mutex.Unlock()
		if slices.Contains(w.list, receipt.Warning(one)) {
			return
		}
		w.list = append(w.list, receipt.Warning(one))
	}
	w.sink.Send(e)
}

func (w *warnings) sorted() []receipt.Warning {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	slices.SortFunc(w.list, func(a, b receipt.Warning) int { return strings.Compare(a.Text, b.Text) })
	return append([]receipt.Warning{}, w.list...)
}

// freshSteps parts the arguments into images and, with --fresh, steps.
func (s *session) freshSteps() (images, steps []string, err error) {
	images = s.cmd.Args().Slice()
	if !s.cmd.Bool("fresh") {
		return images, nil, nil
	}
	r, err := s.loadRecipe()
	if err != nil {
		return nil, nil, err
	}
	for _, name := range images {
		if !slices.ContainsFunc(r.Images, func(i recipe.Image) bool { return i.Name == name }) {
			steps = append(steps, name)
		}
	}
	return slices.DeleteFunc(images, func(name string) bool { return slices.Contains(steps, name) }), steps, nil
}

// checkSteps refuses names that no step bears.
func checkSteps(p *plan.Plan, steps []string) error {
	var known []string
	for _, u := range p.Units {
		for i := range u.Steps {
			known = append(known, u.Steps[i].Label, fmt.Sprintf("%s:%d", u.ID.Name, i+1))
		}
	}
	for _, name := range steps {
		if slices.Contains(known, name) {
			continue
		}
		hint := "name a step by its name:, by the line that plan shows, or by its place, such as gauge:2"
		if near := recipe.Nearest(name, known); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return flow.Usagef("no image and no step is named %q: %s", name, hint)
	}
	return nil
}

func buildDocument(r *engine.Result) *report.Build {
	d := &report.Build{Images: []report.BuiltImage{}, Steps: []receipt.Step{}, Seconds: r.Took.Seconds()}
	for _, i := range r.Images {
		one := report.BuiltImage{Name: i.Name, Digest: i.Descriptor.Digest, MediaType: i.Descriptor.MediaType, Size: i.Descriptor.Size, Created: i.Created}
		for _, p := range i.Platforms {
			one.Platforms = append(one.Platforms, report.BuiltPlatform{Platform: p.Platform.String(), Digest: p.Descriptor.Digest, Layers: p.Layers, Packed: p.Packed})
		}
		d.Images = append(d.Images, one)
	}
	for _, t := range r.Steps {
		d.Steps = append(d.Steps, receipt.Step{Unit: t.Unit, Platform: t.Platform.String(), Place: t.Place, Step: t.Label, Outcome: t.Outcome.String(), Reason: phrase.Line(t.Reason),
			Files: t.Files, Bytes: t.Bytes, Layer: t.Layer.Digest, Packed: t.Layer.Size, Seconds: t.Took.Seconds(), Spared: t.Spared.Seconds()})
		d.Spared += t.Spared.Seconds()
		switch t.Outcome {
		case event.Ran:
			d.Ran++
		case event.Reused:
			d.Reused++
		}
	}
	return d
}

func planCommand() *cli.Command {
	return &cli.Command{
		Name: "plan", Usage: "shows the steps, what would be reused and what is taken in; changes nothing", ArgsUsage: "[IMAGE…]",
		Description: "Finds what a build would do, with every mistake that can be found without building.\n\nExample: imbricat plan gauge",
		Flags: []cli.Flag{platformFlag(), factFlag(),
			&cli.BoolFlag{Name: "graph", Usage: "draw what waits for what, with the times of earlier builds and the critical path"},
			shareFlags()[0], shareFlags()[1],
			&cli.BoolFlag{Name: "volatility", Usage: "list how often what the images hold changes, and what changes along with it; asks the destinations too"},
			&cli.BoolFlag{Name: "reasons", Usage: "tell every reason for a step that would run, not the first alone"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runPlan(ctx, newSession(c)) },
	}
}

func runPlan(ctx context.Context, s *session) error {
	p, st, err := s.planAndStore()
	if err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	o, done, err := s.builder(ctx, p, st, view)
	if err != nil {
		return err
	}
	defer done()
	if _, err := s.shareIn(p, st, &o); err != nil {
		return err
	}
	past := s.pastOf(st, view)
	o.Past = past
	preview, err := engine.Look(ctx, engine.LookOptions{Inputs: o.Inputs, Weigh: true})
	if err != nil {
		return err
	}
	view.Close("")
	document := planDocument(p, preview)
	volatility := s.cmd.Bool("volatility")
	if document.Stacks, err = s.stacks(ctx, &historyFinder{s: s, p: p, st: st, far: volatility}, &o, preview, volatility); err != nil {
		return err
	}
	return s.result(document, func() error {
		if volatility {
			report.WriteVolatility(s.out, s.paint, document.Stacks)
			return nil
		}
		if s.cmd.Bool("graph") {
			return report.WriteGraph(s.out, s.paint, document)
		}
		return report.WritePlan(s.out, s.paint, document, s.cmd.Bool("reasons"))
	})
}

func planDocument(p *planned, preview *engine.Preview) *report.Plan {
	d := &report.Plan{Images: []report.PlannedImage{}, Files: preview.Files, Bytes: preview.Bytes, Seconds: preview.Expected.Seconds(), Left: preview.LeftFiles, LeftBytes: preview.LeftBytes}
	for _, i := range p.plan.Images {
		one := report.PlannedImage{Name: i.Name, Destinations: []report.PlannedDestination{}}
		for _, u := range i.Units {
			one.Platforms = append(one.Platforms, u.ID.Platform.String())
		}
		for _, dest := range i.Destinations {
			one.Destinations = append(one.Destinations, report.PlannedDestination{
				Name: dest.Name, Repository: dest.Repository.String(),
				Tags: append([]string{}, dest.Tags...), Held: heldNames(dest.Held), Because: heldBecause(dest.Held), Prefixes: dest.Prefixes})
		}
		d.Images = append(d.Images, one)
	}
	for _, u := range preview.Units {
		one := report.PlannedUnit{Needs: append([]string{}, u.Needs...), Name: u.Unit.ID.Name, Platform: u.Unit.ID.Platform.String(), Kind: "stage", Base: u.Base, Digest: u.BaseDigest, Steps: []report.PlannedStep{}}
		if u.Unit.IsImage {
			one.Kind = "image"
		}
		for _, step := range u.Steps {
			one.Steps = append(one.Steps, report.PlannedStep{Step: step.Label, Files: step.Files, Bytes: step.Bytes, Outcome: string(step.Forecast), Reason: phrase.Line(step.Reason), Details: append([]string{}, phrase.More(step.Reason)...), Place: step.Place, Seconds: step.Expected.Seconds(), Critical: step.Critical})
		}
		d.Units = append(d.Units, one)
	}
	return d
}

// heldNames are the tags that are held back.
func heldNames(held []plan.Held) []string {
	names := []string{}
	for _, h := range held {
		names = append(names, h.Tag)
	}
	return names
}

func heldBecause(held []plan.Held) map[string]string {
	why := map[string]string{}
	for _, h := range held {
		why[h.Tag] = "its condition does not hold: " + h.When
	}
	return why
}

func showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "shows an image, an index or a receipt, or the raw document", ArgsUsage: "REFERENCE|RECEIPT",
		Description: "REFERENCE is an image in the store (a name or the first digits of its digest), in a registry\n" +
			"(HOST/REPOSITORY:TAG), in a layout directory (./DIR) or in an archive (./FILE.tar); or a receipt, which is told as the\n" +
			"run told it: a file that ends in .json, or HOST/REPOSITORY:TAG.\n\nExample: imbricat show gauge",
		Flags: []cli.Flag{platformFlag(), &cli.BoolFlag{Name: "raw", Usage: "print the document itself, byte for byte"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			return runShow(ctx, newSession(c))
		},
	}
}

func runShow(ctx context.Context, s *session) error {
	args, err := s.args(1, 1, "one reference")
	if err != nil {
		return err
	}
	if receiptFile(args[0]) {
		r, err := readReceipt(args[0])
		if err != nil {
			return err
		}
		return s.showReceipt(r)
	}
	ref, err := reference.Parse(args[0])
	if err != nil {
		return flow.WrongUse(err)
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	place, err := s.source(st, ref)
	if err != nil {
		return err
	}
	defer place.Close()
	root, err := place.Root(ctx)
	if err != nil {
		return err
	}
	wanted, err := s.platforms()
	if err != nil {
		return err
	}
	if len(wanted) > 0 {
		offers, err := image.Offers(ctx, place, root)
		if err != nil {
			return err
		}
		if len(wanted) > 1 {
			return flow.Usagef("show takes one --platform")
		}
		offer, err := image.Select(offers, wanted[0])
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		root = offer.Descriptor
	}
	if s.cmd.Bool("raw") {
		text, err := image.ReadDocument(ctx, place, root)
		if err != nil {
			return err
		}
		to := s.out
		if !isTerminal(to) {
			to = printable.Unwrap(to) // byte by byte, so that its digest can be taken
		}
		_, err = to.Write(text)
		return err
	}
	if r, err := receiptIn(ctx, place, root); r != nil || err != nil {
		if err == nil {
			err = s.showReceipt(r)
		}
		return err
	}
	return s.describe(ctx, st, place, args[0], root, ref.Kind == reference.Store)
}

func (s *session) showReceipt(r *receipt.Receipt) error {
	return s.result(r, func() error { return report.WriteReceipt(s.out, s.paint, r, true) })
}
