// Package try runs commands in throw-away copies of images and of steps' views, and lays whole images down. Nothing that a
// command writes is kept, and nothing is built but what a step's view needs.
package try

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/engine/account"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Command is a command to run in a throw-away copy of an image or of a step's view.
type Command struct {
	Command   []string // in place of what the image or the step runs
	Arguments []string // of the image's entrypoint, in place of the image's command; without a Command
	Env       []string // NAME=VALUE, over the image's
	User      string   // empty: the image's
	In        string   // empty: the image's
	Network   bool
	Hosts     []string // that it may reach where it does not have the machine's network
	// Door is a way in while the command runs; nil: there is none. One with an address gives a network of the command's own in place
	// of the machine's, where names are asked for at Nameserver.
	Door       *sandbox.Door
	Nameserver netip.Addr // no address: the network is another
	ReadOnly   bool       // nothing can be written but in volumes

	Stdin, Stdout, Stderr *os.File
	Terminal              *os.File // in place of the three
	// Stop is closed to end the command gently, by the image's stop signal.
	Stop <-chan struct{}
	// Ask is put to the command, which is ended then; its status tells the answer.
	Ask *sandbox.Ask
	// Learnt, where it is given, is told what the command learnt of its view, however it ended. It runs slower for that.
	Learnt func(*trace.Trace)
	// Left, where it is given, is told what the command left in its view, however it ended; else that is dropped.
	Left func(ctx context.Context, view *tree.View, entries []tree.Entry, from tree.Contents) error
	// Began, where it is given, is called when all is laid down and the command is about to start.
	Began func()
}

// Options are what it takes to run something in an image.
type Options struct {
	Store *store.Store
	Local *local.Local
}

// opened is an image that was brought and read.
type opened struct {
	*baseimage.Base
	accounts account.Finder
	scratch  *filetree.Scratch
}

// open brings an image into the store and reads what it holds.
func (o Options) open(ctx context.Context, from *baseimage.Found) (*opened, error) {
	scratch := filetree.NewScratch(o.Store.TemporaryFolder)
	base, err := baseimage.NewLibrary(ctx, o.Store, scratch).Load(ctx, from, nil)
	if err != nil {
		scratch.Close()
		return nil, fmt.Errorf("%s: %w", from.Name, err)
	}
	return &opened{base, account.Finder{Store: o.Store, File: &recipe.File{Name: from.Name}}, scratch}, nil
}

// user finds as whom commands of the image run. Name is as in an image's settings; empty is root.
func (i *opened) user(ctx context.Context, name string) (account.User, error) {
	owner := plan.Owner{}
	if name != "" {
		owner = account.Named(name)
	}
	return i.accounts.User(ctx, i.View, owner, recipe.Pos{})
}

func (i *opened) view() *executor.View { return &executor.View{Index: i.View, Strata: i.Strata} }

// Image runs a command of an image for one platform.
func Image(ctx context.Context, o Options, from *baseimage.Found, p platform.Platform, t Command) (sandbox.Status, error) {
	one, err := o.open(ctx, from)
	if err != nil {
		return sandbox.Status{}, err
	}
	defer one.scratch.Close()
	config := one.Config.Config
	c := &executor.Command{Title: from.Name, Platform: p, Network: t.Network, Hosts: t.Hosts}
	if c.Args = t.Command; len(c.Args) == 0 {
		if c.Args = config.Cmd; len(t.Arguments) > 0 {
			c.Args = t.Arguments
		}
		c.Args = slices.Concat(config.Entrypoint, c.Args)
	}
	if len(c.Args) == 0 {
		return sandbox.Status{}, fmt.Errorf("%s has no entrypoint and no command: name a command after --", from.Name)
	}
	if t.User == "" {
		t.User = config.User
	}
	if err := o.Local.Unpack(ctx, one.Strata()); err != nil { // they are needed anyway, and give small files at once
		return sandbox.Status{}, err
	}
	if c.User, err = one.user(ctx, t.User); err != nil {
		return sandbox.Status{}, err
	}
	c.Env = withDefaults(config.Env, c.User.Home)
	if len(t.Hosts) > 0 {
		c.Env = image.WithEnv(c.Env, executor.RelayVariables())
	}
	c.Env = image.WithEnv(c.Env, t.Env)
	c.ReadOnly = t.ReadOnly
	for at := range config.Volumes {
		c.Writable = append(c.Writable, path.Clean("/"+at))
	}
	slices.Sort(c.Writable)
	if c.Dir = t.In; c.Dir == "" {
		c.Dir = path.Clean("/" + config.WorkingDir)
	}
	return throwAway(ctx, o.Local, executor.Job{Command: c, View: one.view()}, t, config)
}

