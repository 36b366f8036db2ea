package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/command"
	"imbricat/internal/flow"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/try"
	"imbricat/internal/flow/workbench"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/printable"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/share"
)

func workbenchCommand() *cli.Command {
	act := func(run func(context.Context, *session) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error { return run(ctx, newSession(c)) }
	}
	rights := []cli.Flag{
		&cli.StringFlag{Name: "owner", Usage: "`USER[:GROUP]` of what is laid down, numbers or names of the image"},
		&cli.StringFlag{Name: "mode", Usage: "`MODE` of what is laid down, such as 0640 or u=rwX,go=rX"},
	}
	return group(&cli.Command{
		Name: "workbench", Usage: "builds an image by hand, act by act, and prints the recipe that makes the same",
		Description: "A workbench is opened on a base, and keeps what is done at it until it is dropped. What was done can be undone, sealed\n" +
			"into an image of the store, or printed as a recipe.\n\nExample: imbricat workbench open registry.tideline.example/base/slim:4 --name pier",
		Commands: []*cli.Command{
			{Name: "open", Usage: "opens one on a base, and prints its name", ArgsUsage: "BASE|none",
				Description: "With --at-failure it builds an image or a stage of the recipe, and opens where that fails, with what the command left that\n" +
					"failed; what is done there is printed by the command recipe as the step's new lines.\n\n" +
					"Example: imbricat workbench open debian:12 --name pier",
				Flags: []cli.Flag{&cli.StringFlag{Name: "name", Usage: "`NAME` of the workbench (default: the base's and a number)"},
					&cli.StringFlag{Name: "at-failure", Usage: "`IMAGE` or stage of the recipe, in place of a base: where building it fails"}, factFlag(), jobsFlag(),
					&cli.StringFlag{Name: "platform", Usage: "`OS/ARCHITECTURE` of the image; another than this machine's is emulated"}, sandboxFlag()}, Action: act(runWorkbenchOpen)},
			{Name: "exec", Usage: "runs a command there, and keeps what it changed", ArgsUsage: "NAME [-- COMMAND…]",
				Description: "What the command prints is printed here, and its exit code is the exit code. One that fails leaves nothing, and one that\n" +
					"changes nothing is no act.\n\nExample: imbricat workbench exec pier --line 'make && make install' --working-dir /src",
				Flags: []cli.Flag{&cli.StringFlag{Name: "line", Usage: "`LINE` for the image's shell, in place of a command"},
					&cli.StringSliceFlag{Name: "env", Usage: "`NAME=VALUE` over the base's environment; NAME alone takes the value that it has here; may be given again"},
					&cli.StringFlag{Name: "user", Usage: "`USER[:GROUP]` in place of the base's"},
					&cli.StringFlag{Name: "working-dir", Usage: "`FOLDER` of the image to start in"},
					&cli.BoolFlag{Name: "no-network", Usage: "only a loopback of its own in place of this machine's network"}, sandboxFlag()}, Action: act(runWorkbenchExec)},
			{Name: "shell", Usage: "runs a shell there, and keeps what was changed in it", ArgsUsage: "NAME [-- COMMAND…]",
				Description: "With this terminal, or what comes in on standard input. The recipe gets what was changed as an archive.\n\nExample: imbricat workbench shell pier",
				Flags: []cli.Flag{&cli.StringSliceFlag{Name: "env", Usage: "`NAME=VALUE` over the image's environment; NAME alone takes the value that it has here; may be given again"},
					&cli.StringFlag{Name: "user", Usage: "`USER[:GROUP]` in place of the image's"},
					&cli.StringFlag{Name: "working-dir", Usage: "`FOLDER` of the image to start in"},
					&cli.BoolFlag{Name: "no-network", Usage: "only a loopback of its own in place of this machine's network"}, sandboxFlag()}, Action: act(runWorkbenchShell)},
			{Name: "put", Usage: "lays files of this machine down", ArgsUsage: "NAME FILE|FOLDER… TO",
				Description: "TO is absolute; with a slash at its end it is a folder to put things into. A folder gives what it holds.\n\nExample: imbricat workbench put pier pages/public /srv/pages",
				Flags:       append(slices.Clone(rights), sandboxFlag()), Action: act(runWorkbenchPut)},
			{Name: "take", Usage: "lays files of another image down", ArgsUsage: "NAME REFERENCE PATH… TO",
				Description: "Example: imbricat workbench take pier registry.tideline.example/base/toolchain:4 /usr/bin/make /usr/bin/",
				Flags:       append(slices.Clone(rights), sandboxFlag()), Action: act(runWorkbenchTake)},
			{Name: "set", Usage: "sets what the image says of itself", ArgsUsage: "NAME KEY=VALUE…",
				Description: "The keys are those of settings: in a recipe, and the values YAML; env and labels take a name behind a dot.\n\n" +
					"Example: imbricat workbench set pier 'entrypoint=[/usr/bin/gauge]' user=1000:1000 env.STATION=north-pier",
				Flags: []cli.Flag{sandboxFlag()}, Action: act(runWorkbenchSet)},
			{Name: "undo", Usage: "undoes the last act, or the last so many", ArgsUsage: "NAME [NUMBER]", Description: "Example: imbricat workbench undo pier 2",
				Flags: []cli.Flag{sandboxFlag()}, Action: act(runWorkbenchUndo)},
			{Name: "show", Usage: "lists the acts of one", ArgsUsage: "NAME", Description: "Example: imbricat workbench show pier", Action: act(runWorkbenchShow)},
			{Name: "changes", Usage: "lists what differs from the base so far", ArgsUsage: "NAME", Description: "Example: imbricat workbench changes pier",
				Flags: []cli.Flag{sandboxFlag()}, Action: act(runWorkbenchChanges)},
			{Name: "recipe", Usage: "prints the recipe that makes the same", ArgsUsage: "NAME",
				Description: "Paths of files that were put are as they were given: those of the folder where that was done.\n\nExample: imbricat workbench recipe pier --into pier",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "into", Usage: "write the recipe, its lock and the files that it takes in into this new `FOLDER`"}}, Action: act(runWorkbenchRecipe)},
			{Name: "seal", Usage: "makes an image of the store of what it holds now", ArgsUsage: "NAME IMAGE[:TAG]", Description: "The workbench stays as it is.\n\nExample: imbricat workbench seal pier gauge:1.4",
				Flags: []cli.Flag{sandboxFlag()}, Action: act(runWorkbenchSeal)},
			{Name: "list", Usage: "the workbenches of the store", Description: "Example: imbricat workbench list", Action: act(runWorkbenchList)},
			{Name: "drop", Usage: "removes workbenches", ArgsUsage: "NAME…", Description: "Images that they were sealed into stay.\n\nExample: imbricat workbench drop pier", Action: act(runWorkbenchDrop)},
		},
	})
}

