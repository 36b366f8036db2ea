// Package prove makes images again, without reuse, under other conditions than those that they were made under, and holds the results against
// each other. Of what differs it finds the step, the bytes, the condition that causes it and a change of the recipe that cures it.
//
// All is made in a store of its own, which goes afterwards: nothing that was made under odd conditions is ever reused. It prints nothing.
package prove

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"imbricat/internal/content/causes"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/engine/step"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

// Options say what is proved, and how. All fields must be set but those that say otherwise.
type Options struct {
	Work *workspace.Workspace
	// Open opens another store, for the same images of the project.
	Open func(ctx context.Context, w Where) (*Elsewhere, error)
	// Here makes what runs commands beside the store of Work under conditions. It records nothing.
	Here func(ctx context.Context, under func(c *executor.Command) conditions.Conditions) *local.Local
	// Folders are where another store may be made, the most welcome first.
	Folders []string
	Rounds  int  // how often all is made again
	Cure    bool // changes of steps are tried
	Sink    event.Sink
}

// Where is where images are made again.
type Where struct {
	Dir   string // the project's folder, by another name
	Store string // a folder that is not there yet
}

// Elsewhere is another store, with the project planned anew.
type Elsewhere struct {
	*workspace.Workspace
	// Executor makes what runs commands there under conditions.
	Executor func(ctx context.Context, under func(c *executor.Command) conditions.Conditions) *local.Local
	Close    func()
}

// prover proves the images of a plan.
type prover struct {
	Options
	made    *engine.Result
	steps   []*engine.Done
	bases   engineBases
	proof   *report.Proof
	units   map[plan.UnitID]*plan.Unit
	tried   map[string]*report.ProvenStep // steps that were looked into, by what is the same on every platform
	runtime time.Duration                 // that narrowing may still take
}

// Images makes the images of a plan, reusing what is there, and then again without reuse.
func Images(ctx context.Context, o Options) (*report.Proof, error) {
	began := time.Now()
	p := newProver(o)
	eo, done, err := o.Work.Engine(ctx, event.Func(func(e event.Event) {
		if f, is := e.(event.Finished); is && !f.Outcome.Worked() && f.Outcome != event.Failed {
			return // what is there already is what is proved
		}
		o.Sink.Send(e)
	}))
	if err != nil {
		return nil, err
	}
	defer done()
	p.bases = eo.Bases
	if err := engine.Wrong(ctx, eo.Inputs); err != nil {
		return nil, err
	}
	for _, u := range eo.Plan.Units {
		p.units[u.ID] = u
	}
	eo.Done = func(ctx context.Context, r *engine.Result, steps []*engine.Done) error {
		p.made, p.steps, p.proof.Built = r, steps, r.Took.Seconds()
		for p.proof.Rounds < max(1, o.Rounds) && p.equal() {
			if err := p.round(ctx, p.again); err != nil {
				return err
			}
		}
		return nil
	}
	if _, err := engine.Run(ctx, eo); err != nil {
		return nil, err
	}
	p.proof.Reproducible = p.equal() && p.proof.Rounds > 0
	p.proof.Seconds = time.Since(began).Seconds()
	return p.proof, nil
}

func newProver(o Options) *prover {
	return &prover{Options: o, units: map[plan.UnitID]*plan.Unit{}, tried: map[string]*report.ProvenStep{}, runtime: longestNarrowing,
		proof: &report.Proof{Images: []report.ProvenImage{}, Stages: []report.ProvenStage{}, Varied: []report.Condition{}, Fixed: []report.Condition{}, Unvaried: []report.Condition{}, Differing: []report.ProvenStep{}}}
}

// equal reports whether nothing was found to differ so far.
func (p *prover) equal() bool {
	return len(p.proof.Differing) == 0 && !slices.ContainsFunc(p.proof.Images, func(i report.ProvenImage) bool { return i.Digest != i.Again }) &&
		!slices.ContainsFunc(p.proof.Stages, func(s report.ProvenStage) bool { return !s.Equal })
}

// round makes all again, in another store, and hands on where.
func (p *prover) round(ctx context.Context, use func(ctx context.Context, w *Elsewhere, ex *local.Local, v *varied) error) error {
	p.proof.Rounds++
	v := p.vary()
	dir, release, err := ownFolder(p.room())
	if err != nil {
		return err
	}
	defer release()
	removing := func() { _ = os.RemoveAll(dir) }
	defer func() { removing() }()
	link, err := linkTo(p.Work.Dir, dir)
	if err != nil {
		return err
	}
	restore, err := surround(p.proof.Rounds)
	if err != nil {
		return err
	}
	defer restore()
	w, err := p.Open(ctx, Where{Dir: link, Store: filepath.Join(dir, "store")})
	if err != nil {
		return err
	}
	ex := w.Executor(ctx, v.of)
	defer w.Close()
	if box, err := ex.Box(ctx); err == nil {
		removing = func() { removeFolder(box, dir) }
		sweep(box, append(p.Folders, os.TempDir()))
	}
	if p.proof.Rounds == 1 {
		if err := p.probe(ctx, ex, dir, v); err != nil {
			return err
		}
	}
	return use(ctx, w, ex, v)
}

