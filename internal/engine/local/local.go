// Package local executes commands in this machine's sandbox. It owns the places to work, unpacked trees, kept directories and
// work folders of this machine. What a command is and whether it need be run is no matter of its.
package local

import (
	"context"
	"errors"
	"fmt"
	"net"
	"runtime"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/once"
	"imbricat/internal/ground/platform"
)

// Options are what a Local needs. All fields must be set but those that say otherwise.
type Options struct {
	Store *store.Store
	// Open opens what commands run in. It is called once, when that is first needed.
	Open func(ctx context.Context) (*sandbox.Box, error)
	Sink event.Sink // of warnings
	// Jobs is how many commands run at a time; 0: as many as there are processors, and at least 4.
	Jobs int
	// Authorities are certificates as PEM text that commands with a network are to believe besides those that their views have; nil: none.
	Authorities []byte
	// Under tells under what conditions a command runs here besides those that it asks for; nil: whatever the machine happens to give. What
	// runs under other conditions than others must lie in a store of its own, since records tell nothing of them.
	Under func(c *executor.Command) conditions.Conditions
	// Relay passes on to hosts what a command sends to a listener, for commands that may reach some; own connects to a port of the command.
	// Nil: there are no such commands.
	Relay func(l net.Listener, hosts []string, own func(port uint16) (net.Conn, error)) (Relay, error)
	// Eager lets older unpacked trees stand for strata however small these are, and however much has changed. It is for tests.
	Eager bool
}

// Relay passes on what a command sends, until Close, which returns what was reached.
type Relay interface{ Close() []store.Reached }

// Local is the executor of this machine.
type Local struct {
	store    *store.Store
	sink     event.Sink
	box      *once.Value[*sandbox.Box]
	slots    chan struct{} // bounds how many commands run at once
	eager    bool
	trusted  []byte // certificates as PEM text
	under    func(c *executor.Command) conditions.Conditions
	relay    func(l net.Listener, hosts []string, own func(port uint16) (net.Conn, error)) (Relay, error)
	unpacked *once.Map[digest.Key, string]
	indexed  *once.Map[digest.Key, map[string]*tree.Entry]
}

// leastJobs is how many commands run at once on the smallest machine: most wait for something now and then.
const leastJobs = 4

// New makes an executor. What several commands wait for ends with ctx.
func New(ctx context.Context, o Options) *Local {
	if o.Jobs <= 0 {
		o.Jobs = max(leastJobs, runtime.GOMAXPROCS(0))
	}
	return &Local{trusted: o.Authorities, under: o.Under, relay: o.Relay, store: o.Store, sink: o.Sink, box: once.NewValue(o.Open), slots: make(chan struct{}, o.Jobs), eager: o.Eager,
		unpacked: once.NewMap[digest.Key, string](ctx), indexed: once.NewMap[digest.Key, map[string]*tree.Entry](ctx)}
}

// Box returns what commands run in.
func (l *Local) Box(ctx context.Context) (*sandbox.Box, error) { return l.box.Get(ctx) }

// Classes implements executor.Executor. Where there is no sandbox it gives what most machines have.
func (l *Local) Classes(ctx context.Context, _ platform.Platform) []executor.Class {
	class := executor.Class{Sandbox: sandbox.Version, IDs: string(sandbox.AllIDs)}
	if box, err := l.Box(ctx); err == nil {
		class.IDs, class.Machine = string(box.IDs()), box.Surroundings()
	}
	return []executor.Class{class}
}

// Holds implements executor.Executor.
func (l *Local) Holds(ctx context.Context, key digest.Key, entries []tree.Entry) (tree.Contents, error) {
	box, err := l.Box(ctx)
	if err != nil {
		return nil, nil
	}
	dir, seen, found := l.store.Snapshot(box.SnapshotFormat(), key)
	if !found { // what a command leaves is kept in the form that only trying tells, where that was not done yet
		before := box.SnapshotFormat()
		if tried, err := l.Tried(ctx); err == nil && tried.SnapshotFormat() != before {
			dir, seen, found = l.store.Snapshot(tried.SnapshotFormat(), key)
		}
	}
	switch {
	case !found:
		return nil, nil
	case seen:
		return contentsIn(box, dir, entries), nil
	case CheckSnapshot(box, box.SnapshotFormat(), dir, entries) == nil:
		_ = l.store.SawSnapshot(box.SnapshotFormat(), key)
		return contentsIn(box, dir, entries), nil
	}
	_, err = l.store.DropDamaged(box.SnapshotFormat(), key)
	return nil, err
}

