package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/event"
	"imbricat/internal/sandbox"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// takeKept waits until the step has all of its kept directories, in the order of their names.
func (b *builder) takeKept(ctx context.Context, c *command, box *sandbox.Box, spec *sandbox.Spec, sink event.Sink) (release func(), err error) {
	var held []*flock.Flock
	release = func() {
		for _, lock := range held {
			lock.Close()
		}
	}
	for _, k := range c.do.Keep {
		kept, lock, err := b.o.Store.Kept(box.Owners(), k.Name)
		if err != nil {
			return release, err
		}
		if err := b.waitFor(ctx, c, kept, lock, k.AtOnce, sink); err != nil {
			return release, err
		}
		held = append(held, lock)
		if err := b.o.Store.HoldKept(kept, store.Holder{Step: c.unit.ID.String() + ", " + c.task.Label, Process: os.Getpid(), Since: time.Now()}); err != nil {
			return release, err
		}
		if _, err := os.Stat(kept.Dir); errors.Is(err, os.ErrNotExist) {
			folder := []tree.Entry{{Kind: tree.Folder, Mode: 0o755, UID: c.user.uid, GID: c.user.gid}}
			if err := box.Lay(ctx, kept.Dir, folder, func(putFunc) error { return nil }); err != nil {
				return release, err
			}
		}
		real, err := c.view.Resolve(strings.TrimPrefix(k.At, "/"), true)
		if err != nil {
			return release, err
		}
		spec.Mounts = append(spec.Mounts, sandbox.Mount{From: kept.Dir, At: "/" + real})
	}
	return release, nil
}

type putFunc = func(i int, size int64, body io.Reader) error

// waitFor takes the lock of a kept directory and says for whom it waits meanwhile.
func (b *builder) waitFor(ctx context.Context, c *command, kept store.Kept, lock *flock.Flock, atOnce bool, sink event.Sink) error {
	take := lock.TryLock
	if atOnce {
		take = lock.TryRLock
	}
	began, told := time.Now(), time.Time{}
	for {
		free, err := take()
		if err != nil {
			return fmt.Errorf("taking the kept directory %s: %w", kept.Name, err)
		}
		if free {
			return nil
		}
		if time.Since(told) > 5*time.Second {
			told = time.Now()
			note := "for the kept directory " + kept.Name
			if h, known := b.o.Store.KeptHolder(kept); known {
				note += fmt.Sprintf(": %s has it (process %d)", h.Step, h.Process)
			}
			if waited := time.Since(began).Round(time.Second); waited > 0 {
				note += fmt.Sprintf(", %s so far", waited)
			}
			sink.Send(event.Started{Task: c.task, Act: "waiting", Note: note})
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