// engine gathers what it takes to make all in another store: bases and downloads are taken over.
func (p *prover) engine(ctx context.Context, w *Elsewhere, ex *local.Local) (o engine.Options, done func(), err error) {
	if o, done, err = w.Engine(ctx, quiet(p.Sink)); err != nil {
		return o, nil, err
	}
	o.Executor = ex
	o.Bases = &lentBases{engineBases: p.bases, from: p.Work.Places, to: w.Places}
	if err = lendDownloads(ctx, p.Work.Plan, p.Work.Places, w.Places); err != nil {
		done()
	}
	return o, done, err
}

// again makes the images in another store, and compares.
func (p *prover) again(ctx context.Context, w *Elsewhere, ex *local.Local, v *varied) error {
	o, done, err := p.engine(ctx, w, ex)
	if err != nil {
		return err
	}
	defer done()
	o.Done = func(ctx context.Context, r *engine.Result, steps []*engine.Done) error {
		return p.compare(ctx, &round{prover: p, where: w, varied: v, made: r, steps: steps})
	}
	result, err := engine.Run(ctx, o)
	var failed *command.FailedError
	if errors.As(err, &failed) && ctx.Err() == nil {
		p.failed(failed, result)
		return nil
	}
	return err
}

// failed tells of a command that ended well when the image was made, and not under other conditions.
func (p *prover) failed(f *command.FailedError, r *engine.Result) {
	for _, i := range p.made.Images {
		p.proof.Images = append(p.proof.Images, report.ProvenImage{Name: i.Name, Digest: i.Descriptor.Digest, Platforms: platformsOf(i)})
	}
	for _, d := range p.steps {
		if d.Name.Place() == f.Place && d.Name.Unit.String() == f.Unit {
			p.proof.Differing = append(p.proof.Differing, report.ProvenStep{Place: f.Place, Step: f.Label, Platform: d.Name.Unit.Platform.String(), Files: []report.ProvenFile{}, Causes: []causes.Cause{},
				Failed: fmt.Sprintf("under other conditions the command %s: %s", f.What, lastLine(f.Output))})
		}
	}
	if r != nil {
		p.count(r)
	}
}

func (p *prover) count(r *engine.Result) {
	p.proof.Steps, p.proof.Commands = len(r.Steps), 0
	for _, s := range r.Steps {
		if s.Run != nil {
			p.proof.Commands++
		}
	}
}

func platformsOf(i engine.ImageResult) (all []string) {
	for _, one := range i.Platforms {
		all = append(all, one.Platform.String())
	}
	return all
}

// quiet passes on how work goes, without doubts: whoever builds was told them.
func quiet(sink event.Sink) event.Sink {
	return event.Func(func(e event.Event) {
		if _, is := e.(event.Warning); !is {
			sink.Send(e)
		}
	})
}

// round is one making of all, done and open.
type round struct {
	*prover
	where  *Elsewhere
	varied *varied
	made   *engine.Result
	steps  []*engine.Done
}

// compare holds what was made again against what was made.
func (p *prover) compare(ctx context.Context, r *round) error {
	p.count(r.made)
	again := map[string]engine.ImageResult{}
	for _, i := range r.made.Images {
		again[i.Name] = i
	}
	p.proof.Images = p.proof.Images[:0]
	for _, i := range p.made.Images {
		other := again[i.Name]
		one := report.ProvenImage{Name: i.Name, Digest: i.Descriptor.Digest, Again: other.Descriptor.Digest, Platforms: platformsOf(i)}
		if one.Digest != one.Again {
			var err error
			if one.Settings, err = r.settings(ctx, i, other); err != nil {
				return err
			}
		}
		p.proof.Images = append(p.proof.Images, one)
	}
	p.proof.Stages = p.proof.Stages[:0]
	other := r.byName()
	for _, u := range p.Work.Plan.Stages {
		differs := slices.ContainsFunc(p.steps, func(d *engine.Done) bool {
			two := other[d.Name]
			return d.Name.Unit == u.ID && (two == nil || two.Tree.Key != d.Tree.Key)
		})
		p.proof.Stages = append(p.proof.Stages, report.ProvenStage{Name: u.ID.Name, Platform: u.ID.Platform.String(), Equal: !differs})
	}
	if p.equal() {
		return nil
	}
	return r.trace(ctx)
}

func (r *round) byName() map[step.Name]*engine.Done {
	all := map[step.Name]*engine.Done{}
	for _, d := range r.steps {
		all[d.Name] = d
	}
	return all
}

// trace finds the steps that did otherwise on the same, and looks into each; what differs since something before it does is counted.
func (r *round) trace(ctx context.Context) error {
	other, tainted := r.byName(), map[plan.UnitID]bool{}
	for _, d := range r.prover.steps {
		below := tainted[d.Name.Unit]
		if u := r.units[d.Name.Unit]; u != nil && u.Base.Unit != nil {
			below = below || tainted[u.Base.Unit.ID]
		}
		for _, u := range d.Needs {
			below = below || tainted[u.ID]
		}
		two := other[d.Name]
		if two == nil || two.Tree.Key == d.Tree.Key {
			if below {
				tainted[d.Name.Unit] = true
			}
			continue
		}
		tainted[d.Name.Unit] = true
		if below && d.Run == nil {
			r.proof.Follow++
			continue
		}
		found, err := r.look(ctx, d, two, below)
		if err != nil {
			return err
		}
		if found == nil {
			r.proof.Follow++
			continue
		}
		r.proof.Differing = append(r.proof.Differing, *found)
	}
	return nil
}
