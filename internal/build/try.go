package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/platform"
	"imbricat/internal/recipe"
	"imbricat/internal/sandbox"
	"imbricat/internal/tree"
)

// Try is a command to run in a throw-away copy of an image or of a step's view.
type Try struct {
	Command   []string // in place of what the image or the step runs
	Arguments []string // of the image's entrypoint, in place of the image's command; without a Command
	Env       []string // NAME=VALUE, over the image's
	User      string   // empty: the image's
	In        string   // empty: the image's
	Network   bool

	Stdin, Stdout, Stderr *os.File
	Terminal              *os.File // in place of the three
	// Stop is closed to end the command gently, by the image's stop signal.
	Stop <-chan struct{}
	// Ask is put to the command, which is ended then; its status tells the answer.
	Ask *sandbox.Ask
	// Began, where it is given, is called when all is laid down and the command is about to start.
	Began func()
}

// TryImage runs a command of an image for one platform. Nothing that it writes is kept. Of the options the store, the
// sandbox and the sink count.
func TryImage(ctx context.Context, o Options, from *Resolved, p platform.Platform, t Try) (sandbox.Status, error) {
	b, one, err := lookInto(ctx, o, from)
	if err != nil {
		return sandbox.Status{}, err
	}
	defer b.close()
	config := one.config.Config
	c := &command{do: plan.Run{Network: t.Network}, unit: &plan.Unit{ID: plan.UnitID{Name: from.Name, Platform: p}, Machine: p},
		step: &plan.Step{}, task: event.Task{Unit: from.Name, Platform: p.String()}, view: one.view, strata: sync.OnceValue(one.stratify)}
	if c.args = t.Command; len(c.args) == 0 {
		if c.args = config.Cmd; len(t.Arguments) > 0 {
			c.args = t.Arguments
		}
		c.args = slices.Concat(config.Entrypoint, c.args)
	}
	if len(c.args) == 0 {
		return sandbox.Status{}, fmt.Errorf("%s has no entrypoint and no command: name a command after --", from.Name)
	}
	if t.User == "" {
		t.User = config.User
	}
	box, err := b.tried(ctx)
	if err != nil {
		return sandbox.Status{}, err
	}
	if box.Overlay() { // they are needed anyway, and give small files at once
		for _, s := range c.strata() {
			if _, err := b.snapshot(ctx, box, s); err != nil {
				return sandbox.Status{}, err
			}
		}
	}
	if c.user, err = b.runsAs(ctx, c, t.User); err != nil {
		return sandbox.Status{}, err
	}
	c.env = append(withDefaults(config.Env, c.user.home), t.Env...)
	if c.dir = t.In; c.dir == "" {
		c.dir = path.Clean("/" + config.WorkingDir)
	}
	return b.throwAway(ctx, c, t, config)
}

// lookInto brings an image into the store and reads what it holds.
func lookInto(ctx context.Context, o Options, from *Resolved) (*builder, *base, error) {
	o.Plan = &plan.Plan{File: &recipe.File{Name: from.Name}}
	b := newBuilder(o)
	one := &base{resolved: from}
	if err := one.load(ctx, b); err != nil {
		b.close()
		return nil, nil, fmt.Errorf("%s: %w", from.Name, err)
	}
	return b, one, nil
}

// withDefaults is an image's environment with what every program may rely on.
func withDefaults(env []string, home string) []string {
	out := slices.Clone(env)
	for _, pair := range []string{"PATH=" + defaultPath, "HOME=" + home} {
		name, _, _ := strings.Cut(pair, "=")
		if !slices.ContainsFunc(env, func(e string) bool { return strings.HasPrefix(e, name+"=") }) {
			out = append(out, pair)
		}
	}
	return out
}

// tried opens the sandbox and finds out whether commands can be run in it, and how.
func (b *builder) tried(ctx context.Context) (*sandbox.Box, error) {
	box, err := b.box(ctx)
	if err == nil {
		err = b.trial(ctx, box, runtime.GOARCH)
	}
	return box, err
}

// throwAway runs a command and drops what it wrote.
func (b *builder) throwAway(ctx context.Context, c *command, t Try, config v1.ImageConfig) (sandbox.Status, error) {
	box, err := b.tried(ctx)
	if err != nil {
		return sandbox.Status{}, err
	}
	if c.unit.Machine.Architecture != runtime.GOARCH {
		if err := b.checkArchitecture(ctx, box, c.unit.Machine.Architecture, []string{c.unit.ID.String()}); err != nil {
			return sandbox.Status{}, err
		}
	}
	spec, _, finish, err := b.ready(ctx, c, box, event.Discard, func(spec *sandbox.Spec) error { return addFolders(c, spec, config.Volumes) })
	if err != nil {
		return sandbox.Status{}, err
	}
	defer finish()
	spec.Stdin, spec.Terminal, spec.Ask = t.Stdin, t.Terminal, t.Ask
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
	status, err := box.Run(ctx, spec)
	box.Finish(spec)
	return status, err
}

