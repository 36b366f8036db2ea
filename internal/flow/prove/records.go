package prove

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"

	"imbricat/internal/content/causes"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/output/report"
)

// mostRecordFiles bounds how many files of a record are told of.
const mostRecordFiles = 20

// Records runs commands again whose records the steps of a plan reuse, a sample of so many at most, and tells which left something else.
// Those that were reused more often, by reuses of keys and traces, are more likely to be in the sample. What nobody has run yet is run first.
func Records(ctx context.Context, o Options, most int, reuses map[[2]string]int) (*report.StoreProof, error) {
	p, out := newProver(o), &report.StoreProof{Records: []report.ProvenRecord{}}
	eo, done, err := o.Work.Engine(ctx, o.Sink)
	if err != nil {
		return nil, err
	}
	defer done()
	p.bases = eo.Bases
	if err := engine.Wrong(ctx, eo.Inputs); err != nil {
		return nil, err
	}
	eo.Done = func(ctx context.Context, _ *engine.Result, steps []*engine.Done) error {
		p.steps = steps
		chosen, of := sample(steps, most, reuses)
		if out.Of = of; len(chosen) == 0 {
			return nil
		}
		return p.round(ctx, func(ctx context.Context, w *Elsewhere, _ *local.Local, v *varied) error {
			r := &round{prover: p, where: w, varied: v}
			for _, d := range chosen {
				one, err := r.record(ctx, d)
				if err != nil {
					return err
				}
				one.Reused = reuses[[2]string{string(d.Run.Key), string(d.Run.Trace)}]
				out.Records = append(out.Records, one)
			}
			return nil
		})
	}
	_, err = engine.Run(ctx, eo)
	return out, err
}

// sample chooses records, those that were reused more often with more chance, and tells among how many. One that several steps share counts
// once.
func sample(steps []*engine.Done, most int, reuses map[[2]string]int) (chosen []*engine.Done, of int) {
	type lot struct {
		step *engine.Done
		at   float64
	}
	var lots []lot
	seen := map[[2]string]bool{}
	for _, d := range steps {
		if d.Run == nil || d.Ran {
			continue
		}
		run := [2]string{string(d.Run.Key), string(d.Run.Trace)}
		if seen[run] {
			continue
		}
		seen[run] = true
		// The smallest of such numbers are a sample without replacement, weighted (Efraimidis and Spirakis).
		lots = append(lots, lot{d, rand.ExpFloat64() / float64(1+reuses[run])})
	}
	slices.SortFunc(lots, func(a, b lot) int {
		switch {
		case a.at < b.at:
			return -1
		case a.at > b.at:
			return 1
		}
		return 0
	})
	for _, l := range lots[:min(most, len(lots))] {
		chosen = append(chosen, l.step)
	}
	return chosen, len(lots)
}

// record runs the command of a record on the view that its step has now. What differs is run once more, to tell what is wrong from what is
// never the same.
func (r *round) record(ctx context.Context, d *engine.Done) (report.ProvenRecord, error) {
	one := report.ProvenRecord{Place: d.Name.Place(), Step: d.Plan.Label, Platform: d.Name.Unit.Platform.String(), Outcome: report.RecordSame}
	recorded, err := sideOfTree(ctx, d.Tree)
	if err != nil {
		return one, err
	}
	plain := r.where.Executor(ctx, func(*executor.Command) conditions.Conditions { return conditions.Conditions{} })
	first, err := r.left(ctx, d, "whose record is reused", plain, nil)
	var second side
	paths := differing(recorded, first)
	if err == nil && len(paths) > 0 {
		if err := pause(ctx); err != nil {
			return one, err
		}
		second, err = r.left(ctx, d, "whose record differs", plain, nil)
	}
	var failed *command.FailedError
	switch {
	case errors.As(err, &failed) && ctx.Err() == nil:
		one.Outcome, one.What = report.RecordFailed, "the command "+failed.What+": "+lastLine(failed.Output)
		return one, nil
	case err != nil:
		return one, err
	case len(paths) == 0:
		return one, nil
	}
	one.Outcome = report.RecordWrong
	if len(differing(first, second)) > 0 {
		one.Outcome = report.RecordUnstable
	}
	for _, p := range paths[:min(len(paths), mostRecordFiles)] {
		one.Files = append(one.Files, causes.Shown(p))
	}
	return one, nil
}
