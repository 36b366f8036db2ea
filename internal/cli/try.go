package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/flow/background"
	"imbricat/internal/flow/bases"
	"imbricat/internal/flow/try"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

func tryCommand() *cli.Command {
	act := func(run func(context.Context, *session) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error { return run(ctx, newSession(c)) }
	}
	return &cli.Command{
		Name: "try", Usage: "runs an image in a throw-away sandbox", ArgsUsage: "IMAGE [-- COMMAND…]",
		Description: "Runs the image's entrypoint, or COMMAND instead, on a copy that is thrown away, with this terminal and this\n" +
			"machine's network. The exit code is the command's. With --port or --get it waits for an answer, then ends the\n" +
			"command, and exits with 0 when the answer came in time. With --background it returns when the command runs, or\n" +
			"when it answers. With --step NAME:NUMBER a shell (or COMMAND) runs in the view of a step of the recipe.\n\n" +
			"Example: imbricat try gauge --port 8080 --get /health --within 20s",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "platform", Usage: "`OS/ARCHITECTURE` of the image; another than this machine's is emulated"},
			&cli.StringSliceFlag{Name: "env", Usage: "`NAME=VALUE` over the image's environment; NAME alone takes the value that it has here; may be given again"},
			&cli.StringFlag{Name: "user", Usage: "`USER[:GROUP]` in place of the image's"},
			&cli.StringFlag{Name: "in", Usage: "`FOLDER` of the image to start in"},
			&cli.BoolFlag{Name: "no-network", Usage: "only a loopback of its own in place of this machine's network"},
			&cli.BoolFlag{Name: "read-only", Usage: "nothing can be written but in the image's volumes"},
			&cli.BoolFlag{Name: "background", Usage: "leave it running; the command list shows it"},
			&cli.StringFlag{Name: "name", Usage: "`NAME` of what runs in the background (default: the image's and a number), and in a network of --together"},
			&cli.StringFlag{Name: "together", Usage: "a network in place of this machine's, shared with all that say the same `NETWORK`, who find one another by --name"},
			&cli.StringSliceFlag{Name: "relay", Usage: "`[HERE:]PORT` of the command that 127.0.0.1:HERE of this machine leads to, where its network is another; may be given again"},
			&cli.StringFlag{Name: "step", Usage: "`NAME:NUMBER` of a step of the recipe, whose view is tried in place of an image"},
			&cli.StringFlag{Name: "export-bundle", Usage: "write a bundle for a runtime into this `FOLDER` in place of running anything"},
			&cli.StringFlag{Name: "state", Hidden: true}, // the folder of one that runs in the background
			sandboxFlag(), factFlag(),
		}, askFlags()...),
		Action: act(runTry),
		Commands: []*cli.Command{
			{Name: "list", Usage: "what runs in the background, or has", Description: "Example: imbricat try list", Action: act(runTryList)},
			{Name: "logs", Usage: "what one printed", ArgsUsage: "NAME", Description: "Example: imbricat try logs gauge-1", Action: act(runTryLogs)},
			{Name: "wait", Usage: "waits until one answers or, without --port, has ended", ArgsUsage: "NAME", Description: "Without --port the exit code is the command's.\n\nExample: imbricat try wait gauge-1 --port 8080 --get /health",
				Flags: askFlags(), Action: act(runTryWait)},
			{Name: "stop", Usage: "ends one, or forgets one that has ended", ArgsUsage: "NAME…",
				Description: "It gets the image's stop signal, and is killed where that does not help in time.\n\nExample: imbricat try stop gauge-1",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "within", Usage: "`TIME` to end by itself", Value: "10s"}}, Action: act(runTryStop)},
		},
	}
}

// askFlags say what a command is asked.
func askFlags() []cli.Flag {
	return []cli.Flag{
		&cli.IntFlag{Name: "port", HideDefault: true, Usage: "wait until something answers at this `PORT` of the command"},
		&cli.StringFlag{Name: "get", Usage: "wait until a request for this `PATH` at --port is answered"},
		&cli.IntFlag{Name: "status", Usage: "`STATUS` that the answer must have", Value: http.StatusOK},
		&cli.StringFlag{Name: "within", Usage: "`TIME` to wait for an answer", Value: "20s"},
	}
}

