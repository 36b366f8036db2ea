package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/flow/background"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/live"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/watch"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/changes"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/printable"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

func watchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "builds, and builds again whenever something changes that the images depend on", ArgsUsage: "[IMAGE|STAGE…]",
		Description: "What the steps take in is watched, and the recipe, the lock, ignore files, and the commit that is checked out. A newer\n" +
			"change ends the build that is under way. A mistake in the recipe is told, and the next change tries again.\n" +
			"With --into a command in the background gets files as they are saved, with --restart it is started again of the new image.\n" +
			"The command of --then runs in the project folder after each build that succeeds, with the file of its receipt in the\n" +
			"variable RECEIPT; a newer change ends it too.\n\n" +
			"Example: imbricat watch gauge --then 'imbricat push gauge'",
		Flags: append([]cli.Flag{platformFlag(), factFlag(), sandboxFlag(), jobsFlag(), keepGoingFlag(),
			&cli.BoolFlag{Name: "push", Usage: "push the images after each build that succeeds, as the command push does"},
			&cli.StringSliceFlag{Name: "into", Usage: "put files that a copy alone carries into what runs in the background under this `NAME`, before the image is built; may be given again"},
			&cli.StringSliceFlag{Name: "restart", Usage: "start what runs in the background under this `NAME` again when its image is another; may be given again"},
			&cli.StringFlag{Name: "then", Usage: "`COMMAND` for the shell, after each build that succeeds"},
			&cli.BoolFlag{Name: "poll", Usage: "look for changes again and again, where the system does not tell of all", Sources: env("POLL")}},
			shareFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error { return runWatch(ctx, newSession(c)) },
	}
}

// watching is a watch from its first round to its last.
type watching struct {
	*session
	files   *changes.Watcher
	scope   *changes.Scope // nil: nothing could be planned yet
	receipt string         // file, for the command behind; empty: there is none
	wrong   bool           // the last round failed
	into    []*live.Follower
	doubts  doubts
	screen  bool     // what is told of the last rounds is all that stays on the terminal
	told    []string // of the rounds so far, the last ones
	whole   context.Context
	giveUp  context.CancelCauseFunc // ends the watch
}

