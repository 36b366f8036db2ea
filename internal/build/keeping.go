package build

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/digest"
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

// fill is what a run of a command is to the kept directories that it has; of none it is one that began.
func (b *builder) fill(c *command, run *store.Run) store.Fill {
	f := store.Fill{Project: b.o.Project, Unit: c.unit.ID.String(), Step: c.index}
	if f.Key = c.key; run != nil {
		f.Trace = run.Trace
	}
	return f
}

// noteFills remembers what fills the kept directories of a command, or begins to. Whoever notes it holds them.
func (b *builder) noteFills(c *command, box *sandbox.Box, run *store.Run) error {
	for _, k := range c.do.Keep {
		kept, _, err := b.o.Store.Kept(box.Owners(), k.Name)
		if err == nil {
			err = b.o.Store.NoteFill(kept, b.fill(c, run))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// againWaiting is how often it is said that a step still waits.
const againWaiting = 5 * time.Second

// tellWaiting says that a step waits for a kept directory, and who has it.
func (b *builder) tellWaiting(c *command, kept store.Kept, waited time.Duration, sink event.Sink) {
	note := "for the kept directory " + kept.Name
	if h, known := b.o.Store.KeptHolder(kept); known {
		note += fmt.Sprintf(": %s has it (process %d)", h.Step, h.Process)
	}
	if waited = waited.Round(time.Second); waited > 0 {
		note += fmt.Sprintf(", %s so far", waited)
	}
	sink.Send(event.Started{Task: c.task, Act: "waiting", Note: note})
}

// errOvertaken is that somebody filled a kept directory otherwise while a command waited for it.
var errOvertaken = errors.New("other builds keep filling its kept directories otherwise")

// inFilled runs a command when the kept directories that it has are as the steps before it leave them: those that were
// remembered run again where a directory is empty on this machine, or holds what another version of them left. run is given
// what tells, once the command has the directories, whether they still are. Of directories that several have at once nobody
// can know that: they are looked at before alone.
func (b *builder) inFilled(ctx context.Context, c *command, s *unitState, sink event.Sink, run func(fit func(*sandbox.Box) error) (*stepTree, error)) (t *stepTree, err error) {
	if len(c.do.Keep) == 0 {
		return run(nil)
	}
	box, err := b.box(ctx)
	if err != nil {
		return nil, err
	}
	release, err := b.takeTurns(ctx, c, box, sink)
	defer release()
	if err != nil {
		return nil, err
	}
	for range mostOvertaken {
		for _, k := range c.do.Keep {
			due, err := b.unfilled(c, s, box, k.Name, true)
			if err != nil {
				return nil, err
			}
			for _, filler := range due {
				if err := filler.ran.again(ctx, refilled); err != nil {
					return nil, fmt.Errorf("filling the kept directory %s again: %w", k.Name, err)
				}
				filler.refilled.Store(true)
			}
		}
		t, err = run(func(box *sandbox.Box) error {
			for _, k := range c.do.Keep {
				if due, err := b.unfilled(c, s, box, k.Name, false); err != nil || len(due) > 0 && !k.AtOnce {
					return cmp.Or(err, errOvertaken)
				}
			}
			return nil
		})
		if !errors.Is(err, errOvertaken) {
			break
		}
	}
	return t, err
}

// mostOvertaken bounds how often a command begins to wait again.
const mostOvertaken = 10

// takeTurns keeps the commands of one build from filling a kept directory in turns, each otherwise than the other needs it:
// it waits until no other of them has the directories, in the order of their names. Those that several have at once are not
// guarded.
func (b *builder) takeTurns(ctx context.Context, c *command, box *sandbox.Box, sink event.Sink) (release func(), err error) {
	var held []chan struct{}
	release = func() {
		for _, turn := range held {
			<-turn
		}
	}
	for _, k := range c.do.Keep {
		if k.AtOnce {
			continue
		}
		one, _ := b.turns.LoadOrStore(k.Name, make(chan struct{}, 1))
		turn := one.(chan struct{})
		kept, _, err := b.o.Store.Kept(box.Owners(), k.Name)
		if err != nil {
			return release, err
		}
		for began, taken := time.Now(), false; !taken; {
			select {
			case turn <- struct{}{}:
				taken = true
				continue
			default:
				b.tellWaiting(c, kept, time.Since(began), sink)
			}
			select {
			case turn <- struct{}{}:
				taken = true
			case <-time.After(againWaiting):
			case <-ctx.Done():
				return release, ctx.Err()
			}
		}
		held = append(held, turn)
	}
	return release, nil
}

// unfilled tells which of the remembered steps before a command a kept directory is not as they leave it. A directory that
// is empty counts as never filled, with empty.
func (b *builder) unfilled(c *command, s *unitState, box *sandbox.Box, name string, empty bool) (due []*stepTree, err error) {
	kept, _, err := b.o.Store.Kept(box.Owners(), name)
	if err != nil {
		return nil, err
	}
	var fillers []*stepTree
	current := map[digest.Key]bool{}
	for _, t := range slices.Concat(s.below, s.trees) {
		if t.ran != nil && t.ran.again != nil && slices.Contains(t.ran.kept, name) {
			fillers, current[t.ran.fill.Key] = append(fillers, t), true
		}
	}
	fills := b.o.Store.Fills(kept)
	names, _ := os.ReadDir(kept.Dir)
	again := empty && len(names) == 0
	for _, t := range fillers {
		// What comes after one that fills it anew does so on top of that.
		if again = again || !stands(fills, t.ran.fill, current, c); again && t.ran.outcome == event.Reused {
			due = append(due, t)
		}
	}
	return due, nil
}

// stands tells whether what a run left in a kept directory is still what counts there: the command has not run otherwise
// since, and no step has that the recipe had in its place, or before the command that needs it.
func stands(fills []store.Fill, f store.Fill, current map[digest.Key]bool, c *command) bool {
	for _, later := range slices.Backward(fills) {
		if later.Key == f.Key {
			return later.Trace == f.Trace
		}
		same := later.Project == f.Project && later.Unit == f.Unit
		if same && !current[later.Key] && (later.Unit != c.unit.ID.String() || later.Step < c.index) {
			return false
		}
	}
	return false
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
		if time.Since(told) > againWaiting {
			told = time.Now()
			b.tellWaiting(c, kept, told.Sub(began), sink)
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