// withDefaults is an image's environment with what every program may rely on.
func withDefaults(env []string, home string) []string {
	return image.WithEnv([]string{"PATH=" + image.DefaultPath, "HOME=" + home}, env)
}

// quiet is a watch that nobody looks at.
type quiet struct{}

func (quiet) Output() io.Writer        { return io.Discard }
func (quiet) Act(string)               {}
func (quiet) Waiting(executor.Waiting) {}

// throwAway runs a command and drops what it wrote.
func throwAway(ctx context.Context, l *local.Local, job executor.Job, t Command, config v1.ImageConfig) (sandbox.Status, error) {
	if err := l.Able(ctx, job.Platform, job.Title); err != nil {
		return sandbox.Status{}, err
	}
	if t.Nameserver.IsValid() {
		own := *job.Command
		own.Network, own.Nameserver = false, t.Nameserver.String()
		own.Hosts, own.Env = nil, slices.DeleteFunc(slices.Clone(own.Env), func(pair string) bool { return slices.Contains(executor.RelayVariables(), pair) })
		job.Command = &own
	}
	lease, err := l.Lease(ctx, job.Command, job.Keep, quiet{})
	if err != nil {
		return sandbox.Status{}, err
	}
	defer lease.Release()
	place, err := lease.Prepare(ctx, job, func(spec *sandbox.Spec) error {
		return addFolders(job.Command, job.View.Index, spec, config.Volumes)
	})
	if err != nil {
		return sandbox.Status{}, err
	}
	defer place.Close()
	spec := place.Spec
	spec.Stdin, spec.Terminal, spec.Ask = t.Stdin, t.Terminal, t.Ask
	spec.Door = t.Door
	if number, is := sandbox.SignalNamed(config.StopSignal).(syscall.Signal); is {
		spec.Stop = int(number)
	}
	signals, ended := make(chan os.Signal, 1), make(chan struct{})
	defer close(ended)
	spec.Signals = signals
	go func() {
		select {
		case <-t.Stop:
			signals <- sandbox.SignalNamed(config.StopSignal)
		case <-ended:
		}
	}()
	if t.Terminal == nil {
		spec.Stdout, spec.Stderr = t.Stdout, t.Stderr
	}
	if t.Began != nil {
		t.Began()
	}
	spec.Observe = spec.Observe || t.Learnt != nil
	status, err := place.Run(ctx)
	if t.Learnt != nil && err == nil {
		var learnt *trace.Trace
		if learnt, err = place.Learnt(job, status.Observed); err == nil {
			t.Learnt(learnt)
		}
	}
	if t.Left == nil || err != nil {
		place.Box.Finish(spec)
		return status, err
	}
	entries, from, done, err := place.Left(job)
	if err != nil {
		return status, err
	}
	defer done()
	return status, t.Left(ctx, job.View.Index, entries, from)
}

// addFolders makes folders that an image names and lacks, as runtimes do.
func addFolders(c *executor.Command, view *tree.View, spec *sandbox.Spec, volumes map[string]struct{}) error {
	wanted := []string{c.Dir}
	for at := range volumes {
		wanted = append(wanted, at)
	}
	slices.Sort(wanted)
	for _, at := range wanted {
		real, err := view.Resolve(strings.TrimPrefix(path.Clean(at), "/"), true)
		if err != nil {
			return err
		}
		for p := real; p != ""; p = tree.Parent(p) {
			_, exists := view.Lookup(p)
			if known := slices.ContainsFunc(spec.Points, func(e tree.Entry) bool { return e.Path == p }); !exists && !known {
				spec.Points = append(spec.Points, tree.Entry{Path: p, Kind: tree.Folder, Mode: 0o755, UID: c.User.UID, GID: c.User.GID})
			}
		}
	}
	return completePoints(view, spec)
}