// maker is what carries acts out. Close ends what it shows of them.
func (s *session) maker(ctx context.Context, st *store.Store) (m *workbench.Maker, done func()) {
	s.calm = true // what is done is told in a line, and commands print themselves
	view := s.view(ctx)
	return &workbench.Maker{Store: st, Sink: view,
		Workspace: func(p *workspace.Planned) (*workspace.Workspace, error) { return s.workIn(p, st) },
		Build: building.Options{Command: "imbricat " + strings.Join(os.Args[1:], " "), Book: s.bookOf(st),
			Cache: func(event.Sink) (*share.Cache, error) { return nil, nil }}}, func() { view.Close("") }
}

// atWorkbench opens the store and the workbench that the first argument names, for a command with so many arguments.
func (s *session) atWorkbench(ctx context.Context, least, most int, usage string) (args []string, st *store.Store, b *workbench.Bench, err error) {
	if args, err = s.args(least, most, usage); err != nil {
		return nil, nil, nil, err
	}
	if st, err = s.openStore(); err != nil {
		return nil, nil, nil, err
	}
	b, err = workbench.Find(ctx, st, args[0])
	return args[1:], st, b, err
}

func runWorkbenchOpen(ctx context.Context, s *session) error {
	if s.cmd.String("at-failure") != "" {
		return s.openAtFailure(ctx)
	}
	args, err := s.args(1, 1, "a base, or none")
	if err != nil {
		return err
	}
	p := platform.Here()
	if text := s.cmd.String("platform"); text != "" {
		if p, err = platform.Parse(text); err != nil {
			return flow.WrongUse(err)
		}
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	base := args[0]
	var found *baseimage.Found
	var ref reference.Reference
	if base != "none" {
		if base, ref, found, err = s.lastingReference(ctx, st, base, p); err != nil {
			return err
		}
	}
	b, err := workbench.Open(ctx, st, s.cmd.String("name"), base, p)
	if err != nil {
		return err
	}
	defer b.Close()
	m, done := s.maker(ctx, st)
	defer done()
	if err := m.Begin(ctx, b, ref, found); err != nil {
		return errors.Join(err, b.Drop(context.WithoutCancel(ctx), st))
	}
	done()
	return s.result(workbenchDocument(b), func() string { return b.Name + "\n" })
}

// openAtFailure builds an image and opens a workbench where that fails.
func (s *session) openAtFailure(ctx context.Context) error {
	if _, err := s.args(0, 0, "no base with --at-failure"); err != nil {
		return err
	}
	name := s.cmd.String("at-failure")
	w, err := s.planFor(ctx, workspace.Choice{Images: []string{name}, Stages: true})
	if err != nil {
		return err
	}
	view := s.view(ctx)
	_, _, err = building.Run(ctx, w, view, s.buildOptions(w, nil))
	view.Close("")
	var failed *command.FailedError
	if err == nil {
		return flow.Failedf("%s was built, and nothing failed: there is no failure to open a workbench at", name)
	}
	if !errors.As(err, &failed) || ctx.Err() != nil {
		return err
	}
	tellFailures(s, failed)
	b, err := workbench.Open(ctx, w.Store, s.cmd.String("name"), failed.Unit[:strings.IndexByte(failed.Unit, ' ')], platform.Here())
	if err != nil {
		return err
	}
	defer b.Close()
	m, done := s.maker(ctx, w.Store)
	defer done()
	dropped, err := m.BeginAtFailure(ctx, b, w, failed)
	if err != nil {
		return errors.Join(err, b.Drop(context.WithoutCancel(ctx), w.Store))
	}
	done()
	s.dropped(dropped)
	return s.result(workbenchDocument(b), func() string { return b.Name + "\n" })
}

// planFor plans and opens what it takes to work on that.
func (s *session) planFor(ctx context.Context, c workspace.Choice) (*workspace.Workspace, error) {
	p, err := s.choose(ctx, c)
	if err != nil {
		return nil, err
	}
	return s.workOn(p)
}

// lastingReference finds an image, and names it so that it can be found from other folders.
func (s *session) lastingReference(ctx context.Context, st *store.Store, text string, p platform.Platform) (string, reference.Reference, *baseimage.Found, error) {
	ref, err := reference.Parse(text)
	if err != nil {
		return "", ref, nil, flow.WrongUse(err)
	}
	found, err := s.resolve(ctx, st, &trial{image: text, platform: p})
	if err != nil {
		return "", ref, nil, err
	}
	if ref.Kind == reference.Layout || ref.Kind == reference.Archive {
		if ref.Path, err = filepath.Abs(ref.Path); err != nil {
			return "", ref, nil, err
		}
		text = ref.String()
	}
	return text, ref, found, nil
}

// do carries an act out and tells of it.
func (s *session) do(ctx context.Context, st *store.Store, b *workbench.Bench, a workbench.Act) error {
	m, done := s.maker(ctx, st)
	defer done()
	out, err := m.Do(ctx, b, a)
	if err != nil {
		return err
	}
	done()
	s.ranAgain(out.Again)
	document := acted(b, &a, out)
	return s.result(document, func() string { return report.ActedText(s.paint, document) })
}

func acted(b *workbench.Bench, a *workbench.Act, out *workbench.Outcome) *report.Acted {
	document := &report.Acted{Workbench: b.Name, Act: a.What(), Image: out.Digest}
	if out.Act != nil {
		document.Number = out.Act.Number
	}
	for _, one := range out.Steps {
		document.Files, document.Bytes = document.Files+one.Files, document.Bytes+one.Bytes
	}
	return document
}

// ranAgain warns of earlier commands that may have left something else this time.
func (s *session) ranAgain(labels []string) {
	for _, one := range labels {
		fmt.Fprintf(s.err, "%s %s had to run again: what it left before is no longer in the store\n", s.errPaint.Bold("warning:"), one)
	}
}

// printing passes on what a command prints; what comes before it begins is shown as it comes.
type printing struct {
	view  event.Sink
	done  func()
	out   io.Writer
	place string

	mutex sync.Mutex
	began bool
	err   error
}

// Send implements event.Sink.
func (p *printing) Send(e event.Event) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	switch e := e.(type) {
	case event.Started:
		if e.Task.Place == p.place && e.Act == "running" && !p.began {
			p.done()
			p.began = true
		}
	case event.Output:
		if e.Task.Place == p.place && p.err == nil {
			_, p.err = io.WriteString(p.out, e.Text)
		}
		return
	}
	if _, doubt := e.(event.Warning); doubt || !p.began {
		p.view.Send(e)
	}
}

