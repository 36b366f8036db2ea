package build

import (
	"context"
	"errors"
	"fmt"
	"time"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/tree"
)

// Preview is what a build would do, found without packing or fetching anything.
type Preview struct {
	Units     []UnitPreview
	Files     int   // taken in from the project folder, each counted once
	Bytes     int64 // of these
	LeftFiles int   // left out by patterns, below the folders that are copied
	LeftBytes int64
	Expected  time.Duration // along the critical path
}

// UnitPreview is what a build would do for a stage or an image for one platform.
type UnitPreview struct {
	Unit       *plan.Unit
	Base       string
	BaseDigest digest.Digest
	Needs      []string // units that it waits for
	Steps      []StepPreview
	Content    *Content // of an image that is weighed and whose steps are all known
	Unknown    string   // why what an image holds is not known
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
	Reason   string
	More     []string // all that there is to say of the reason
	Files    int
	Bytes    int64
}

// Look finds what a build would do. Mistakes are reported as by Run.
func Look(ctx context.Context, o Options) (*Preview, error) {
	b := newBuilder(o)
	b.looking = true
	defer b.close()
	if err := b.prepare(ctx); err != nil {
		return nil, err
	}
	p := &Preview{}
	unknown := map[*plan.Unit]string{}
	for _, u := range o.Plan.Units {
		one, err := b.look(ctx, u, unknown)
		if err != nil {
			return nil, err
		}
		b.expect(&one)
		p.Units = append(p.Units, one)
	}
	p.critical()
	if o.Weigh {
		if err := b.contentsOf(ctx, p); err != nil {
			return nil, err
		}
	}
	return p, b.measure(p)
}

// look previews one unit; the units that it uses come before it. unknown holds why a unit's view cannot be known yet.
func (b *builder) look(ctx context.Context, u *plan.Unit, unknown map[*plan.Unit]string) (UnitPreview, error) {
	out := UnitPreview{Unit: u, Base: "nothing"}
	s := b.units[u]
	if below := u.Base.Unit; below != nil {
		out.Base = below.ID.Name
		unknown[u] = unknown[below]
	} else if u.Base.Reference.String() != "" {
		base := b.bases[keyOf(u.Base.Reference, u)]
		out.Base, out.BaseDigest = base.resolved.Name, base.resolved.Root.Digest
		if !base.resolved.Here(ctx) {
			unknown[u] = "the base is not in the store yet"
		}
	}
	for i := range u.Steps {
		if unknown[u] == "" {
			unknown[u] = b.whyUnknown(ctx, u, &u.Steps[i], unknown)
		}
	}
	var err error
	if unknown[u] == "" {
		s.once.Do(func() {
			defer close(s.done)
			if s.err = b.start(ctx, u, s); s.err == nil {
				s.expected = len(s.loose) + len(u.Steps)
				s.err = b.composeAll(ctx, u, s, event.Discard, func(*stepTree) {})
			}
			if s.err == nil && u.IsImage {
				s.err = b.arrange(ctx, u, s)
			}
		})
		var stop *wouldRun
		if errors.As(s.err, &stop) {
			return b.upTo(out, s, stop, unknown), nil
		}
		if err = s.err; err != nil {
			return out, err
		}
	}
	for i := range u.Steps {
		out.Steps = append(out.Steps, b.forecast(u, s, i, unknown[u]))
	}
	return out, nil
}

// upTo previews a unit that has a command to run: what comes after depends on what it leaves.
func (b *builder) upTo(out UnitPreview, s *unitState, stop *wouldRun, unknown map[*plan.Unit]string) UnitPreview {
	u := out.Unit
	why := ""
	for i := range u.Steps {
		step := &u.Steps[i]
		switch {
		case step == stop.step:
			out.Steps = append(out.Steps, StepPreview{Label: step.Label, Forecast: WillRun, Reason: stop.why.text, More: stop.why.more})
			why = fmt.Sprintf("on what step %d leaves", i+1)
			unknown[u] = fmt.Sprintf("on what %s:%d leaves", u.ID.Name, i+1)
		default:
			out.Steps = append(out.Steps, b.forecast(u, s, i, why))
		}
	}
	return out
}

