package build

import (
	"context"
	"errors"
	"slices"
	"sync"
)

// crew runs work side by side. When one piece fails it ends the others, or lets them go on.
type crew struct {
	ctx    context.Context
	cancel context.CancelFunc
	keepOn bool
	group  sync.WaitGroup
	mutex  sync.Mutex
	errs   []error
}

func newCrew(ctx context.Context, keepOn bool) *crew {
	c := &crew{keepOn: keepOn}
	c.ctx, c.cancel = context.WithCancel(ctx)
	return c
}

func (c *crew) Go(work func() error) {
	c.group.Go(func() {
		err := work()
		if err == nil {
			return
		}
		c.mutex.Lock()
		defer c.mutex.Unlock()
		// Whoever waits for something that failed has the same error.
		if len(c.errs) == 0 || c.keepOn && !slices.ContainsFunc(c.errs, func(known error) bool { return known.Error() == err.Error() }) {
			c.errs = append(c.errs, err)
		}
		if !c.keepOn {
			c.cancel()
		}
	})
}

// Wait waits for all and gives what went wrong.
func (c *crew) Wait() error {
	c.group.Wait()
	c.cancel()
	if len(c.errs) == 1 {
		return c.errs[0]
	}
	return errors.Join(c.errs...)
}
