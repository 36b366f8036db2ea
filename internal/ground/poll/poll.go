// Package poll asks again and again until something is so. It is for what tells nobody when it changes: files, locks of other processes,
// ports, registries.
package poll

import (
	"context"
	"time"
)

// Until calls done at once, and then with a pause before each call, until it returns true or an error. When ctx ends first, its error is
// returned.
func Until(ctx context.Context, pause time.Duration, done func() (bool, error)) error {
	for {
		if is, err := done(); is || err != nil {
			return err
		}
		timer := time.NewTimer(pause)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return ctx.Err()
		}
	}
}
