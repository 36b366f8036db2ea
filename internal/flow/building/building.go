// Package building builds what is planned, with the shared cache and the logbook, and tells of it in a document. What is built, and how,
// is the engine's work.
package building

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/flow"
	"imbricat/internal/flow/history"
	"imbricat/internal/flow/sharing"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/phrase"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/share"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Options say how it is built.
type Options struct {
	FreshAll  bool
	Fresh     []string // steps to do again
	KeepGoing bool
	Gather    bool                                        // what others may want is in the result
	Take      *engine.Taking                              // may be nil
	Command   string                                      // as somebody typed it, for the logbook
	Book      func() (*logbook.Book, error)               // opens the logbook
	Cache     func(sink event.Sink) (*share.Cache, error) // opens the shared cache; nil where there is none
}

// Run builds what is planned, with the shared cache and the logbook. There is a document wherever there is a result.
func Run(ctx context.Context, w *workspace.Workspace, view event.Sink, b Options) (*report.Build, *engine.Result, error) {
	told := &warnings{sink: view}
	o, done, err := w.Engine(ctx, told)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	o.FreshAll, o.Fresh, o.KeepGoing, o.Take, o.Gather = b.FreshAll, b.Fresh, b.KeepGoing, b.Take, b.Gather
	cache, err := b.Cache(o.Sink)
	if err != nil {
		return nil, nil, err
	}
	if cache != nil {
		o.Shared = cache
	}
	if err := engine.Wrong(ctx, o.Inputs); err != nil {
		return nil, nil, err
	}
	log := begin(w, b, &o)
	log.began = told.began
	told.after(aWhile, func() event.Event { return engine.Outline(w.Plan, log.durations()) })
	result, err := engine.Run(ctx, o)
	told.over()
	log.end(ctx, result, err)
	if name, err := w.Name(); err == nil {
		history.NoteBuild(ctx, w.Store, name, result)
	}
	sharing.Upload(ctx, w.Plan, cache, result, o.Sink)
	if result == nil {
		return nil, nil, err
	}
	d := document(w.Plan, result)
	for _, u := range w.Plan.Stages {
		if err == nil {
			d.Stages = append(d.Stages, report.BuiltStage{Name: u.ID.Name, Platform: u.ID.Platform.String()})
		}
	}
	d.Warnings, d.Number = told.sorted(), log.build.Number
	for i := range d.Steps {
		one := &d.Steps[i]
		one.Step, one.Reason = w.Redactor.Text(one.Step), w.Redactor.Text(one.Reason)
	}
	for i := range d.Warnings {
		d.Warnings[i].Text = w.Redactor.Text(d.Warnings[i].Text)
	}
	if cache != nil {
		moved := cache.Stats()
		d.Shared = &receipt.Shared{Place: cache.Place(), Requests: moved.Requests, Read: moved.Read, Written: moved.Written}
	}
	return d, result, err
}

// aWhile is after what time it is told of which steps a build is: to find out how long they took costs something.
const aWhile = time.Second

// warnings passes events on and keeps the warnings among them, and when steps began.
type warnings struct {
	sink  event.Sink
	mutex sync.Mutex
	list  []receipt.Warning
	times map[[2]string]time.Time // when steps began, by place and platform
	late  *time.Timer             // sends something
	sent  chan struct{}
}

// begins notes when a step began: the first time, or when it did so really.
func (w *warnings) begins(t event.Task, at time.Time, really bool) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.times == nil {
		w.times = map[[2]string]time.Time{}
	}
	if step := [2]string{t.Place, t.Platform}; t.Place != "" && (really || w.times[step].IsZero()) {
		w.times[step] = at
	}
}

// began tells when a step began.
func (w *warnings) began(place, platform string) (at time.Time, known bool) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	at, known = w.times[[2]string{place, platform}]
	return at, known
}

// after sends an event later, unless the build is over by then.
func (w *warnings) after(d time.Duration, e func() event.Event) {
	w.sent = make(chan struct{})
	w.late = time.AfterFunc(d, func() {
		defer close(w.sent)
		w.sink.Send(e())
	})
}

// over has nothing be sent any more.
func (w *warnings) over() {
	if !w.late.Stop() {
		<-w.sent
	}
}

// Send implements event.Sink.
func (w *warnings) Send(e event.Event) {
	switch e := e.(type) {
	case event.Started:
		w.begins(e.Task, time.Now(), e.Act == "running") // what came before was waiting
	case event.Finished:
		w.begins(e.Task, time.Now().Add(-e.Took), false)
	}
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

// document tells of a build as people and machines read it.
func document(p *plan.Plan, r *engine.Result) *report.Build {
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
		if t.Run != nil {
			d.Steps[len(d.Steps)-1].Reached = Reached(t.Run)
		}
		if t.Run != nil && t.Outcome == event.Ran {
			addUsed(&d.Steps[len(d.Steps)-1], &t)
		}
		if t.Outcome == event.Failed {
			d.Steps[len(d.Steps)-1].Position = positionOf(p, t.Unit, t.Place)
		}
		d.Spared += t.Spared.Seconds()
		switch t.Outcome {
		case event.Ran:
			d.Ran++
			d.Made, d.MadeBytes = d.Made+t.Layers, d.MadeBytes+t.Packed
		case event.Reused:
			d.Reused++
		}
	}
	return d
}

// addUsed tells what a command took, and what it took last time.
func addUsed(s *receipt.Step, r *engine.StepResult) {
	used := func(run *store.Run) receipt.Used {
		return receipt.Used{Seconds: float64(run.Millis) / 1000, Processor: float64(run.CPU) / 1000, Memory: run.Memory}
	}
	now := used(r.Run)
	s.Failed, s.Processor, s.Memory = r.Failed, now.Processor, now.Memory
	if r.Before != nil {
		before := used(r.Before)
		s.Before = &before
	}
}

// Reached is what a run reached, as people and machines read it.
func Reached(r *store.Run) (all []receipt.Reached) {
	for _, one := range r.Reached {
		all = append(all, receipt.Reached{To: one.To, Times: one.Times, Bytes: one.Bytes, Status: one.Status, Content: one.Content, Problem: string(one.Problem)})
	}
	return all
}

// positionOf is where the recipe has a step of a unit; without a file where it is none of its steps.
func positionOf(p *plan.Plan, unit, place string) receipt.Position {
	for _, u := range p.Units {
		for i := range u.Steps {
			if u.ID.Name == unit && place == fmt.Sprintf("%s:%d", unit, i+1) {
				return receipt.PositionAt(p.File.Place(u.Steps[i].Pos))
			}
		}
	}
	return receipt.Position{}
}

// CheckSteps refuses names that no step bears.
func CheckSteps(p *plan.Plan, steps []string) error {
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