// asked reads what a command is asked.
func (s *session) asked() (sandbox.Ask, error) {
	a := sandbox.Ask{Port: int(s.cmd.Int("port")), Get: s.cmd.String("get"), Status: int(s.cmd.Int("status"))}
	var err error
	if a.Within, err = recipe.ParseDuration(s.cmd.String("within")); err != nil || a.Within <= 0 {
		return a, flow.Usagef("--within takes a time such as 20s, not %q", s.cmd.String("within"))
	}
	switch {
	case a.Port < 0 || a.Port > 65535:
		return a, flow.Usagef("--port takes a port, not %d", a.Port)
	case a.Get != "" && a.Port == 0:
		return a, flow.Usagef("--get needs --port: where is the request to go?")
	case a.Get != "" && !strings.HasPrefix(a.Get, "/"):
		return a, flow.Usagef("--get takes a path such as /health, not %q", a.Get)
	}
	return a, nil
}

func runTry(ctx context.Context, s *session) error {
	t, err := s.trial()
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	switch {
	case s.cmd.String("export-bundle") != "":
		return s.exportBundle(ctx, st, t)
	case s.cmd.Bool("background"):
		return s.tryInBackground(ctx, st, t)
	case s.cmd.String("state") != "":
		return s.runBackgroundTry(ctx, st, t)
	case t.awaits():
		return s.tryUntilAnswer(ctx, st, t)
	}
	status, err := s.tryHere(ctx, st, t)
	if err != nil {
		return err
	}
	return exitWith(status)
}

// statusError is how a command ended that this program ran for its user, who has read what it printed.
type statusError struct{ code int }

func (*statusError) Error() string { return "" }

func exitWith(status sandbox.Status) error {
	if status.Code == 0 {
		return nil
	}
	return &statusError{status.Code}
}

// trial is what the command line of try says.
type trial struct {
	image    string
	number   int // of a step of the recipe's image or stage; 0: the image itself
	platform platform.Platform
	do       try.Command
	ask      sandbox.Ask // no port: nothing is asked
	together string      // the network; empty: the machine's, or none
	relays   []background.Relay
	found    *baseimage.Found // the image; nil: it was not looked for yet
}

func (t *trial) awaits() bool { return t.ask.Port != 0 }

func (s *session) trial() (*trial, error) {
	t := &trial{platform: platform.Here()}
	args := s.cmd.Args().Slice()
	if place := s.cmd.String("step"); place != "" {
		name, number, found := strings.Cut(place, ":")
		n, err := strconv.Atoi(number)
		if !found || err != nil || n < 1 {
			return nil, flow.Usagef("--step takes NAME:NUMBER, such as gauge:3, not %q", place)
		}
		t.image, t.number = name, n
	} else {
		if len(args) == 0 {
			return nil, flow.Usagef("%s takes an image and, after --, a command", s.cmd.FullName())
		}
		t.image, args = args[0], args[1:]
	}
	if len(args) > 0 && args[0] == "--" {
		args = args[1:]
	}
	if t.together = s.cmd.String("together"); t.together != "" && !background.ValidName(t.together) {
		return nil, flow.Usagef("--together takes letters, digits and . _ -, not %q", t.together)
	}
	t.do = try.Command{Command: args, User: s.cmd.String("user"), In: s.cmd.String("in"), Network: !s.cmd.Bool("no-network"), ReadOnly: s.cmd.Bool("read-only")}
	if t.do.In != "" && !strings.HasPrefix(t.do.In, "/") {
		return nil, flow.Usagef("--in takes an absolute folder of the image, not %q", t.do.In)
	}
	var err error
	if t.do.Env, err = environment(s.cmd.StringSlice("env")); err != nil {
		return nil, err
	}
	if text := s.cmd.String("platform"); text != "" {
		p, err := platform.Parse(text)
		if err != nil {
			return nil, flow.WrongUse(err)
		}
		t.platform = p
	}
	if t.ask, err = s.asked(); err != nil {
		return nil, err
	}
	if t.relays, err = s.relays(); err != nil {
		return nil, err
	}
	switch {
	case t.together != "" && s.cmd.Bool("no-network"):
		return nil, flow.Usagef("--together gives a network, and --no-network takes it away: leave one of them out")
	case len(t.relays) > 0 && t.together == "":
		return nil, flow.Usagef("--relay leads into a network of --together; a command in this machine's network has its ports here")
	case t.ask.Port > 0 && !t.do.Network && s.cmd.Bool("background"):
		return nil, flow.Usagef("--port with --background asks at this machine's port, which --no-network keeps apart: leave one of them out")
	}
	return t, nil
}

// relays reads what --relay says: PORT, or HERE:PORT. Without a port here the system gives one.
func (s *session) relays() (all []background.Relay, err error) {
	for _, text := range s.cmd.StringSlice("relay") {
		here, inside, both := strings.Cut(text, ":")
		if !both {
			here, inside = "0", text
		}
		at, err := strconv.ParseUint(here, 10, 16)
		port, portErr := strconv.ParseUint(inside, 10, 16)
		if err != nil || portErr != nil || port == 0 {
			return nil, flow.Usagef("--relay takes PORT or HERE:PORT, such as 18080:8080, not %q", text)
		}
		all = append(all, background.Relay{At: net.JoinHostPort("127.0.0.1", strconv.FormatUint(at, 10)), Port: uint16(port)})
	}
	return all, nil
}