func runWorkbenchExec(ctx context.Context, s *session) error {
	args, st, b, err := s.atWorkbench(ctx, 1, -1, "a workbench and, after --, a command")
	if err != nil {
		return err
	}
	defer b.Close()
	if len(args) > 0 && args[0] == "--" {
		args = args[1:]
	}
	line := s.cmd.String("line")
	if (line == "") == (len(args) == 0) {
		return flow.Usagef("%s takes either --line LINE or, after --, a command", s.cmd.FullName())
	}
	given, err := s.given(b)
	if err != nil {
		return err
	}
	m, done := s.maker(ctx, st)
	done = sync.OnceFunc(done)
	defer done()
	out := io.Writer(s.out)
	switch {
	case s.json():
		out = s.err
	case !isTerminal(s.out):
		out = printable.Unwrap(s.out) // byte by byte, for whoever reads it
	}
	p := &printing{view: m.Sink, done: done, out: out, place: m.NextPlace(b)}
	m.Sink = p
	a := workbench.Act{Exec: &workbench.Exec{Line: line, Command: args, Given: given}}
	made, err := m.Do(ctx, b, a)
	done()
	var failed *command.FailedError
	switch {
	case errors.As(err, &failed) && failed.Status != 0:
		fmt.Fprintf(s.err, "the command %s, and left nothing at %s\n", failed.What, b.Name)
		return &statusError{failed.Status}
	case err != nil:
		return err
	case p.err != nil:
		return unwritten(p.err)
	}
	s.ranAgain(made.Again)
	document := acted(b, &a, made)
	if s.json() {
		return report.JSON(s.out, document)
	}
	fmt.Fprint(s.err, s.errPaint.Muted(report.ActedText(report.Paint{}, document)))
	return nil
}

