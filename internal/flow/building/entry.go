package building

import (
	"context"
	"errors"
	"strconv"
	"time"

	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/explain"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/phrase"
	"imbricat/internal/spec/plan"
)

// Entry is a build on its way into the logbook. A logbook that cannot be written to is no reason to build nothing: that
// is a warning.
type Entry struct {
	book  *logbook.Book
	store *store.Store
	build logbook.Build
	sink  event.Sink
	began func(place, platform string) (at time.Time, known bool) // when a step did
}

// begin notes that a build begins, and has it know the last one.
func begin(w *workspace.Workspace, b Options, o *engine.Options) *Entry {
	e := &Entry{store: w.Store, sink: o.Sink}
	project, err := w.Name()
	if err == nil {
		e.book, err = b.Book()
	}
	if err == nil {
		e.build = logbook.Build{Project: project, Command: b.Command, Started: time.Now(),
			Recipe: string(digest.FromBytes([]byte(w.Recipe.File.Text()))), Facts: w.Facts.Known()}
		err = e.book.Begin(&e.build)
	}
	if err != nil {
		e.doubt(err)
		e.book = nil
		return e
	}
	o.Build = strconv.FormatInt(e.build.Number, 10)
	o.Past = e
	return e
}

// Past returns the steps of a unit at the last build. What cannot be read is not known.
func (e *Entry) Past(unit, platform string) (list []explain.PastStep) {
	if e.book == nil {
		return nil
	}
	steps, err := e.book.Past(e.build.Project, unit, platform)
	if err != nil {
		e.doubt(err)
	}
	return pastSteps(steps)
}

// durations tells how long steps took when they were done last. What cannot be read is not known.
func (e *Entry) durations() func(u *plan.Unit, index int) time.Duration {
	all := map[[3]string]time.Duration{}
	if e.book != nil {
		if known, err := e.book.Durations(e.build.Project); err != nil {
			e.doubt(err)
		} else {
			all = known
		}
	}
	return func(u *plan.Unit, index int) time.Duration {
		return all[[3]string{u.ID.Name, u.ID.Platform.String(), u.Steps[index].Label}]
	}
}

// Past returns a reader of the last builds of a project, for those that only look. A store without a logbook has no past.
func Past(project workspace.Project, st *store.Store, book func() (*logbook.Book, error), sink event.Sink) *Entry {
	e := &Entry{store: st, sink: sink}
	name, err := project.Name()
	if err == nil {
		e.build.Project = name
		e.book, err = book()
	}
	if err != nil {
		e.doubt(err)
	}
	return e
}

func pastSteps(steps []logbook.Step) (list []explain.PastStep) {
	for _, one := range steps {
		took := one.Wall
		if one.Outcome == event.Reused.String() {
			took = one.Spared
		}
		p := explain.PastStep{Label: one.Label, Key: digest.Key(one.Key), Inputs: one.Inputs, Took: took}
		if p.Key == "" {
			p.Layer = digest.DiffID(one.Trace)
		}
		list = append(list, p)
	}
	return list
}

func (e *Entry) doubt(err error) {
	e.sink.Send(event.Warning{Code: event.Logbook, Text: err.Error()})
}

// end keeps how the build went.
func (e *Entry) end(ctx context.Context, result *engine.Result, failure error) {
	if e.book == nil {
		return
	}
	one := &e.build
	one.Wall, one.CPU, one.Outcome = time.Since(one.Started), processorTime(), logbook.Built
	if failure != nil {
		one.Outcome, one.Error = logbook.Failed, failure.Error()
		if ctx.Err() != nil {
			one.Outcome, one.Error = logbook.Interrupted, "" // what broke off says nothing more
		}
	}
	var failed *command.FailedError
	errors.As(failure, &failed)
	var steps []logbook.Step
	if result != nil {
		for _, i := range result.Images {
			image := logbook.Image{Name: i.Name, Digest: string(i.Descriptor.Digest)}
			for _, p := range i.Platforms {
				image.Bytes += p.Packed
			}
			one.Images = append(one.Images, image)
		}
		for i := range result.Steps {
			steps = append(steps, e.step(&result.Steps[i], failed))
			switch result.Steps[i].Outcome {
			case event.Ran:
				one.Ran++
			case event.Reused:
				one.Reused++
				one.Spared += result.Steps[i].Spared
			}
		}
	}
	if err := e.book.End(one, steps); err != nil {
		e.doubt(err)
	}
}

func (e *Entry) step(r *engine.StepResult, failed *command.FailedError) logbook.Step {
	s := logbook.Step{Unit: r.Unit, Platform: r.Platform.String(), Place: r.Place, Label: r.Label, Outcome: r.Outcome.String(), Reason: phrase.Line(r.Reason), More: phrase.More(r.Reason),
		Wall: r.Took, Spared: r.Spared, Files: r.Files, Bytes: r.Bytes, Packed: r.Layer.Size, Inputs: r.Inputs}
	s.Began = -1
	if at, known := e.began(r.Place, s.Platform); known && (r.Outcome.Worked() || r.Outcome == event.Failed) { // else it took no time
		s.Began = max(at.Sub(e.build.Started), 0)
	}
	if r.Reason == event.EndedFirst {
		s.Outcome = logbook.Ended
	}
	if r.Run == nil {
		s.Trace = string(r.DiffID)
	} else {
		s.Key, s.Trace, s.Log = string(r.Run.Key), string(r.Run.Trace), string(r.Run.Log)
		if r.Outcome == event.Ran {
			s.CPU = time.Duration(r.Run.CPU) * time.Millisecond
		}
	}
	if failed != nil && r.Outcome == event.Failed && failed.Place == r.Place {
		if log, err := e.store.PutLog(failed.Output); err == nil {
			s.Log = string(log)
		}
	}
	return s
}