// environment reads what --env says: NAME=VALUE, or NAME alone for the value that it has here, if any.
func environment(said []string) (pairs []string, err error) {
	for _, pair := range said {
		name, _, given := strings.Cut(pair, "=")
		if name == "" {
			return nil, flow.Usagef("--env takes NAME=VALUE or NAME, not %q", pair)
		}
		if !given {
			value, set := os.LookupEnv(name)
			if !set {
				continue
			}
			pair = name + "=" + value
		}
		pairs = append(pairs, pair)
	}
	return pairs, nil
}

// run runs what is tried with the files and signals in t.do.
func (s *session) run(ctx context.Context, st *store.Store, t *trial) (sandbox.Status, error) {
	if t.together != "" && t.do.Door == nil {
		leave, err := s.join(ctx, st, t, s.cmd.String("name"))
		if err != nil {
			return sandbox.Status{}, err
		}
		defer leave()
	}
	if t.number > 0 {
		return s.runStep(ctx, st, t)
	}
	o := try.Options{Store: st, Local: s.executor(ctx, st, atOnce{s}, nil)}
	if t.found == nil {
		found, err := s.resolve(ctx, st, t)
		if err != nil {
			return sandbox.Status{}, err
		}
		t.found = found
	}
	return try.Image(ctx, o, t.found, t.platform, t.do)
}

// resolve finds the image that is tried.
func (s *session) resolve(ctx context.Context, st *store.Store, t *trial) (*baseimage.Found, error) {
	ref, err := reference.Parse(t.image)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	opener, err := s.places(st)
	if err != nil {
		return nil, err
	}
	b := &bases.Finder{Places: opener, Store: st, Sink: event.Quiet(s.view(ctx), []string{"moving-base"})}
	found, err := b.Resolve(ctx, ref, t.platform)
	var lacks *image.NoPlatformError
	if errors.As(err, &lacks) && len(lacks.Offered) > 0 {
		return nil, fmt.Errorf("%s: %w; --platform %s runs it in an emulator, where this machine has one", t.image, err, lacks.Offered[0])
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", t.image, err)
	}
	return found, nil
}

// runStep runs a command in the view of a step.
func (s *session) runStep(ctx context.Context, st *store.Store, t *trial) (sandbox.Status, error) {
	p, err := s.choose(ctx, workspace.Choice{Images: []string{t.image}, Stages: true}) // what else the recipe has does not matter
	if err != nil {
		return sandbox.Status{}, err
	}
	view := s.view(ctx)
	defer view.Close("")
	w, err := s.workIn(p, st)
	if err != nil {
		return sandbox.Status{}, err
	}
	o, done, err := w.Engine(ctx, view)
	if err != nil {
		return sandbox.Status{}, err
	}
	defer done()
	if err := t.checkStep(p.Plan); err != nil {
		return sandbox.Status{}, err
	}
	l := w.Executor(ctx, event.Quiet(view, p.Recipe.Silence))
	o.Executor = l
	return try.Step(ctx, o, l, t.image, t.platform, t.number, t.do)
}

// checkStep refuses a place that no step has.
func (t *trial) checkStep(p *plan.Plan) error {
	var names, platforms []string
	for _, u := range p.Units {
		if names = append(names, u.ID.Name); u.ID.Name != t.image {
			continue
		}
		if platforms = append(platforms, u.ID.Platform.String()); u.ID.Platform != t.platform {
			continue
		}
		if t.number > len(u.Steps) {
			return flow.Usagef("--step %s:%d: %s has %s", t.image, t.number, u.ID, report.Count(len(u.Steps), "step"))
		}
		return nil
	}
	switch near := recipe.Nearest(t.image, names); {
	case len(platforms) > 0:
		return flow.Usagef("--step %s:%d: %s is not built for %s: choose --platform %s", t.image, t.number, t.image, t.platform, strings.Join(platforms, " or "))
	case near != "":
		return flow.Usagef("no stage or image that is built is named %q; did you mean %q?", t.image, near)
	}
	slices.Sort(names)
	return flow.Usagef("no stage or image that is built is named %q: there are %s", t.image, strings.Join(slices.Compact(names), ", "))
}