// given is what the command line gives a command.
func (s *session) given(b *workbench.Bench) (workbench.Given, error) {
	g := workbench.Given{Network: true}
	if b.Failure != nil {
		g = b.Failure.Given
	}
	if user := s.cmd.String("user"); user != "" {
		g.User = user
	}
	if dir := s.cmd.String("working-dir"); dir != "" {
		if !strings.HasPrefix(dir, "/") {
			return g, flow.Usagef("--working-dir takes an absolute folder of the image, not %q", dir)
		}
		g.WorkingDir = dir
	}
	if s.cmd.Bool("no-network") {
		g.Network, g.Hosts = false, nil
	}
	pairs, err := environment(s.cmd.StringSlice("env"))
	for _, pair := range pairs {
		if g.Env == nil {
			g.Env = map[string]string{}
		}
		name, value, _ := strings.Cut(pair, "=")
		g.Env[name] = value
	}
	return g, err
}

func runWorkbenchShell(ctx context.Context, s *session) error {
	args, st, b, err := s.atWorkbench(ctx, 1, -1, "a workbench and, after --, a command")
	if err != nil {
		return err
	}
	defer b.Close()
	if len(args) > 0 && args[0] == "--" {
		args = args[1:]
	}
	if len(args) == 0 {
		args = []string{"/bin/sh"}
	}
	given, err := s.given(b)
	if err != nil {
		return err
	}
	p, err := platform.Parse(b.Platform)
	if err != nil {
		return err
	}
	m, done := s.maker(ctx, st)
	defer done()
	desc, again, err := m.Current(ctx, b)
	if err != nil {
		return err
	}
	done()
	s.ranAgain(again)
	var left *workbench.Left
	t := &trial{image: string(desc.Digest), platform: p, do: try.Command{Command: args, User: given.User, In: given.WorkingDir, Env: given.Pairs(), Network: given.Network, Hosts: given.Hosts,
		Left: func(ctx context.Context, view *tree.View, entries []tree.Entry, from tree.Contents) error {
			var dropped []string
			left, dropped, err = b.Keep(ctx, "shell "+strings.Join(args, " "), view, entries, from)
			s.dropped(dropped)
			return err
		}}}
	if t.found, err = s.resolve(ctx, st, t); err != nil {
		return err
	}
	t.found.Name = b.Name // as people know it
	status, err := s.tryHere(ctx, st, t)
	if err != nil {
		return err
	}
	if left == nil {
		fmt.Fprintln(s.err, "nothing was changed there")
		return exitWith(status)
	}
	if err := s.do(ctx, st, b, workbench.Act{Left: left}); err != nil {
		return err
	}
	return exitWith(status)
}