func runWatch(ctx context.Context, s *session) error {
	if _, err := os.Stat(s.project().Dir); err != nil {
		return fmt.Errorf("there is no project folder to watch: %w", err)
	}
	kept := ""
	if s.cmd.String("then") != "" {
		dir, err := os.MkdirTemp("", "imbricat-watch-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		kept = filepath.Join(dir, "receipt.json")
	}
	inner, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	w := &watching{session: s, receipt: kept, whole: inner, giveUp: cancel}
	var err error
	w.files, err = changes.Open(s.project().Dir, changes.Options{Poll: s.cmd.Bool("poll"), Say: func(why string) {
		fmt.Fprintf(s.err, "changes are looked for every half second: %s\n", why)
	}})
	if err != nil {
		return err
	}
	defer w.files.Close()
	if !s.json() {
		fmt.Fprintln(s.err, s.errPaint.Muted(watchingLine))
	}
	w.screen = !s.json() && isTerminal(s.out) && slices.Contains([]string{"auto", "live"}, s.cmd.String("view")) && os.Getenv("TERM") != "dumb" && os.Getenv("CI") == ""
	err = watch.Run(inner, w.files, w.round)
	if ctx.Err() == nil {
		err = context.Cause(inner)
	}
	return err
}

// watchingLine is told first.
const watchingLine = "watching; Ctrl-C ends it"

// mostRounds is how many rounds a screen shows.
const mostRounds = 10

// begin begins what is told of a round. On a screen the rounds before stay, without what their builds and commands printed.
func (w *watching) begin(s *session) {
	if w.screen && len(w.told) > 0 {
		w.told = w.told[max(0, len(w.told)-mostRounds+1):]
		_, err := io.WriteString(printable.Unwrap(s.out), "\x1b[H\x1b[2J") // an empty screen
		w.failed(errors.Join(err, s.print(s.paint.Muted(watchingLine)+"\n"+strings.Join(w.told, ""))))
	}
	w.told = append(w.told, "")
}

// say tells something of the round.
func (w *watching) say(s *session, text string) {
	if s.json() {
		return
	}
	w.told[len(w.told)-1] += text
	w.failed(s.print(text))
}

// failed ends the watch where its results can no longer be written.
func (w *watching) failed(err error) {
	if err != nil {
		w.giveUp(err)
	}
}

// round builds once, and tells of it.
func (w *watching) round(ctx context.Context, r watch.Round) {
	told := &report.Round{Number: r.Number, Changed: append([]string{}, r.Changed.Paths...), Commit: r.Changed.Mark, All: r.Changed.All}
	began := time.Now()
	s := newSession(w.cmd) // what a session keeps is of one build
	s.calm = true
	w.begin(s)
	if !r.Changed.None() {
		w.say(s, report.RoundBeginsText(s.paint, told, began))
	}
	document, err := w.build(ctx, s, told)
	if r.Number == 1 && errors.Is(err, plan.ErrChoice) { // a slip on the command line, and no change mends that
		w.failed(err)
		return
	}
	told.Seconds, told.Built, told.Ended = time.Since(began).Seconds(), document, time.Now().UTC()
	w.judge(ctx, s, told, err)
	for list := ending(w.cmd.Root()); len(list) > 0; list = ending(w.cmd.Root()) {
		for _, act := range list {
			act()
		}
	}
	if w.whole.Err() != nil {
		return // whoever ends it knows
	}
	w.say(s, report.RoundText(s.paint, told))
	if command := w.cmd.String("then"); command != "" && told.Outcome == receipt.Done {
		told.Then = w.then(ctx, s, command)
		if ctx.Err() != nil {
			told.Outcome = receipt.Interrupted
		} else {
			w.say(s, report.ThenText(s.paint, told.Then, time.Now()))
		}
	}
	if s.json() && w.whole.Err() == nil {
		w.failed(report.JSONLine(s.out, told))
	}
}

// judge says how a build ended, and tells its error.
func (w *watching) judge(ctx context.Context, s *session, told *report.Round, err error) {
	if ctx.Err() != nil {
		told.Outcome = receipt.Interrupted
		return
	}
	told.Outcome, told.Again = receipt.Done, w.wrong && err == nil
	if w.wrong = err != nil; !w.wrong {
		return
	}
	told.Outcome, told.Error = receipt.Failed, s.secrets.Text(strings.TrimSpace(err.Error()))
	if !s.json() {
		tellFailures(s, err)
		fmt.Fprintln(s.err, s.mistake(err, told.Error))
	}
}

// build plans and builds. What the plan depends on is watched before it is read.
func (w *watching) build(ctx context.Context, s *session, told *report.Round) (*report.Build, error) {
	r, err := receipts.Begin(receipts.Options{Command: "build", Program: "imbricat " + version(), Place: w.receipt, Redactor: &s.secrets, Client: s.client, Exit: exitCode, Interrupted: exitInterrupted})
	if err != nil {
		return nil, err
	}
	document, err := w.planned(ctx, s, r, told)
	return document, r.Close(ctx, err)
}

func (w *watching) planned(ctx context.Context, s *session, r *receipts.Recorder, told *report.Round) (*report.Build, error) {
	if w.scope == nil { // what was watched before has the recipe in it
		w.files.Aim(s.project().RecipeAlone())
	}
	var ws *workspace.Workspace
	for more := true; more; {
		p, err := s.choose(ctx, workspace.Choice{Images: s.cmd.Args().Slice(), Stages: true})
		if err != nil {
			return nil, err
		}
		r.From(p)
		if ws, err = s.workOn(p); err != nil {
			return nil, err
		}
		scope, err := ws.Watched(ctx)
		if err != nil {
			return nil, err
		}
		more, w.scope = w.files.Aim(scope), &scope
	}
	w.putNow(s, ws, told)
	view := s.view(ctx)
	defer view.Close("")
	r.Part = "build"
	document, result, err := building.Run(ctx, ws, w.doubts.once(view), s.buildOptions(ws, nil))
	r.Built(document)
	view.Close("")
	if result == nil {
		return nil, err
	}
	if err == nil && s.cmd.Bool("push") {
		told.Pushed, err = s.send(ctx, ws, r, nil)
	}
	if err == nil {
		w.bringUp(ctx, s, ws, result, told)
	}
	return document, err
}

// doubts are the warnings of a round, which the next one need not repeat.
type doubts struct {
	mutex       sync.Mutex
	before, now map[string]bool
}

// once begins a round: it returns what passes everything on but the warnings that the round before gave too.
func (d *doubts) once(to event.Sink) event.Sink {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	d.before, d.now = d.now, map[string]bool{}
	return event.Func(func(e event.Event) {
		if w, is := e.(event.Warning); is {
			d.mutex.Lock()
			known := d.before[w.Text]
			d.now[w.Text] = true
			d.mutex.Unlock()
			if known {
				return
			}
		}
		to.Send(e)
	})
}

// follow begins to follow what is to be given files.
func (w *watching) follow(s *session) {
	if w.into != nil {
		return
	}
	for _, name := range s.cmd.StringSlice("into") {
		w.into = append(w.into, live.Follow(name))
	}
}

// putNow puts what changed into commands that run, where a copy alone carries it.
func (w *watching) putNow(s *session, ws *workspace.Workspace, told *report.Round) {
	w.follow(s)
	for _, f := range w.into {
		began := time.Now()
		done, err := f.Now(ws.Store, ws.Dir, told.Changed)
		if len(done.Put) > 0 || err != nil {
			w.tellInto(s, told, &report.Into{Name: f.Name, Put: done.Put}, began, err)
		}
	}
}

// bringUp has commands that run see what the image holds now, or starts them again.
func (w *watching) bringUp(ctx context.Context, s *session, ws *workspace.Workspace, result *engine.Result, told *report.Round) {
	again := s.cmd.StringSlice("restart")
	for _, f := range w.into {
		began := time.Now()
		done, err := f.After(ctx, ws, result)
		one := &report.Into{Name: f.Name, Put: done.Put, Removed: done.Removed, Behind: done.Behind}
		if slices.Contains(again, f.Name) && err == nil {
			again = slices.DeleteFunc(slices.Clone(again), func(name string) bool { return name == f.Name && len(done.Behind) == 0 })
			one.Behind = nil
		}
		if len(one.Put)+len(one.Removed) > 0 || done.Fresh && len(one.Behind) > 0 || err != nil {
			w.tellInto(s, told, one, began, err)
		}
	}
	for _, name := range again {
		began := time.Now()
		started, err := w.restartOne(ctx, s, ws.Store, name, result)
		if started || err != nil {
			w.tellInto(s, told, &report.Into{Name: name, Started: started}, began, err)
		}
	}
}

// restartOne starts a command again where its image is another than when it was started.
func (w *watching) restartOne(ctx context.Context, s *session, st *store.Store, name string, result *engine.Result) (bool, error) {
	b, err := background.Find(st, name)
	if err != nil {
		return false, err
	}
	for _, i := range result.Images {
		for _, p := range i.Platforms {
			if i.Name == b.Image && p.Platform.String() == b.Platform && p.Descriptor.Digest != b.Digest {
				return true, s.restart(ctx, b)
			}
		}
	}
	return false, nil
}

// tellInto tells what a command was given.
func (w *watching) tellInto(s *session, told *report.Round, one *report.Into, began time.Time, err error) {
	one.Seconds = time.Since(began).Seconds()
	if err != nil {
		one.Error = s.secrets.Text(strings.TrimSpace(err.Error()))
	}
	told.Into = append(told.Into, *one)
	w.say(s, report.IntoText(s.paint, one, time.Now()))
}

// then runs the command behind a build; its whole group of processes ends with the context.
func (w *watching) then(ctx context.Context, s *session, command string) *report.Then {
	began := time.Now()
	c := exec.CommandContext(ctx, "/bin/sh", "-c", command)
	c.Dir, c.Env = s.project().Dir, append(slices.Clone(os.Environ()), "RECEIPT="+w.receipt)
	c.Stdout, c.Stderr = s.err, s.err
	if f, is := fileOf(s.err); is {
		c.Stdout, c.Stderr = f, f
	}
	groupOfItsOwn(c)
	c.WaitDelay = 5 * time.Second
	err := c.Run()
	t := &report.Then{Seconds: time.Since(began).Seconds()}
	var status *exec.ExitError
	switch {
	case errors.As(err, &status) && status.ExitCode() >= 0:
		t.Status = status.ExitCode()
	case err != nil:
		t.Status, t.Error = -1, err.Error()
	}
	return t
}