// tryHere runs with this process's own files, or with a terminal where they are one.
func (s *session) tryHere(ctx context.Context, st *store.Store, t *trial) (sandbox.Status, error) {
	ctx, release := gently(ctx, t, 10*time.Second)
	defer release()
	in, isIn := s.in.(*os.File)
	out, isOut := fileOf(s.out)
	errs, _ := fileOf(s.err)
	if !isIn || !isOut {
		return sandbox.Status{}, errors.New("try needs the process's own files")
	}
	if isTerminal(in) && isTerminal(out) {
		return s.withTerminal(ctx, st, t, in, out)
	}
	t.do.Stdin, t.do.Stdout, t.do.Stderr = in, out, errs
	return s.run(ctx, st, t)
}

// gently turns the end of the context into the command's stop signal, and ends the context that it gives some time later,
// or at once when a person insists.
func gently(ctx context.Context, t *trial, grace time.Duration) (context.Context, func()) {
	asked := make(chan struct{})
	t.do.Stop = asked
	inner, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	again := make(chan os.Signal, 1)
	stop := context.AfterFunc(ctx, func() {
		close(asked)
		signal.Notify(again, endings()...)
		select {
		case <-time.After(grace):
		case <-again:
		case <-inner.Done():
		}
		cancel(context.Cause(ctx))
	})
	return inner, func() {
		stop()
		signal.Stop(again)
		cancel(nil)
	}
}

// tryUntilAnswer runs until something answers, then ends the command. The time to wait begins with the command.
func (s *session) tryUntilAnswer(ctx context.Context, st *store.Store, t *trial) error {
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	type end struct {
		status sandbox.Status
		err    error
	}
	ended := make(chan end, 1)
	gentle, release := gently(inner, t, 5*time.Second)
	defer release()
	// What it prints goes where messages go; the answer is the result.
	errs, _ := fileOf(s.err)
	t.do.Stdout, t.do.Stderr = errs, errs
	if !t.do.Network {
		return s.tryWithin(gentle, st, t)
	}
	began := make(chan struct{})
	t.do.Began = sync.OnceFunc(func() { close(began) })
	go func() {
		status, err := s.run(gentle, st, t)
		ended <- end{status, err}
	}()
	answered := make(chan error, 1)
	waiting, enough := context.WithCancel(ctx)
	defer enough()
	go func() {
		select {
		case <-began:
		case <-waiting.Done():
		}
		answered <- t.await(waiting)
	}()
	select {
	case err := <-answered:
		cancel()
		<-ended
		if err == nil {
			fmt.Fprintf(s.err, "%s answers at port %d\n", t.image, t.ask.Port)
		}
		return err
	case e := <-ended:
		if e.err != nil {
			return e.err
		}
		return flow.Failedf("%s ended with status %d before it answered at port %d", t.image, e.status.Code, t.ask.Port)
	}
}

// await waits for an answer at the port, or to the request. It fails when the time is over.
// tryWithin runs an image whose network is its own: it is asked in there.
func (s *session) tryWithin(ctx context.Context, st *store.Store, t *trial) error {
	t.do.Ask = &t.ask
	status, err := s.run(ctx, st, t)
	switch {
	case err != nil:
		return err
	case status.Unanswered != "":
		return flow.Failedf("%s gave %s", t.image, status.Unanswered)
	case !status.Answered:
		return flow.Failedf("%s ended with status %d before it answered at port %d", t.image, status.Code, t.ask.Port)
	}
	fmt.Fprintf(s.err, "%s answers at port %d\n", t.image, t.ask.Port)
	return nil
}

func (t *trial) await(ctx context.Context) error {
	if err := t.ask.Wait(ctx); err != nil {
		return flow.Failedf("%s gave %s", t.image, err)
	}
	return nil
}

// exportBundle writes a runtime-spec bundle.
func (s *session) exportBundle(ctx context.Context, st *store.Store, t *trial) error {
	if t.number > 0 {
		return flow.Usagef("--export-bundle takes an image, not a step")
	}
	found, err := s.resolve(ctx, st, t)
	if err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	dir := s.cmd.String("export-bundle")
	if err := try.WriteBundle(ctx, try.Options{Store: st, Local: s.executor(ctx, st, view, nil)}, found, t.do, dir); err != nil {
		return err
	}
	fmt.Fprintf(s.err, "the bundle of %s for %s is in %s: config.json and rootfs/\n", found.Name, t.platform, dir)
	return nil
}

// atOnce keeps a command's output clean: only doubts are told, before it runs.
type atOnce struct{ *session }

// Send implements event.Sink.
func (a atOnce) Send(e event.Event) {
	if w, is := e.(event.Warning); is {
		fmt.Fprintf(a.err, "%s %s %s\n", a.errPaint.Bold("warning:"), w.Text, a.errPaint.Muted("["+w.Code+"]"))
	}
}
