// Package watch repeats a piece of work whenever something changes that it depends on: one round after the other, of which a newer change ends
// the one that is under way.
//
// What the work is, and how it is told, is its caller's.
package watch

import (
	"context"

	"imbricat/internal/ground/changes"
)

// Round is one piece of work.
type Round struct {
	Number  int
	Changed changes.Changed // since the last round that was not ended; nothing for the first
}

// Run does a round, and another one whenever something changes, until the context ends. A round whose context ends is to end soon; what changed
// before it counts for the next one again.
func Run(ctx context.Context, w *changes.Watcher, do func(ctx context.Context, r Round)) error {
	r := Round{Number: 1}
	for {
		ended, err := during(ctx, w, r, do)
		if err != nil {
			return err
		}
		next := ended.next
		if ended.early {
			next = next.And(r.Changed)
		}
		r = Round{r.Number + 1, next}
	}
}

type ended struct {
	next  changes.Changed
	early bool // the round was ended
}

// during does a round and waits for the next change.
func during(ctx context.Context, w *changes.Watcher, r Round, do func(ctx context.Context, r Round)) (e ended, err error) {
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	done := make(chan struct{})
	go func() {
		defer close(done)
		do(inner, r)
	}()
	e.next, err = w.Next(ctx)
	select {
	case <-done:
	default:
		e.early = err == nil
	}
	cancel()
	<-done
	return e, err
}
