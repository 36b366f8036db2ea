package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/explain"
	"imbricat/internal/engine/graph"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/sources"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/plan"
)

// Preview is what a build would do, found without packing or fetching anything.
type Preview struct {
	Units     []UnitPreview
	Files     int   // taken in from the project folder, each counted once
	Bytes     int64 // of these
	LeftFiles int   // left out by patterns, below the folders that are copied
	LeftBytes int64
	Left      []LeftOut     // what that is, by paths
	Expected  time.Duration // along the critical path
}

// LeftOut is a file or a folder of the project that patterns leave out.
type LeftOut struct {
	Path  string
	Files int
	Bytes int64
}

// UnitPreview is what a build would do for a stage or an image for one platform.
type UnitPreview struct {
	Unit       *plan.Unit
	Base       string
	BaseDigest digest.Digest
	Needs      []string // units that it waits for
	Steps      []StepPreview
	Unknown    string // of an image that is weighed: why it is not known what it holds
}

// Forecast tells what would become of a step.
type Forecast string

// The forecasts.
const (
	WillReuse Forecast = "reused"
	WillRun   Forecast = "runs"
	WillSkip  Forecast = "skipped" // no layer is needed
	Depends   Forecast = "depends" // on something that is not on this machine yet
)

// StepPreview is what would become of a step.
type StepPreview struct {
	Label    string
	Place    string
	Expected time.Duration // what it took when it was done last, where it is not reused
	Critical bool          // nothing that the build needs takes longer than the chain that it is in
	Forecast Forecast
	Reason   event.Reason
	Files    int
	Bytes    int64
}

// LookOptions are what a preview needs.
type LookOptions struct {
	Inputs
	// Weigh is called with each image in turn, with what its layers hold where that is known, which it may keep; nil: that is not wanted. It is
	// much, so it is not gathered here.
	Weigh func(ctx context.Context, one *UnitPreview, content *layering.Content) error
}

// look tells what became of work that was only looked at.
type look struct {
	w         *work
	claims    claims
	foresight foresight
}

// Look finds what a build would do. Mistakes are reported as by Run.
func Look(ctx context.Context, o LookOptions) (*Preview, error) {
	w := newWork(ctx, Options{Inputs: o.Inputs}, true)
	defer w.close()
	if err := w.lookOver(ctx); err != nil {
		return nil, err
	}
	p := &Preview{}
	l := &look{w, newClaims(), newForesight(w)}
	for _, u := range o.Plan.Units {
		one := l.preview(ctx, w.units[u])
		l.expect(&one)
		p.Units = append(p.Units, one)
	}
	p.critical()
	if o.Weigh != nil {
		if err := l.weigh(ctx, p, o.Weigh); err != nil {
			return nil, err
		}
	}
	return p, l.measure(p)
}

// lookOver does all that can be done without packing or fetching anything, and returns the first mistake.
func (w *work) lookOver(ctx context.Context) error {
	if err := w.prepare(ctx); err != nil {
		return err
	}
	for _, u := range w.o.Plan.Units {
		w.unit(u)
	}
	_ = w.graph.Run(ctx) // what cannot be known yet is no error
	if err := ctx.Err(); err != nil {
		return err
	}
	for _, u := range w.o.Plan.Units {
		if err := w.units[u].mistake(); err != nil {
			return err
		}
	}
	return nil
}

// mistake gives what went wrong with a unit, but for what is only not known yet.
func (n *unitNode) mistake() error {
	nodes := []*graph.Node{n.open}
	for _, s := range n.steps {
		if s.settled != nil {
			nodes = append(nodes, s.settled)
		}
		nodes = append(nodes, s.look, s.done)
	}
	for _, more := range []*graph.Node{n.divided, n.settled, n.examined} {
		if more != nil {
			nodes = append(nodes, more)
		}
	}
	for _, node := range nodes {
		var would *mustRun
		var not *notYet
		if node.Cause() != nil {
			node = node.Cause()
		}
		if err := node.Err(); err != nil && !errors.As(err, &would) && !errors.As(err, &not) {
			return err
		}
	}
	return nil
}

// preview tells what would become of a unit.
func (l *look) preview(ctx context.Context, n *unitNode) UnitPreview {
	u := n.plan
	out := UnitPreview{Unit: u, Base: "nothing"}
	if u.Base.Unit != nil {
		out.Base = u.Base.Unit.ID.Name
	} else if u.Base.Reference != (reference.Reference{}) {
		found := l.w.found[keyOf(u.Base.Reference, u)]
		out.Base, out.BaseDigest = found.Name, found.Root.Digest
	}
	for _, s := range n.steps {
		one := StepPreview{Label: s.plan.Label, Place: s.name.Place()}
		l.forecast(ctx, &one, s)
		out.Steps = append(out.Steps, one)
	}
	return out
}

// forecast tells what would become of a step.
func (l *look) forecast(ctx context.Context, out *StepPreview, s *stepNode) {
	var would *mustRun
	switch {
	case errors.As(s.look.Err(), &would):
		out.Forecast, out.Reason = WillRun, would.why
	case s.outcome != nil:
		l.forecastDone(ctx, out, s, s.outcome)
	default:
		if o := l.foresight.foresee(ctx, s); o != nil {
			l.forecastDone(ctx, out, s, o)
			return
		}
		out.Forecast, out.Reason = Depends, event.Text(dependsOn(s))
		l.estimate(out, s)
	}
}

// dependsOn tells what must be known first before it can be said what would become of a step.
func dependsOn(s *stepNode) string {
	var would *mustRun
	if errors.As(s.look.Err(), &would) {
		return fmt.Sprintf("on what step %d leaves", s.name.Index+1)
	}
	cause := s.look.Cause()
	switch {
	case cause == nil:
		return ""
	case errors.As(cause.Err(), &would) && would.step.unit == s.unit:
		return fmt.Sprintf("on what step %d leaves", would.step.name.Index+1)
	case would != nil:
		return fmt.Sprintf("on what %s leaves", would.step.name.Place())
	}
	return cause.Err().Error()
}

