package local

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/poll"
	"imbricat/internal/spec/plan"
)

// Lease is one place to work, with kept directories.
type Lease struct {
	local *Local
	box   *sandbox.Box
	kept  map[string]store.KeptDir
	undo  []func()
}

// Reserve implements executor.Executor.
func (l *Local) Reserve(ctx context.Context, c *executor.Command, keep []plan.Keep, watch executor.Watch) (executor.Lease, error) {
	return l.Lease(ctx, c, keep, watch)
}

// Lease is Reserve for those who use the sandbox itself.
func (l *Local) Lease(ctx context.Context, c *executor.Command, keep []plan.Keep, watch executor.Watch) (*Lease, error) {
	box, err := l.Box(ctx)
	if err != nil {
		return nil, err
	}
	lease := &Lease{local: l, box: box, kept: map[string]store.KeptDir{}}
	err = lease.take(ctx, c, keep, watch)
	if err == nil {
		select {
		case l.slots <- struct{}{}:
			lease.undo = append(lease.undo, func() { <-l.slots })
		case <-ctx.Done():
			err = ctx.Err()
		}
	}
	if err != nil {
		lease.Release()
		return nil, err
	}
	return lease, nil
}

// Release gives all back.
func (l *Lease) Release() {
	for _, undo := range slices.Backward(l.undo) {
		undo()
	}
	l.undo = nil
}

// take waits until it has all kept directories, in the order of their names.
func (l *Lease) take(ctx context.Context, c *executor.Command, keep []plan.Keep, watch executor.Watch) error {
	s := l.local.store
	for _, k := range byName(keep) {
		kept, lock, err := s.Kept(l.box.Owners(), k.Name)
		if err != nil {
			return err
		}
		if err := l.local.waitFor(ctx, kept, lock, k.AtOnce, watch); err != nil {
			return err
		}
		l.undo = append(l.undo, func() { lock.Close() })
		if err := s.HoldKept(kept, store.Holder{Step: c.Title, Process: os.Getpid(), Since: time.Now()}); err != nil {
			return err
		}
		l.kept[k.Name] = kept
	}
	return nil
}

// byName sorts kept directories by name, each once; those that somebody needs alone are taken alone.
func byName(keep []plan.Keep) (all []plan.Keep) {
	for _, k := range slices.SortedStableFunc(slices.Values(keep), func(a, b plan.Keep) int { return strings.Compare(a.Name, b.Name) }) {
		if last := len(all) - 1; last >= 0 && all[last].Name == k.Name {
			all[last].AtOnce = all[last].AtOnce && k.AtOnce
			continue
		}
		all = append(all, k)
	}
	return all
}

// mount gives a command its kept directories. One that is new belongs to the command's user.
func (l *Lease) mount(ctx context.Context, job executor.Job, spec *sandbox.Spec) error {
	for _, k := range job.Keep {
		kept := l.kept[k.Name]
		if _, err := os.Stat(kept.Dir); errors.Is(err, os.ErrNotExist) {
			folder := []tree.Entry{{Kind: tree.Folder, Mode: 0o755, UID: job.User.UID, GID: job.User.GID}}
			if err := l.box.Lay(ctx, kept.Dir, folder, func(filetree.Put) error { return nil }); err != nil {
				return err
			}
		}
		real, err := job.View.Index.Resolve(strings.TrimPrefix(k.At, "/"), true)
		if err != nil {
			return err
		}
		spec.Mounts = append(spec.Mounts, sandbox.Mount{From: kept.Dir, At: "/" + real})
	}
	return nil
}

// Kept implements executor.Lease.
func (l *Lease) Kept(name string) ([]store.Fill, bool, error) {
	kept, held := l.kept[name]
	if !held {
		return nil, false, fmt.Errorf("the kept directory %s was not reserved", name)
	}
	names, _ := os.ReadDir(kept.Dir)
	return l.local.store.Fills(kept), len(names) == 0, nil
}

// Filled implements executor.Lease.
func (l *Lease) Filled(keep []plan.Keep, fill store.Fill) error {
	for _, k := range keep {
		if err := l.local.store.NoteFill(l.kept[k.Name], fill); err != nil {
			return err
		}
	}
	return nil
}