// Check implements executor.Executor.
func (l *Local) Check(ctx context.Context, wanted executor.Wanted) error {
	box, err := l.Tried(ctx)
	if err != nil {
		return err
	}
	if box.Kind() == sandbox.Chroot {
		l.warn(event.Confined, "commands run in a chroot: they see the machine's processes, network and clock as root does, and nothing but their root folder is kept apart")
	}
	if len(wanted.Hosts) > 0 {
		if err := box.OwnNetwork(); err != nil {
			return fmt.Errorf("%s lists the hosts that a command may reach: %w", wanted.Hosts[0], err)
		}
	}
	for p, who := range wanted.Platforms {
		if err := l.checkArchitecture(ctx, box, p.Architecture, who); err != nil {
			return err
		}
	}
	return nil
}

// Able finds out whether commands for a platform can be run. Who asks is told in words.
func (l *Local) Able(ctx context.Context, p platform.Platform, who string) error {
	box, err := l.Tried(ctx)
	if err != nil {
		return err
	}
	return l.checkArchitecture(ctx, box, p.Architecture, []string{who})
}

func (l *Local) warn(code, text string) { l.sink.Send(event.Warning{Code: code, Text: text}) }

// Tried opens the sandbox and finds out whether commands can be run in it, and how.
func (l *Local) Tried(ctx context.Context) (*sandbox.Box, error) {
	box, err := l.Box(ctx)
	if err == nil {
		err = l.trial(ctx, box, runtime.GOARCH)
	}
	return box, err
}

// checkArchitecture finds out whether commands for another architecture can be run here, and says that they are emulated.
func (l *Local) checkArchitecture(ctx context.Context, box *sandbox.Box, architecture string, who []string) error {
	if architecture == runtime.GOARCH {
		return nil
	}
	err := l.trial(ctx, box, architecture)
	var unable *sandbox.UnableError
	if errors.As(err, &unable) && unable.Missing == "format" {
		return &sandbox.UnableError{Missing: "emulator", What: fmt.Sprintf("%s runs commands for %s, and this machine is %s and has no emulator for that", who[0], architecture, runtime.GOARCH),
			Mend: fmt.Sprintf("build it on a %s machine and put the images together with `imbricat join`, or compile in a stage with machine: here, or register an emulator (on Debian: apt install qemu-user-static)", architecture)}
	}
	if err == nil && !(runtime.GOARCH == "amd64" && architecture == "386") {
		for _, unit := range who {
			l.warn(event.Emulated, unit+" runs its commands in an emulator, which is several times slower")
		}
	}
	return err
}

// trial tries for real whether commands can be run, once since the machine started: a later refusal is still an error.
func (l *Local) trial(ctx context.Context, box *sandbox.Box, architecture string) error {
	name := "trial-" + box.SnapshotFormat() + "-" + architecture
	if _, good := l.store.Trusted(name); good {
		return nil
	}
	dir, err := l.store.TemporaryFolder()
	if err != nil {
		return err
	}
	defer l.store.Discard(dir)
	tried := box.SnapshotFormat()
	withoutOverlay, err := box.Trial(ctx, dir, architecture)
	if withoutOverlay != nil {
		l.warn(event.Confined, "commands work on copies of their views, which is slower: "+withoutOverlay.Error())
	}
	if err == nil && box.SnapshotFormat() == tried {
		_ = l.store.Trust(name, "") // it only saves time
	}
	return err
}

// Unpack lays strata down ahead of what needs them, where commands work on unpacked trees.
func (l *Local) Unpack(ctx context.Context, strata []filetree.Stratum) error {
	box, err := l.Tried(ctx)
	if err != nil || !box.Overlay() {
		return err
	}
	for _, s := range strata {
		if _, err := l.snapshot(ctx, box, s); err != nil {
			return err
		}
	}
	return nil
}