// addFolders makes folders that an image names and lacks, as runtimes do.
func addFolders(c *command, spec *sandbox.Spec, volumes map[string]struct{}) error {
	wanted := []string{c.dir}
	for at := range volumes {
		wanted = append(wanted, at)
	}
	slices.Sort(wanted)
	for _, at := range wanted {
		real, err := c.view.Resolve(strings.TrimPrefix(path.Clean(at), "/"), true)
		if err != nil {
			return err
		}
		for p := real; p != ""; p = tree.Parent(p) {
			_, exists := c.view.Lookup(p)
			if known := slices.ContainsFunc(spec.Points, func(e tree.Entry) bool { return e.Path == p }); !exists && !known {
				spec.Points = append(spec.Points, tree.Entry{Path: p, Kind: tree.Folder, Mode: 0o755, UID: c.user.uid, GID: c.user.gid})
			}
		}
	}
	return completePoints(c.view, spec)
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
				added = bare(n)
			}
			spec.Points = append(spec.Points, added)
		}
	}
	return nil
}

// TryStep runs a command in the view of a step: that number (from 1) of a unit's steps. What the step needs is built.
func TryStep(ctx context.Context, o Options, name string, p platform.Platform, number int, t Try) (sandbox.Status, error) {
	b := newBuilder(o)
	defer b.close()
	at := slices.IndexFunc(o.Plan.Units, func(u *plan.Unit) bool { return u.ID.Name == name && u.ID.Platform == p })
	if at < 0 {
		return sandbox.Status{}, fmt.Errorf("the plan has no %s for %s", name, p)
	}
	u := o.Plan.Units[at]
	if number < 1 || number > len(u.Steps) {
		return sandbox.Status{}, fmt.Errorf("%s has %d steps, and no step %d", u.ID, len(u.Steps), number)
	}
	step := u.Steps[number-1]
	// Nothing is packed, and nothing from the step on is made.
	u.Steps, u.IsImage = u.Steps[:number-1], false
	if err := b.prepare(ctx); err != nil {
		return sandbox.Status{}, err
	}
	s, err := b.unit(ctx, u)
	if err != nil {
		return sandbox.Status{}, err
	}
	do, isRun := step.Do.(plan.Run)
	if !isRun {
		do = plan.Run{Network: true}
	}
	if len(t.Command) > 0 {
		do.Lines, do.Args = nil, t.Command
	}
	if len(t.Command) == 0 {
		view, err := s.see(ctx)
		if err != nil {
			return sandbox.Status{}, err
		}
		if !hasShell(view) {
			return sandbox.Status{}, fmt.Errorf("the view of %s has no shell /bin/sh: name a command of the view after --", u.ID)
		}
		do.Lines, do.Args = nil, []string{"/bin/sh"}
	}
	c, err := b.command(ctx, u, &step, do, s, event.Task{Unit: u.ID.Name, Platform: p.String(), Label: step.Label})
	if err != nil {
		return sandbox.Status{}, err
	}
	c.env = append(c.env, t.Env...)
	return b.throwAway(ctx, c, t, v1.ImageConfig{})
}

// Unpack lays a whole image down in a folder, with its settings. The folder must not exist or be empty.
func Unpack(ctx context.Context, o Options, from *Resolved, dir string) (v1.ImageConfig, *sandbox.Box, error) {
	b, one, err := lookInto(ctx, o, from)
	if err != nil {
		return v1.ImageConfig{}, nil, err
	}
	defer b.close()
	box, err := b.box(ctx)
	if err != nil {
		return v1.ImageConfig{}, nil, err
	}
	entries, feed := whole(ctx, one.view)
	if names, err := os.ReadDir(dir); err == nil && len(names) > 0 {
		return v1.ImageConfig{}, nil, fmt.Errorf("the folder %s is not empty", dir)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return v1.ImageConfig{}, nil, err
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return v1.ImageConfig{}, nil, err
	}
	return one.config.Config, box, box.Lay(ctx, abs, entries, feed)
}

// UserOf finds the numbers of an image's user.
func UserOf(ctx context.Context, o Options, from *Resolved) (uid, gid int, groups []int, err error) {
	b, one, err := lookInto(ctx, o, from)
	if err != nil {
		return 0, 0, nil, err
	}
	defer b.close()
	a, err := b.runsAs(ctx, &command{step: &plan.Step{}, view: one.view}, one.config.Config.User)
	return a.uid, a.gid, a.groups, err
}