// whyUnknown tells what a step needs that is not on this machine yet.
func (b *builder) whyUnknown(ctx context.Context, u *plan.Unit, step *plan.Step, unknown map[*plan.Unit]string) string {
	address, sum := "", ""
	switch do := step.Do.(type) {
	case plan.Take:
		if do.Unit != nil {
			return unknown[do.Unit]
		}
		if !b.bases[keyOf(do.Reference, u)].resolved.Here(ctx) {
			return fmt.Sprintf("%s is not in the store yet", do.Reference)
		}
	case plan.Unpack:
		address, sum = do.Address, do.SHA256
	case plan.Fetch:
		address, sum = do.Address, do.SHA256
	}
	if address == "" {
		return ""
	}
	if _, here := b.kept(sum); !here {
		return address + " is not fetched yet"
	}
	return ""
}

func (b *builder) forecast(u *plan.Unit, s *unitState, i int, unknown string) StepPreview {
	out := StepPreview{Label: u.Steps[i].Label, Forecast: Depends, Reason: unknown}
	if unknown != "" {
		if c, ok := u.Steps[i].Do.(plan.Copy); ok {
			for _, from := range c.From {
				if got, err := b.pick(c, from); err == nil {
					files, bytes := sizeOf(got.survey)
					out.Files, out.Bytes = out.Files+files, out.Bytes+bytes
				}
			}
		}
		return out
	}
	t := s.trees[i]
	out.Files, out.Bytes = t.files, t.bytes
	layers, found := s.layersOf(t), 0
	for _, l := range layers {
		if _, is := b.o.Store.Record(l.layerKey()); is || l.layer != nil {
			found++
		}
	}
	switch {
	case t.empty && t.ran == nil:
		out.Forecast, out.Reason = WillSkip, nothing
	case t.ran != nil:
		out.Forecast, out.Reason = WillReuse, t.ran.why.text
	case !u.IsImage:
		out.Forecast, out.Reason = WillSkip, noLayer
	case len(layers) == 0 && len(s.layers) > 0:
		out.Forecast, out.Reason = WillSkip, replaced
	case len(layers) == 0: // what comes after it is not known yet, hence neither are its layers
		if _, is := b.o.Store.Record(t.layerKey()); is {
			out.Forecast, out.Reason = WillReuse, unchanged
		} else {
			out.Forecast, out.Reason = WillRun, notPacked
		}
	case found == len(layers):
		out.Forecast, out.Reason = WillReuse, unchanged
	case len(layers) > 1:
		out.Forecast, out.Reason = WillRun, fmt.Sprintf("%s: %d of %s", notPacked, len(layers)-found, plural(len(layers), "layer"))
	default:
		out.Forecast, out.Reason = WillRun, notPacked
	}
	return out
}

func sizeOf(survey *tree.Survey) (files int, bytes int64) {
	for i := range survey.Picked {
		if p := &survey.Picked[i]; p.Kind == tree.File {
			files++
			bytes += p.Stat.Size
		}
	}
	return files, bytes
}

// measure counts what is taken in and left out over all copies, each path once.
func (b *builder) measure(p *Preview) error {
	taken, left := map[string]int64{}, map[string]bool{}
	b.picks.each(func(c *copied) {
		for i := range c.survey.Picked {
			if one := &c.survey.Picked[i]; one.Kind == tree.File {
				taken[one.Path] = one.Stat.Size
			}
		}
		for _, path := range c.survey.LeftOut {
			left[path] = true
		}
	})
	for path, size := range taken {
		delete(left, path)
		p.Files++
		p.Bytes += size
	}
	for path := range left {
		files, bytes, err := b.o.Source.Measure(path)
		if err != nil {
			return err
		}
		p.LeftFiles, p.LeftBytes = p.LeftFiles+files, p.LeftBytes+bytes
	}
	return nil
}