// dropped warns of what no recipe can lay down.
func (s *session) dropped(paths []string) {
	for _, one := range paths {
		fmt.Fprintf(s.err, "%s %s is left out: it is a pipe or a device\n", s.errPaint.Bold("warning:"), one)
	}
}

func runWorkbenchPut(ctx context.Context, s *session) error {
	args, st, b, err := s.atWorkbench(ctx, 3, -1, "a workbench, files or folders, and where to put them")
	if err != nil {
		return err
	}
	defer b.Close()
	to := args[len(args)-1]
	from, special, err := b.TakeIn(ctx, ".", args[:len(args)-1], st.Dir())
	if err != nil {
		return err
	}
	for _, one := range special {
		fmt.Fprintf(s.err, "%s %s is left out: it is a socket, a pipe or a device\n", s.errPaint.Bold("warning:"), one)
	}
	return s.do(ctx, st, b, workbench.Act{Put: &workbench.Put{From: from, To: to, Rights: s.rights()}})
}

func (s *session) rights() workbench.Rights {
	return workbench.Rights{Owner: s.cmd.String("owner"), Mode: s.cmd.String("mode")}
}

func runWorkbenchTake(ctx context.Context, s *session) error {
	args, st, b, err := s.atWorkbench(ctx, 4, -1, "a workbench, an image, paths in it, and where to lay them down")
	if err != nil {
		return err
	}
	defer b.Close()
	p, err := platform.Parse(b.Platform)
	if err != nil {
		return err
	}
	from, ref, found, err := s.lastingReference(ctx, st, args[0], p)
	if err != nil {
		return err
	}
	if err := b.Pin(ref, found.Root.Digest); err != nil {
		return err
	}
	m, done := s.maker(ctx, st)
	defer done()
	if err := m.Guard(ctx, b, fmt.Sprintf("take-%d", b.Next), found.Root.Digest); err != nil {
		return err
	}
	done()
	last := len(args) - 1
	return s.do(ctx, st, b, workbench.Act{Take: &workbench.Take{From: from, Paths: args[1:last], To: args[last], Rights: s.rights()}})
}

func runWorkbenchSet(ctx context.Context, s *session) error {
	args, st, b, err := s.atWorkbench(ctx, 2, -1, "a workbench, and KEY=VALUE")
	if err != nil {
		return err
	}
	defer b.Close()
	values := map[string]string{}
	for _, pair := range args {
		key, value, found := strings.Cut(pair, "=")
		if !found || key == "" {
			return flow.Usagef("%s takes KEY=VALUE, not %q", s.cmd.FullName(), pair)
		}
		values[key] = value
	}
	set := &workbench.Set{Values: values}
	if err := set.Check(); err != nil {
		return err
	}
	return s.do(ctx, st, b, workbench.Act{Set: set})
}

func runWorkbenchUndo(ctx context.Context, s *session) error {
	args, st, b, err := s.atWorkbench(ctx, 1, 2, "a workbench and, if more than one act is to be undone, how many")
	if err != nil {
		return err
	}
	defer b.Close()
	count := 1
	if len(args) > 0 {
		if _, err := fmt.Sscanf(args[0], "%d", &count); err != nil || count < 1 {
			return flow.Usagef("%s takes how many acts are undone, not %q", s.cmd.FullName(), args[0])
		}
	}
	if err := b.Undo(count); err != nil {
		return err
	}
	m, done := s.maker(ctx, st)
	defer done()
	_, again, err := m.Current(ctx, b)
	if err != nil {
		return err
	}
	done()
	s.ranAgain(again)
	document := workbenchDocument(b)
	return s.result(document, func() string { return report.WorkbenchText(s.paint, document, time.Now()) })
}