// estimate adds up what a step takes of the project, whatever it does with it.
func (l *look) estimate(out *StepPreview, s *stepNode) {
	for _, one := range s.plan.Do.Sources() {
		if got, err := l.w.tools.Project.Pick(one); err == nil && !one.Single {
			files, bytes := got.Size()
			out.Files, out.Bytes = out.Files+files, out.Bytes+bytes
		}
	}
}

// forecastDone tells what would become of a step of which it is known what it lays down.
func (l *look) forecastDone(ctx context.Context, out *StepPreview, s *stepNode, o *step.Outcome) {
	out.Files, out.Bytes = o.Files, o.Bytes
	switch {
	case o.Run != nil:
		out.Forecast = WillReuse
		_, out.Reason, _ = s.ran(!l.claims.run(o.Run.ID))
		return
	case o.Empty:
		out.Forecast, out.Reason = WillSkip, event.LaysNothing
		return
	case !s.unit.plan.IsImage:
		out.Forecast, out.Reason = WillSkip, event.NoLayer
		return
	}
	var layers []*layering.Layer
	if d := l.foresight.division(ctx, s.unit); d != nil {
		if layers = layering.Of(d.Layers, o); len(layers) == 0 {
			out.Forecast, out.Reason = WillSkip, event.Replaced
			return
		}
	}
	keys := []digest.Key{layer.RecordKey(o.Key, layer.Compression(s.unit.plan.Compression))} // as long as its layers are not known
	missing := 0
	if len(layers) > 0 {
		keys = nil
	}
	for _, one := range layers {
		if one.Published == nil {
			keys = append(keys, one.Key())
		}
	}
	for _, key := range keys {
		if _, found := l.w.o.Store.Record(key); !found {
			missing++
		}
	}
	switch {
	case missing == 0:
		out.Forecast, out.Reason = WillReuse, event.Unchanged
	case len(layers) > 1:
		out.Forecast, out.Reason = WillRun, event.Packed{New: missing, Of: len(layers)}
	default:
		out.Forecast, out.Reason = WillRun, event.Packed{}
	}
}

// weigh tells of images what their layers hold, one after the other.
func (l *look) weigh(ctx context.Context, p *Preview, use func(context.Context, *UnitPreview, *layering.Content) error) error {
	for i := range p.Units {
		one := &p.Units[i]
		if !one.Unit.IsImage {
			continue
		}
		content, err := l.content(ctx, one)
		if err != nil {
			return fmt.Errorf("%s: %w", one.Unit.ID, err)
		}
		if err := use(ctx, one, content); err != nil {
			return err
		}
	}
	return nil
}

// content tells what the layers of an image hold whose steps are all known; nil of others, and why.
func (l *look) content(ctx context.Context, one *UnitPreview) (*layering.Content, error) {
	n := l.w.units[one.Unit]
	for _, s := range n.steps {
		if s.outcome == nil {
			one.Unknown = dependsOn(s)
		}
	}
	if one.Unknown != "" || n.image == nil || n.image.division == nil {
		return nil, nil
	}
	known := layering.Known{Unit: n.image.layering, Division: n.image.division, Before: l.before}
	if n.base != nil {
		for _, id := range n.base.Config.RootFS.DiffIDs {
			known.Base = append(known.Base, digest.DiffID(id))
		}
	}
	return layering.Describe(ctx, l.w.o.Store, known)
}

// before returns what the steps before one laid down.
func (l *look) before(o *step.Outcome) (all []*step.Outcome) {
	at := slices.IndexFunc(l.w.o.Plan.Units, func(u *plan.Unit) bool { return u.ID == o.Name.Unit })
	for _, s := range l.w.units[l.w.o.Plan.Units[at]].before(o.Name.Index) {
		all = append(all, s.outcome)
	}
	return all
}

// measure counts what is taken in and left out over all copies, each path once.
func (l *look) measure(p *Preview) error {
	taken, left := map[string]int64{}, map[string]bool{}
	l.w.tools.Project.Each(func(c *sources.Picked) {
		for i := range c.Survey.Picked {
			if one := &c.Survey.Picked[i]; one.Kind == tree.File {
				taken[one.Path] = one.Stat.Size
			}
		}
		for _, path := range c.Survey.LeftOut {
			left[path] = true
		}
	})
	for path, size := range taken {
		delete(left, path)
		p.Files++
		p.Bytes += size
	}
	for _, path := range slices.Sorted(maps.Keys(left)) {
		one := LeftOut{Path: path}
		var err error
		if one.Files, one.Bytes, err = l.w.o.Folder.Measure(path); err != nil {
			return err
		}
		p.Left, p.LeftFiles, p.LeftBytes = append(p.Left, one), p.LeftFiles+one.Files, p.LeftBytes+one.Bytes
	}
	return nil
}

// expect fills in what a unit waits for and how long its steps took when they were done last.
func (l *look) expect(one *UnitPreview) {
	u := one.Unit
	for _, other := range u.Needs() {
		one.Needs = append(one.Needs, other.ID.String())
	}
	var past []explain.PastStep
	if l.w.o.Past != nil {
		past = l.w.o.Past.Past(u.ID.Name, u.ID.Platform.String())
	}
	for i := range u.Steps {
		step := &one.Steps[i]
		if step.Forecast != WillRun && step.Forecast != Depends {
			continue
		}
		for at, p := range past {
			if p.Label == step.Label || at == i && step.Expected == 0 {
				step.Expected = p.Took
			}
		}
	}
}
