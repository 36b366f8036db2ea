package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/causes"
	"imbricat/internal/content/census"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/compose"
	"imbricat/internal/engine/graph"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
	"imbricat/internal/spec/plan"
)

// stepNode is a step: it is looked up, run where that did not find it, and done.
type stepNode struct {
	unit *unitNode
	plan *plan.Step
	name step.Name
	task event.Task

	inputs  inputsOf
	settled *graph.Node // its values are known; nil: they are from the start
	look    *graph.Node
	done    *graph.Node

	command *command.Command // of a run step that was looked up
	run     *runNode         // of one that was not found
	content *stepContent     // of any other
	second  bool             // another step with the same command came first in time

	outcome *step.Outcome
	above   *step.View // with the outcome

	packing  time.Duration // what packing its layers took
	refilled bool          // it ran again for its kept directories
	failure  *failure
}

// stepContent is what a step lays down, before it is known which step.
type stepContent struct {
	tree     *filetree.Tree
	findings *census.Findings
	run      *step.Run // of a command
}

// failure is what became of a step that was begun and not done.
type failure struct {
	outcome event.Outcome
	reason  event.Reason
	took    time.Duration
}

// taskID names the task of a step.
func taskID(u *plan.Unit, index int) string { return fmt.Sprintf("%s#%04d", u.ID, index) }

// step returns the nodes of a step that comes after another node.
func (w *work) step(u *unitNode, index int, after *graph.Node) *stepNode {
	s := &stepNode{unit: u, plan: &u.plan.Steps[index], name: step.Name{Unit: u.plan.ID, Index: index}}
	s.task = event.Task{ID: taskID(u.plan, index), Unit: u.plan.ID.Name, Platform: u.plan.ID.Platform.String(),
		Place: s.name.Place(), Label: s.plan.Label, Fresh: w.fresh(s)}
	needs := append([]*graph.Node{after}, w.inputs(s)...)
	var began time.Time
	failed := func(err error, ended bool) { w.fail(s, err, ended, time.Since(began)) }
	if late := s.plan.Late; late != nil {
		s.settled = w.settle(u, late.Needs, func(k plan.Known) (func(), error) {
			began = time.Now()
			do, err := late.Settle(k)
			own := *s.plan
			own.Do = do
			return func() { s.plan = &own }, inStep(s.name, s.task, err)
		})
		s.settled.OnFailure(failed)
		needs = append(needs, s.settled)
	}
	s.look = w.graph.Add("look up "+s.task.ID, func(ctx context.Context) (func(), error) {
		began = time.Now()
		if compose.Of(s.plan.Do) != nil {
			laid, err := w.compose(ctx, s, s.plan, s.beneath(), (*unitNode).view)
			return func() { s.content = laid }, inStep(s.name, s.task, err)
		}
		return w.recall(ctx, s)
	}, needs...)
	s.done = w.graph.Add("do "+s.task.ID, func(ctx context.Context) (func(), error) { return w.finish(ctx, s) }, s.look)
	s.look.OnFailure(failed)
	s.done.OnFailure(failed)
	return s
}

// inputs returns the nodes of what a step names, and notes them.
func (w *work) inputs(s *stepNode) (needs []*graph.Node) {
	s.inputs = inputsOf{images: map[string]*baseNode{}, files: map[string]*downloadNode{}}
	in := &s.inputs
	for _, other := range s.plan.Do.Units() {
		in.units = append(in.units, w.unit(other))
		needs = append(needs, w.unit(other).done)
	}
	for _, use := range s.plan.Do.References() {
		base := w.base(use.Reference, s.unit.plan, "the image")
		in.images[use.Reference.String()] = base
		needs = append(needs, base.node)
	}
	for _, d := range s.plan.Do.Downloads() {
		file := w.download(d, event.Reporter{Sink: w.sink(), Task: s.task}, s.name)
		in.files[d.SHA256] = file
		needs = append(needs, file.node)
	}
	return needs
}

// fresh reports whether a step was asked to be done again.
func (w *work) fresh(s *stepNode) bool {
	return w.o.FreshAll || slices.Contains(w.o.Fresh, s.plan.Label) || slices.Contains(w.o.Fresh, s.name.Place())
}

// inputsOf are the nodes of what a step names.
type inputsOf struct {
	units  []*unitNode
	images map[string]*baseNode
	files  map[string]*downloadNode
}

// ready returns what a step names, which is done by now or, in a preview, has a view that is taken for granted.
func (in inputsOf) ready(ctx context.Context, view func(*unitNode) *step.View) (out compose.Inputs, err error) {
	out = compose.Inputs{Units: map[*plan.Unit]*tree.View{}, Images: map[string]*tree.View{}, Files: map[string]*compose.Fetched{}}
	for _, u := range in.units {
		if out.Units[u.plan], err = view(u).Index(ctx); err != nil {
			return out, err
		}
	}
	for name, b := range in.images {
		out.Images[name] = b.base.View
	}
	for sum, f := range in.files {
		out.Files[sum] = f.file
	}
	return out, nil
}

