package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/weight"
	"imbricat/internal/engine"
	"imbricat/internal/engine/check"
	"imbricat/internal/engine/layering"
	"imbricat/internal/flow"
	"imbricat/internal/flow/checks"
	"imbricat/internal/flow/stacks"
	"imbricat/internal/flow/try"
	"imbricat/internal/flow/weigh"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/recipe"
)

func weighCommand() *cli.Command {
	return &cli.Command{
		Name: "weigh", Usage: "tells where the bytes of images are, and which of them are waste", ArgsUsage: "REFERENCE… | [IMAGE…] --replay RANGE",
		Description: "One image is weighed by layer, folder, kind of file and package, with what is stored twice, hidden or seldom needed,\n" +
			"and what cures it. An image elsewhere is read as it comes, and not kept. Several images are put side by side, of those\n" +
			"elsewhere by what their documents tell.\n\n" +
			"Example: imbricat weigh gauge\n\n" +
			"With --replay, what the versions of a history would have cost with today's layers. RANGE is two revisions, A..B or A.. for up to now: what each commit between them that touches what an image holds would\n" +
			"have pushed, and made a node unpack, with today's division, with a layer for each step, and with a single one. Or it is\n" +
			"a repository, HOST/REPOSITORY, whose published images are replayed. Sizes are those before compression.\n\n" +
			"Example: imbricat weigh gauge --replay 1.0.0.. --chart replay.svg",
		Flags: []cli.Flag{factFlag(), platformFlag(), sandboxFlag(),
			&cli.StringFlag{Name: "against", Usage: "`REFERENCE` that a machine has already, such as the base or the last release"},
			&cli.StringSliceFlag{Name: "limit", Usage: "`NAME=SIZE` that the image must not exceed, else exit code 3: packed, unpacked, layer, waste, growth (with --against); waste and growth also in %"},
			&cli.StringSliceFlag{Name: "used-by", Usage: "`COMMAND` to run in the image: what it never opens is told; '' for what the image runs; may be given again"},
			&cli.BoolFlag{Name: "used-by-checks", Usage: "the same with what the recipe's checks of the image run"},
			&cli.StringFlag{Name: "within", Value: "1m", Usage: "`TIME` after which a command of --used-by is asked to end"},
			topFlag(8),
			&cli.StringFlag{Name: "replay", Usage: "`RANGE` of commits, or a repository with published images"},
			&cli.StringFlag{Name: "by", Value: "commits", Usage: "`WHAT` a version is: commits, or tags", Validator: func(text string) error {
				if text != "commits" && text != "tags" {
					return fmt.Errorf("--by takes commits or tags")
				}
				return nil
			}},
			&cli.StringFlag{Name: "chart", Usage: "`FILE` to draw to, .svg or .png: folders as a map, or how large several images are; with --replay .svg"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runWeigh(ctx, newSession(c)) },
	}
}

// onePlatform is the platform that is asked for, where one is.
func (s *session) onePlatform() ([]platform.Platform, error) {
	wanted, err := s.platforms()
	if err == nil && len(wanted) > 1 {
		err = flow.Usagef("%s takes one --platform", s.cmd.Name)
	}
	return wanted, err
}

// topFlag bounds the lists of a report.
func topFlag(value int) cli.Flag {
	return &cli.IntFlag{Name: "top", Value: value, Usage: "`NUMBER` of lines of each list; 0 for all", Validator: func(n int) error {
		if n < 0 {
			return fmt.Errorf("--top takes 0 or more, not %d", n)
		}
		return nil
	}}
}

func runWeigh(ctx context.Context, s *session) error {
	span := s.cmd.String("replay")
	if span == "" {
		return s.weigh(ctx)
	}
	chart := s.cmd.String("chart")
	if chart != "" && !strings.HasSuffix(chart, ".svg") {
		return flow.Usagef("--chart takes a file that ends in .svg")
	}
	ws, err := s.workspace(ctx, s.cmd.Args().Slice())
	if err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	o, done, err := ws.Engine(ctx, event.Discard)
	if err != nil {
		return err
	}
	defer done()
	h, err := ws.History(true)
	if err != nil {
		return err
	}
	list := []report.Replay{}
	_, err = engine.Look(ctx, engine.LookOptions{Inputs: o.Inputs, Weigh: func(ctx context.Context, one *engine.UnitPreview, content *layering.Content) error {
		if content == nil {
			return fmt.Errorf("what %s holds is not known yet, it depends %s: build it first", one.Unit.ID, one.Unknown)
		}
		replayed, err := stacks.Replay(ctx, h, one.Unit, content, span, s.cmd.String("by") == "tags")
		list = append(list, replayed)
		return err
	}})
	if err != nil {
		return err
	}
	view.Close("")
	if chart != "" {
		text, err := report.DrawReplays(list)
		if err == nil {
			err = files.Replace(chart, text, 0o644)
		}
		if err != nil {
			return err
		}
	}
	return s.result(list, func() string { return report.ReplaysText(s.paint, list) })
}

// weigh tells where the bytes of images are.
func (s *session) weigh(ctx context.Context) error {
	args, err := s.args(1, -1, "references of images, or --replay RANGE")
	if err != nil {
		return err
	}
	wanted, err := s.onePlatform()
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	if chart := s.cmd.String("chart"); chart != "" && !strings.HasSuffix(chart, ".png") && !strings.HasSuffix(chart, ".svg") {
		return flow.Usagef("--chart takes a file that ends in .svg or .png")
	}
	var limits []weigh.Limit
	for _, text := range s.cmd.StringSlice("limit") {
		l, err := weigh.ParseLimit(text)
		if err != nil {
			return err
		}
		limits = append(limits, l)
	}
	if len(args) > 1 && (len(limits) > 0 || s.cmd.String("against") != "" || s.usedBy()) {
		return flow.Usagef("--limit, --against and --used-by are for one image")
	}
	var list []*report.Weighed
	for _, arg := range args {
		one, err := s.weighOne(ctx, st, arg, wanted, len(args) > 1, limits)
		if err != nil {
			return err
		}
		list = append(list, one)
	}
	if err := s.drawWeighed(list); err != nil {
		return err
	}
	if len(list) > 1 {
		return s.result(list, func() string { return report.WeighedSideText(s.paint, list, time.Now()) })
	}
	if err := s.result(list[0], func() string { return report.WeighedText(s.paint, list[0], int(s.cmd.Int("top")), time.Now()) }); err != nil {
		return err
	}
	for _, l := range list[0].Limits {
		if !l.Holds {
			return flow.Differsf("%s exceeds a limit: %s, and %s", args[0], l.What, l.Detail)
		}
	}
	return nil
}

func (s *session) drawWeighed(list []*report.Weighed) error {
	chart := s.cmd.String("chart")
	if chart == "" {
		return nil
	}
	drawn, err := report.DrawWeighed(list, strings.HasSuffix(chart, ".png"))
	if err != nil {
		return err
	}
	return files.Replace(chart, drawn, 0o644)
}

// weighOne weighs an image; from its documents alone, where that is wanted and it is not here.
func (s *session) weighOne(ctx context.Context, st *store.Store, arg string, wanted []platform.Platform, documents bool, limits []weigh.Limit) (*report.Weighed, error) {
	source, done, err := s.weighSource(ctx, st, arg)
	if err != nil {
		return nil, err
	}
	defer done()
	i, err := source.Open(ctx, wanted)
	if err != nil {
		return nil, err
	}
	if documents && source.Elsewhere {
		return i.Look(), nil
	}
	one, err := i.Weigh(ctx)
	if err != nil {
		return nil, err
	}
	if against := s.cmd.String("against"); against != "" {
		other, done, err := s.weighSource(ctx, st, against)
		if err != nil {
			return nil, err
		}
		defer done()
		if one.Against, err = i.Against(ctx, one, other); err != nil {
			return nil, err
		}
	} else if base, done := s.baseOf(ctx, st, one, source.Elsewhere); base != nil {
		defer done()
		base.Name = one.BaseName
		one.Base, _ = i.Against(ctx, one, base) // without it there is less to tell
	}
	if s.usedBy() {
		if one.Use, err = s.use(ctx, st, i); err != nil {
			return nil, err
		}
	}
	one.Limits, err = i.Hold(ctx, limits, one)
	return one, err
}

// usedBy reports whether it is asked what of an image is used.
func (s *session) usedBy() bool { return s.cmd.IsSet("used-by") || s.cmd.Bool("used-by-checks") }

// use runs commands, and what checks run, in an image and tells what of it they opened.
func (s *session) use(ctx context.Context, st *store.Store, i *weigh.Image) (*weight.Use, error) {
	var commands []string
	var traces []*trace.Trace
	if s.cmd.Bool("used-by-checks") {
		tried, err := s.tryChecks(ctx, i)
		if err != nil {
			return nil, err
		}
		for _, one := range tried {
			if one.Learnt == nil {
				return nil, fmt.Errorf("what %q opens could not be observed: %s", one.What, one.Detail)
			}
			if one.Outcome != check.Holds {
				fmt.Fprintf(s.err, "warning: the check %q does not hold: %s; what it opened until then is told\n", one.What, one.Detail)
			}
			commands, traces = append(commands, one.What), append(traces, one.Learnt)
		}
	}
	if s.cmd.IsSet("used-by") {
		own, learnt, err := s.runCommands(ctx, st, i)
		if err != nil {
			return nil, err
		}
		commands, traces = append(commands, own...), append(traces, learnt...)
	}
	return i.Use(ctx, commands, traces)
}

// tryChecks runs what the recipe's checks of an image run.
func (s *session) tryChecks(ctx context.Context, i *weigh.Image) ([]checks.Tried, error) {
	ref, err := reference.Parse(i.Name)
	if err != nil || ref.Kind != reference.Store || ref.Name == "" {
		return nil, flow.Usagef("--used-by-checks takes an image of the recipe, by its name; %s is none", i.Name)
	}
	ws, err := s.workspace(ctx, []string{ref.Name})
	if err != nil {
		return nil, err
	}
	for _, image := range ws.Plan.Images {
		for _, u := range image.Units {
			if u.ID.Platform.String() != i.Offer.Platform.String() {
				continue
			}
			tried, err := checks.Try(ctx, ws, u, i.Root)
			if err == nil && len(tried) == 0 {
				err = flow.Usagef("no check of %s runs it: give it one with try:, or name a command with --used-by", ref.Name)
			}
			return tried, err
		}
	}
	return nil, flow.Usagef("the recipe has no %s for %s", ref.Name, i.Offer.Platform)
}

// runCommands runs the commands that are named, and returns what they learnt of the image.
func (s *session) runCommands(ctx context.Context, st *store.Store, i *weigh.Image) ([]string, []*trace.Trace, error) {
	within, err := recipe.ParseDuration(s.cmd.String("within"))
	if err != nil || within <= 0 {
		return nil, nil, flow.Usagef("--within takes a time such as 20s, not %q", s.cmd.String("within"))
	}
	nothing, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	if err != nil {
		return nil, nil, err
	}
	defer nothing.Close()
	t := &trial{image: i.Name, platform: i.Offer.Platform}
	found, err := s.resolve(ctx, st, t)
	if err != nil {
		return nil, nil, err
	}
	commands := s.cmd.StringSlice("used-by")
	var traces []*trace.Trace
	for _, text := range commands {
		stop := make(chan struct{})
		timer := time.AfterFunc(within, func() { close(stop) })
		do := try.Command{Stdin: nothing, Stdout: nothing, Stderr: nothing, Stop: stop, Learnt: func(t *trace.Trace) { traces = append(traces, t) }}
		if text != "" {
			do.Command = []string{"/bin/sh", "-c", text}
		}
		status, err := try.Image(ctx, try.Options{Store: st, Local: s.executor(ctx, st, atOnce{s}, nil)}, found, i.Offer.Platform, do)
		timer.Stop()
		switch {
		case err != nil && text != "":
			return nil, nil, fmt.Errorf("running %q in %s: %w; commands are run by the image's /bin/sh, and --used-by '' is what the image runs", text, i.Name, err)
		case err != nil:
			return nil, nil, err
		}
		if status.Code != 0 || status.Signal != "" {
			fmt.Fprintf(s.err, "warning: %q ended with %s; what it opened until then is told\n", text, cmp.Or(status.Signal, fmt.Sprint(status.Code)))
		}
	}
	return commands, traces, nil
}

// baseOf opens the base of an image, where it is in the store, or in the registry that is asked anyway; nil: it is not at hand.
func (s *session) baseOf(ctx context.Context, st *store.Store, one *report.Weighed, elsewhere bool) (*weigh.Source, func()) {
	if one.BaseDigest == "" {
		return nil, nil
	}
	places := []string{string(one.BaseDigest)}
	if ref, err := reference.Parse(one.BaseName); err == nil && elsewhere && ref.Kind == reference.Registry && strings.HasPrefix(one.Reference, ref.Host+"/") {
		places = append(places, ref.Host+"/"+ref.Repository+"@"+string(one.BaseDigest))
	}
	for _, place := range places {
		if base, done, err := s.weighSource(ctx, st, place); err == nil {
			return base, done
		}
	}
	return nil, nil
}

// weighSource opens what a reference names.
func (s *session) weighSource(ctx context.Context, st *store.Store, arg string) (*weigh.Source, func(), error) {
	ref, err := reference.Parse(arg)
	if err != nil {
		return nil, nil, flow.WrongUse(err)
	}
	place, err := s.source(st, ref)
	if err != nil {
		return nil, nil, err
	}
	root, err := place.Root(ctx)
	if err != nil {
		place.Close()
		return nil, nil, err
	}
	return &weigh.Source{Name: arg, From: place, Root: root, Store: st, Elsewhere: ref.Kind == reference.Registry}, func() { place.Close() }, nil
}