// mostDamaged bounds how often a command runs, where what it ran over was found damaged.
const mostDamaged = 3

// Run implements executor.Lease. A command that ran over a damaged tree runs again.
func (l *Lease) Run(ctx context.Context, job executor.Job, watch executor.Watch) (made executor.Attempt, err error) {
	for range mostDamaged {
		if made, err = l.runOnce(ctx, job, watch); !errors.Is(err, errDamaged) {
			break
		}
	}
	return made, err
}

func (l *Lease) runOnce(ctx context.Context, job executor.Job, watch executor.Watch) (executor.Attempt, error) {
	watch.Act("unpacking")
	place, err := l.Prepare(ctx, job, nil)
	if err != nil {
		return nil, err
	}
	defer place.Close()
	watch.Act("running")
	if err := l.Filled(job.Keep, job.Fill); err != nil {
		return nil, err
	}
	a := &attempt{local: l.local, box: l.box, over: place.over, trace: everything}
	if err := place.run(ctx, job, watch, a); err != nil {
		a.Discard()
		return nil, err
	}
	return a, nil
}

// run runs a command, keeps what it left in an attempt, and makes sure that nothing below it was damaged.
func (p *Place) run(ctx context.Context, job executor.Job, watch executor.Watch, a *attempt) error {
	// What links in kept directories lead to is known while the command runs alone.
	p.Spec.Observe, p.Spec.Links = p.Spec.Observe || !job.Refill, len(job.Keep) > 0 || leadsOut(job.View.Index)
	out := watch.Output()
	p.Spec.Stdout, p.Spec.Stderr = out, out
	began := time.Now()
	limited, cancel := context.WithTimeoutCause(ctx, job.Within, executor.ErrTimeLimit)
	defer cancel()
	status, err := p.Run(limited)
	a.status = executor.Status{Code: status.Code, Signal: status.Signal, CPU: status.CPU, Wall: time.Since(began), Memory: status.Memory, Reached: p.Reached}
	if err != nil || !a.status.Good() {
		if ctx.Err() == nil {
			// What is damaged may keep a command from starting, or from ending well.
			if damage := p.checkBelow(ctx, job.View.Index, everything); damage != nil {
				return damage
			}
		}
		return stopped(job, err)
	}
	if job.Refill {
		p.Box.Finish(p.Spec)
	} else if err := p.capture(a, job, status.Observed); err != nil {
		return err
	}
	return p.checkBelow(ctx, job.View.Index, a.trace)
}

// stopped tells what ended a command.
func stopped(job executor.Job, err error) error {
	var over *sandbox.BoundError
	switch {
	case errors.Is(err, executor.ErrTimeLimit):
		return &executor.StoppedError{What: fmt.Sprintf("it took longer than %s (set within: for more)", job.Within)}
	case errors.As(err, &over):
		return &executor.StoppedError{What: over.Error() + over.Mend()}
	}
	return err
}

// againWaiting is how often it is said that a step still waits.
const againWaiting = 5 * time.Second

// waiting tells for whom a step waits.
func (l *Local) waiting(kept store.KeptDir, so time.Duration) executor.Waiting {
	w := executor.Waiting{Kept: kept.Name, So: so}
	if h, known := l.store.KeptHolder(kept); known {
		w.Holder = &h
	}
	return w
}

// waitFor takes the lock of a kept directory and says for whom it waits meanwhile.
func (l *Local) waitFor(ctx context.Context, kept store.KeptDir, lock *flock.Flock, atOnce bool, watch executor.Watch) error {
	take := lock.TryLock
	if atOnce {
		take = lock.TryRLock
	}
	began, told := time.Now(), time.Time{}
	return poll.Until(ctx, 50*time.Millisecond, func() (bool, error) {
		free, err := take()
		if err != nil {
			return false, fmt.Errorf("taking the kept directory %s: %w", kept.Name, err)
		}
		if !free && time.Since(told) > againWaiting {
			told = time.Now()
			watch.Waiting(l.waiting(kept, told.Sub(began)))
		}
		return free, nil
	})
}
