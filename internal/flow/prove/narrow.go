package prove

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"imbricat/internal/content/causes"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

// A command that does not do the same is run with everything held that can be, and then with one thing changed at a time: what changes with
// it alone depends on it.

// longestNarrowing bounds how long commands may run for that, in one proof.
const longestNarrowing = 10 * time.Minute

// held are the conditions that stay the same from run to run. For a command with a network the clock is not far from the true one, or no
// certificate would hold.
func (r *round) held(c *executor.Command) conditions.Conditions {
	h := conditions.Conditions{Clock: time.Date(2033, 5, 18, 3, 33, 20, 0, time.UTC), Order: conditions.Sorted, Seed: 1, Plain: true, Processors: 1, FirstPID: 300, Machine: machines[0]}
	if c.Outside() {
		h.Clock = r.varied.began.Add(time.Hour)
	}
	return h
}

// change is one condition, changed.
type change struct {
	cause causes.Cause
	times int // how often it is tried: what is up to chance may be the same once
	do    func(c *conditions.Conditions, network bool)
	here  bool // it is run beside the store that the images were made in
}

var changes = []change{
	{causes.Clock, 1, func(c *conditions.Conditions, network bool) {
		if c.Clock = c.Clock.Add(25*time.Hour + 11*time.Minute + 7*time.Second); !network {
			c.Clock = c.Clock.Add(400 * 24 * time.Hour)
		}
	}, false},
	{causes.Listing, 1, func(c *conditions.Conditions, _ bool) { c.Order = conditions.Reversed }, false},
	{causes.Random, 1, func(c *conditions.Conditions, _ bool) { c.Seed = 2 }, false},
	{causes.Processes, 1, func(c *conditions.Conditions, _ bool) { c.FirstPID = 7000 }, false},
	{causes.Machine, 1, func(c *conditions.Conditions, _ bool) { c.Machine = machines[1] }, false},
	{causes.Addresses, 2, func(c *conditions.Conditions, _ bool) { c.Plain = false }, false},
	{causes.Parallel, 3, func(c *conditions.Conditions, _ bool) { c.Processors, c.Jitter = 0, true }, false},
	{causes.Place, 1, func(*conditions.Conditions, bool) {}, true},
}

// apart is how long two runs begin apart at least, so that no second of a file's time is the same.
const apart = 1100 * time.Millisecond

// pause waits for so long.
func pause(ctx context.Context) error {
	select {
	case <-time.After(apart):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// narrowing is the search for what causes one step's differences.
type narrowing struct {
	*round
	d     *engine.Done
	s     *report.ProvenStep
	first side
	noise map[string]bool // paths that differ though nothing is changed
}

// narrow finds which condition changes each file of a step. Those that its files look like come first; when each file has its cause, that is
// enough.
func (r *round) narrow(ctx context.Context, d *engine.Done, s *report.ProvenStep) error {
	n := &narrowing{round: r, d: d, s: s, noise: map[string]bool{}}
	began := time.Now()
	defer func() { r.runtime -= time.Since(began) }()
	once := time.Duration(d.Run.Millis) * time.Millisecond
	if 3*once > r.runtime {
		s.Unexplored = fmt.Sprintf("the command takes %s, and there are %s left for that", once.Round(time.Second), r.runtime.Round(time.Second))
		return nil
	}
	err := n.hold(ctx)
	for _, c := range n.ordered() {
		if err != nil || n.explained() {
			break
		}
		if time.Since(began)+once > r.runtime {
			s.Unexplored = fmt.Sprintf("the command takes %s, and not all conditions could be tried", once.Round(time.Second))
			break
		}
		err = n.try(ctx, c)
	}
	n.settle()
	var failed *command.FailedError
	if errors.As(err, &failed) && ctx.Err() == nil {
		s.Unexplored, s.Narrowed = "with conditions held the command "+failed.What+": "+lastLine(failed.Output), 0
		return nil
	}
	return err
}

// hold runs the command twice with everything held.
func (n *narrowing) hold(ctx context.Context) (err error) {
	if n.first, err = n.run(ctx, "everything held", change{}); err != nil {
		return err
	}
	if err := pause(ctx); err != nil {
		return err
	}
	second, err := n.run(ctx, "everything held once more", change{})
	for _, p := range differing(n.first, second) {
		n.noise[causes.Shown(p)] = true
	}
	return err
}

func (n *narrowing) run(ctx context.Context, why string, c change) (side, error) {
	n.s.Narrowed++
	where := n.where.Executor
	if c.here {
		where = n.Here
	}
	return n.left(ctx, n.d, why, where(ctx, func(command *executor.Command) conditions.Conditions {
		h := n.held(command)
		if c.do != nil {
			c.do(&h, command.Outside())
		}
		return h
	}), nil)
}

// ordered lists the changes, those that the files look like first.
func (n *narrowing) ordered() []change {
	looks := map[causes.Cause]bool{}
	for _, f := range n.s.Files {
		for _, d := range f.Differences {
			looks[d.Cause] = true
		}
	}
	all := slices.Clone(changes)
	slices.SortStableFunc(all, func(a, b change) int {
		switch {
		case looks[a.cause] == looks[b.cause]:
			return 0
		case looks[a.cause]:
			return -1
		}
		return 1
	})
	return all
}

// explained reports whether there is a cause for each file that differs from more than chance.
func (n *narrowing) explained() bool {
	return !slices.ContainsFunc(n.s.Files, func(f report.ProvenFile) bool {
		named := f.Known != "" && len(f.Differences) == 0 // its name itself differs each time
		return len(f.Found) == 0 && !n.noise[f.Path] && !named
	})
}

// try changes one condition.
func (n *narrowing) try(ctx context.Context, c change) error {
	changed := map[string]bool{}
	if do, is := n.d.Plan.Do.(plan.Run); c.here && is && len(do.Keep) > 0 {
		return nil // kept directories are there for builds alone
	}
	for range c.times {
		got, err := n.run(ctx, "with "+causes.Words[c.cause]+" changed", c)
		if err != nil {
			return err
		}
		for _, p := range differing(n.first, got) {
			changed[causes.Shown(p)] = true
		}
	}
	for i := range n.s.Files {
		if f := &n.s.Files[i]; changed[f.Path] && !n.noise[f.Path] {
			f.Found = append(f.Found, c.cause)
		}
	}
	return nil
}

// mostFound is how many conditions can be believed to change one file by themselves: what changes with more changes by chance.
const mostFound = 3

// settle marks the files that nothing explains.
func (n *narrowing) settle() {
	for i := range n.s.Files {
		f := &n.s.Files[i]
		if len(f.Found) > mostFound {
			f.Found, n.noise[f.Path] = nil, true
		}
		f.Despite = n.noise[f.Path]
		for k := range f.Differences {
			if d := &f.Differences[k]; f.Despite && d.Cause == causes.Listing {
				d.Cause = causes.Parallel // lists of folders were held
			}
		}
	}
}

// emptyKept empties the kept directories of a command in the other store: what an earlier run left there is a condition too.
func (r *round) emptyKept(ctx context.Context, d *engine.Done) error {
	do, is := d.Plan.Do.(plan.Run)
	if !is || len(do.Keep) == 0 {
		return nil
	}
	box, err := r.where.Executor(ctx, r.varied.of).Box(ctx)
	if err != nil {
		return err
	}
	for _, k := range do.Keep {
		if _, err := r.where.Store.DropKept(box.Owners(), k.Name); err != nil {
			return err
		}
	}
	return nil
}