// compose works out what a step lays down that is no command, or is lent to one, on a view and out of those of the units that it names.
func (w *work) compose(ctx context.Context, s *stepNode, lay *plan.Step, below *step.View, view func(*unitNode) *step.View) (*stepContent, error) {
	inputs, err := s.inputs.ready(ctx, view)
	if err != nil {
		return nil, err
	}
	setting := compose.Setting{Step: lay, Unit: s.name.Unit, Below: below, Inputs: inputs, Tell: event.Reporter{Sink: w.sink(), Task: s.task},
		Compression: layer.Compression(s.unit.plan.Compression), Stage: !s.unit.plan.IsImage || lay != s.plan}
	made, err := w.tools.Compose(ctx, compose.Of(lay.Do), setting)
	if err != nil {
		return nil, err
	}
	return &stepContent{tree: made.Tree, findings: made.Findings}, nil
}

// beneath is the view that the step works on.
func (s *stepNode) beneath() *step.View {
	if i := s.name.Index; i > 0 {
		return s.unit.steps[i-1].above
	}
	return s.unit.bottom
}

// recall looks for an earlier run of a command. Where there is none it is run, unless that is only looked for.
func (w *work) recall(ctx context.Context, s *stepNode) (func(), error) {
	var config *v1.ImageConfig
	if base := s.unit.inherited(); base != nil {
		config = &base.Config.Config
	}
	setting := command.Setting{Unit: s.unit.plan, Name: s.name, Step: s.plan, Task: s.task, Config: config}
	if err := w.lend(ctx, s, s.beneath(), &setting); err != nil {
		return nil, inStep(s.name, s.task, err)
	}
	c, err := w.runner.Prepare(ctx, setting)
	if err != nil {
		return nil, inStep(s.name, s.task, err)
	}
	var made *command.Made
	var why event.Reason = event.AskedFor
	if !s.task.Fresh {
		made, why = w.runner.Recall(ctx, c)
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if made == nil && w.dryRun {
		return nil, &mustRun{s, why}
	}
	laid, err := w.contentOf(ctx, made)
	if err != nil {
		return nil, inStep(s.name, s.task, err)
	}
	return func() {
		if s.command = c; laid == nil {
			w.demand(s, why)
			return
		}
		s.content, s.second = laid, !w.told.run(made.Run.ID)
	}, nil
}

// contentOf is what a command laid down; nil of none.
func (w *work) contentOf(ctx context.Context, made *command.Made) (*stepContent, error) {
	if made == nil {
		return nil, nil
	}
	entries, err := made.Tree.Entries(ctx)
	if err != nil {
		return nil, err
	}
	found := w.tools.Marks.Find(entries)
	for i := range entries {
		if kind, known := causes.Known(entries[i].Path); known && kind.Unlike && entries[i].Kind == tree.File && entries[i].Size > 0 {
			found.Unlike = append(found.Unlike, causes.Shown(entries[i].Path))
		}
	}
	return &stepContent{tree: made.Tree, findings: found, run: made.Run}, nil
}

// mustRun is a command that would be run, where that is only looked for.
type mustRun struct {
	step *stepNode
	why  event.Reason
}

func (*mustRun) Error() string { return "a command would be run" }

// runNode is a command that is run, for all steps that have it over the same view.
type runNode struct {
	node    *graph.Node
	steps   []*stepNode
	content *stepContent
}

// demand has a step's command run, unless it is run already. Why it runs is told.
func (w *work) demand(s *stepNode, why event.Reason) {
	n := w.runs[s.command.ID]
	if n == nil {
		n = w.run(s, why)
		w.runs[s.command.ID] = n
	}
	n.steps = append(n.steps, s)
	s.run, s.second = n, n.steps[0] != s
	s.done.Await(n.node)
}

func (w *work) run(s *stepNode, why event.Reason) *runNode {
	n := &runNode{}
	var fillers []command.Filler
	var of []*stepNode
	for _, before := range s.unit.before(s.name.Index) {
		if before.outcome.Run != nil {
			of = append(of, before)
			fillers = append(fillers, command.Filler{Command: before.command, Run: before.outcome.Run})
		}
	}
	began := time.Now()
	n.node = w.graph.Add("run "+s.task.ID, func(ctx context.Context) (func(), error) {
		made, err := w.runner.Run(ctx, s.command, why, fillers)
		if err != nil {
			return nil, inStep(s.name, s.task, err)
		}
		laid, err := w.contentOf(ctx, made)
		return func() {
			n.content = laid
			w.told.run(made.Run.ID)
			for _, i := range made.Refilled {
				of[i].refilled = true
			}
		}, err
	})
	n.node.OnFailure(func(err error, ended bool) {
		for _, s := range n.steps {
			w.fail(s, err, ended, time.Since(began))
		}
	})
	return n
}

// finish makes the outcome of a step, and warns of what is doubtful in it.
func (w *work) finish(ctx context.Context, s *stepNode) (func(), error) {
	laid := s.content
	if s.run != nil {
		laid = s.run.content
	}
	o := &step.Outcome{Name: s.name, Task: s.task, Tree: laid.tree, Run: laid.run, Annotations: s.plan.Annotations}
	if !s.second { // the first one tells of them
		w.warn(s, laid.findings)
	}
	var before []*step.Outcome
	for _, b := range s.unit.before(s.name.Index) {
		before = append(before, b.outcome)
	}
	err := w.runner.WarnStale(ctx, command.Later{Step: s.plan, Name: s.name, Tree: o.Tree, Below: s.beneath(), Before: before,
		RunsToo: slices.ContainsFunc(s.unit.plan.Steps[s.name.Index+1:], func(later plan.Step) bool { return compose.Of(later.Do) == nil })})
	if err != nil {
		return nil, err
	}
	return func() { w.takeOutcome(s, o) }, nil
}

// takeOutcome takes a step's outcome, tells of it where no layer will be packed for it, and hands it on.
func (w *work) takeOutcome(s *stepNode, o *step.Outcome) {
	s.outcome, s.above = o, s.beneath()
	done := event.Finished{Task: s.task}
	switch {
	case o.Run != nil:
		if !s.unit.plan.IsImage || o.Empty {
			done.Outcome, done.Reason, done.Took = s.ran(s.second)
			done.Detail = sizeOf(o.Tree)
			w.sink().Send(done)
		}
	case o.Empty:
		done.Outcome, done.Reason = event.Skipped, event.LaysNothing
		w.sink().Send(done)
	case !s.unit.plan.IsImage:
		done.Outcome, done.Reason, done.Detail = event.Skipped, event.NoLayer, "no layer"
		w.sink().Send(done)
	}
	if o.Empty {
		return // an empty layer would be noise
	}
	s.above = w.views.Above(s.above, o)
	if s.unit.image != nil {
		s.unit.image.add(w, s)
	}
}

// ran tells how a command went; second, that another step told so before.
func (s *stepNode) ran(second bool) (event.Outcome, event.Reason, time.Duration) {
	r := s.outcome.Run
	switch {
	case second:
		return event.Reused, event.SameAsAnother, 0
	case r.Ran:
		return event.Ran, r.Why, r.Took
	}
	return event.Reused, r.Why, 0
}

// sizeOf is a tree's size for people.
func sizeOf(t *filetree.Tree) string {
	if t.Files == 0 {
		return ""
	}
	return fmt.Sprintf("%s, %s", say.Count(t.Files, "file"), humanize.Bytes(uint64(t.Bytes)))
}

// fail tells of a step that was begun and not done.
func (w *work) fail(s *stepNode, err error, ended bool, took time.Duration) {
	f := &failure{outcome: event.Failed, reason: event.Text(err.Error()), took: took}
	if ended {
		f.outcome, f.reason = event.Skipped, event.EndedFirst
	}
	s.failure = f
	w.sink().Send(event.Finished{Task: s.task, Outcome: f.outcome, Reason: f.reason, Took: took})
}

// warn tells what is doubtful in what a step lays down.
func (w *work) warn(s *stepNode, found *census.Findings) {
	tell := func(code string, paths []string, text string) {
		if len(paths) == 0 {
			return
		}
		where := paths[0]
		if len(paths) > 1 {
			where += fmt.Sprintf(" (and %d more)", len(paths)-1)
		}
		w.tools.Warner.Warn(s.plan, code, fmt.Sprintf("%s: %s %s", s.name.Unit.Name, where, text))
	}
	foreign, machine := foreignTo(s.unit.plan, found.Programs)
	tell(event.ForeignBinary, foreign, fmt.Sprintf("is a program for %s, and the image is for %s", machine, s.name.Unit.Platform))
	if !w.inImage(s.unit.plan) {
		return // what is taken of it is looked at where it is laid down
	}
	tell(event.Unreproducible, found.Unlike, "differs each time that the command runs: remove it there, or let `imbricat verify --cure` look for what helps")
	tell(event.Secret, found.Secrets, "looks like a secret: a key or a token that everybody with the image can read")
	tell(event.SetUID, found.SetUID, "runs with the rights of its owner or group")
	tell(event.WorldWritable, found.WorldWritable, "may be written by everybody")
}

// inImage reports whether what a unit's steps lay down is part of an image: its own, or one that starts from the stage.
func (w *work) inImage(u *plan.Unit) bool {
	return u.IsImage || slices.ContainsFunc(w.o.Plan.Units, func(other *plan.Unit) bool {
		return other.Base.Unit == u && w.inImage(other)
	})
}

// foreignTo keeps the programs that an image cannot run, and tells what the first is for. Stages are built from and not run,
// so they may hold any.
func foreignTo(u *plan.Unit, programs []census.Program) (paths []string, machine string) {
	if !u.IsImage || u.ID.Platform.OS != "linux" {
		return nil, ""
	}
	for _, p := range programs {
		if !p.Runs(u.ID.Platform.Architecture) {
			if paths = append(paths, p.Path); machine == "" {
				machine = p.Architecture
			}
		}
	}
	return paths, machine
}

func keyOfText(text string) digest.Key { return filetree.KeyOfText(text) }