func runWorkbenchShow(_ context.Context, s *session) error {
	args, err := s.args(1, 1, "a workbench")
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	b, err := workbench.Read(st, args[0])
	if err != nil {
		return err
	}
	document := workbenchDocument(b)
	return s.result(document, func() string { return report.WorkbenchText(s.paint, document, time.Now()) })
}

func workbenchDocument(b *workbench.Bench) *report.Workbench {
	document := &report.Workbench{Name: b.Name, Base: b.Base, Platform: b.Platform, Opened: b.Opened, Acts: []report.Act{}, Image: b.Image}
	for i := range b.Acts {
		a := &b.Acts[i]
		document.Acts = append(document.Acts, report.Act{Number: a.Number, Act: a.What(), Made: a.Made})
	}
	if f := b.Failure; f != nil {
		document.Failure = &report.Failure{Recipe: f.Project, Place: f.Place, Step: f.Label, What: f.What}
	}
	return document
}

func runWorkbenchChanges(ctx context.Context, s *session) error {
	_, st, b, err := s.atWorkbench(ctx, 1, 1, "a workbench")
	if err != nil {
		return err
	}
	defer b.Close()
	m, done := s.maker(ctx, st)
	defer done()
	changes, err := m.Changes(ctx, b)
	if err != nil {
		return err
	}
	done()
	list := []report.WorkbenchChange{}
	for _, c := range changes {
		n, change := c.After, "changed"
		switch {
		case c.Before == nil:
			change = "new"
		case c.After == nil:
			n, change = c.Before, "gone"
		}
		one := report.WorkbenchChange{Path: c.Path, Change: change, Kind: n.Kind.String(), Mode: fmt.Sprintf("%04o", n.Mode), Owner: fmt.Sprintf("%d:%d", n.UID, n.GID)}
		if n.Kind == tree.File {
			one.Bytes = n.Size
		}
		list = append(list, one)
	}
	return s.result(list, func() string { return report.WorkbenchChangesText(s.paint, list) })
}

func runWorkbenchRecipe(_ context.Context, s *session) error {
	args, err := s.args(1, 1, "a workbench")
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	b, err := workbench.Read(st, args[0])
	if err != nil {
		return err
	}
	if into := s.cmd.String("into"); into != "" {
		return b.WriteProject(into)
	}
	return s.print(string(b.Printed()))
}

func runWorkbenchSeal(ctx context.Context, s *session) error {
	args, st, b, err := s.atWorkbench(ctx, 2, 2, "a workbench and a name for the image")
	if err != nil {
		return err
	}
	defer b.Close()
	name, err := reference.Parse(args[0])
	if err != nil || name.Kind != reference.Store || name.Name == "" || name.Digest != "" {
		return flow.Usagef("%q is not a valid name for the store: write NAME or NAME:TAG", args[0])
	}
	m, done := s.maker(ctx, st)
	defer done()
	desc, again, err := m.Current(ctx, b)
	if err != nil {
		return err
	}
	done()
	s.ranAgain(again)
	if err := st.Name(ctx, name.StoreName(), desc); err != nil {
		return err
	}
	document := &report.Names{Names: []report.Name{{Name: name.StoreName(), Digest: desc.Digest}}}
	return s.result(document, func() string { return report.NamesText(s.paint, "sealed", document) })
}

func runWorkbenchList(_ context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	list := []report.Workbench{}
	for _, name := range workbench.Names(st) {
		b, err := workbench.Read(st, name)
		var wrong *flow.Error
		if errors.As(err, &wrong) {
			continue // it was dropped meanwhile
		}
		if err != nil {
			return err
		}
		list = append(list, *workbenchDocument(b))
	}
	return s.result(list, func() string { return report.WorkbenchesText(s.paint, list, time.Now()) })
}

func runWorkbenchDrop(ctx context.Context, s *session) error {
	names, err := s.args(1, -1, "names")
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	for _, name := range names {
		b, err := workbench.Find(ctx, st, name)
		if err != nil {
			return err
		}
		err = b.Drop(ctx, st)
		b.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