// completePoints adds the folders above points, as the view has them.
func completePoints(view *tree.View, spec *sandbox.Spec) error {
	known := map[string]bool{}
	for _, e := range spec.Points {
		known[e.Path] = true
	}
	for _, e := range slices.Clone(spec.Points) {
		for above := tree.Parent(e.Path); !known[above]; above = tree.Parent(above) {
			known[above] = true
			n, exists := view.Lookup(above)
			if exists && n.Kind != tree.Folder {
				return fmt.Errorf("/%s is a %s in the image, and /%s is to lie in it", above, n.Kind, e.Path)
			}
			added := tree.Entry{Path: above, Kind: tree.Folder, Mode: 0o755}
			if exists {
				added = filetree.Bare(n)
			}
			spec.Points = append(spec.Points, added)
		}
	}
	return nil
}

// Step runs a command in the view of a step: that number (from 1) of a unit's steps. What the step needs is built.
func Step(ctx context.Context, o engine.Options, l *local.Local, name string, p platform.Platform, number int, t Command) (status sandbox.Status, err error) {
	return StepAs(ctx, o, l, name, p, number, t, func(b *engine.Below, do plan.Run) (plan.Run, error) {
		view, err := b.View.Index(ctx)
		if err != nil {
			return do, err
		}
		if do.Lines, do.Args = nil, t.Command; len(t.Command) == 0 {
			if !command.HasProgram(view, "/bin/sh") {
				return do, fmt.Errorf("the view of %s has no shell /bin/sh: name a command of the view after --", b.Unit.ID)
			}
			do.Args = []string{"/bin/sh"}
		}
		return do, nil
	})
}

// StepAs is Step with the command that the step itself has, as change makes it another one.
func StepAs(ctx context.Context, o engine.Options, l *local.Local, name string, p platform.Platform, number int, t Command, change func(*engine.Below, plan.Run) (plan.Run, error)) (status sandbox.Status, err error) {
	err = engine.Beneath(ctx, o, name, p, number, func(b *engine.Below) error {
		do, isRun := b.Step.Do.(plan.Run)
		if !isRun {
			do = plan.Run{Network: true}
		}
		do, err := change(b, do)
		if err != nil {
			return err
		}
		own := *b.Step
		own.Do = do
		r := command.NewRunner(command.Runner{Plan: o.Plan, Store: o.Store, Executor: l, Secrets: o.Secrets})
		c, err := r.Prepare(ctx, command.Setting{Unit: b.Unit, Name: b.Name, Step: &own, Task: event.Task{Label: own.Label}, Below: b.View, Own: b.Own, Config: b.Config})
		if err != nil {
			return err
		}
		c.Env = image.WithEnv(c.Env, t.Env)
		status, err = throwAway(ctx, l, r.Job(c), t, v1.ImageConfig{})
		return err
	})
	return status, err
}

// Unpack lays a whole image down in a folder, with its settings. The folder must not exist or be empty.
func Unpack(ctx context.Context, o Options, from *baseimage.Found, dir string) (v1.ImageConfig, *sandbox.Box, error) {
	one, err := o.open(ctx, from)
	if err != nil {
		return v1.ImageConfig{}, nil, err
	}
	defer one.scratch.Close()
	box, err := o.Local.Box(ctx)
	if err != nil {
		return v1.ImageConfig{}, nil, err
	}
	entries, feed := filetree.Whole(ctx, one.View)
	if names, err := os.ReadDir(dir); err == nil && len(names) > 0 {
		return v1.ImageConfig{}, nil, fmt.Errorf("the folder %s is not empty", dir)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return v1.ImageConfig{}, nil, err
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return v1.ImageConfig{}, nil, err
	}
	return one.Config.Config, box, box.Lay(ctx, abs, entries, feed)
}

// UserOf finds the numbers of an image's user.
func UserOf(ctx context.Context, o Options, from *baseimage.Found) (account.User, error) {
	one, err := o.open(ctx, from)
	if err != nil {
		return account.User{}, err
	}
	defer one.scratch.Close()
	return one.user(ctx, one.Config.Config.User)
}
