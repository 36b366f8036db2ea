package command

import (
	"context"
	"slices"
	"sync"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/ground/event"
)

// Again runs a command once more on its view, in an executor that may be another one than the runner's, and records nothing. Change may
// make another command of it; nil: it stays. What it prints is kept for the error of one that fails.
func (r *Runner) Again(ctx context.Context, c *Command, in executor.Executor, change func(c *executor.Command)) (executor.Attempt, error) {
	if err := r.secretsThere(); err != nil {
		return nil, err
	}
	own := *c
	own.Args, own.Env = slices.Clone(c.Args), slices.Clone(c.Env)
	if change != nil {
		change(&own.Command)
	}
	quiet := &watch{tell: event.Reporter{Sink: event.Discard, Task: c.Task}}
	lease, err := in.Reserve(ctx, &own.Command, own.Keep, quiet)
	if err != nil {
		return nil, err
	}
	made, err := r.attempt(ctx, lease, &own, quiet, false)
	if err != nil {
		lease.Release()
		return nil, err
	}
	return &leased{made, lease, sync.Once{}}, nil
}

// leased is an attempt whose place is given back with it.
type leased struct {
	executor.Attempt
	lease executor.Lease
	once  sync.Once
}

// Accept implements executor.Attempt.
func (l *leased) Accept(ctx context.Context) (tree.Contents, error) {
	defer l.once.Do(l.lease.Release)
	return l.Attempt.Accept(ctx)
}

// Discard implements executor.Attempt.
func (l *leased) Discard() {
	defer l.once.Do(l.lease.Release)
	l.Attempt.Discard()
}
