package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/explain"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/phrase"
	"imbricat/internal/output/report"
)

// openLogbook opens the logbook of a store.
func (s *session) openLogbook(st *store.Store) (*logbook.Book, error) {
	book, err := logbook.Open(filepath.Join(st.Dir(), "imbricat", "logbook.db"), 0)
	if err == nil {
		s.atEnd(func() { book.Close() })
	}
	return book, err
}

// project names the recipe that builds are of.
func (s *session) project() (string, error) {
	path, err := filepath.Abs(s.recipePath())
	if err == nil {
		path, err = filepath.EvalSymlinks(path)
	}
	return path, err
}

// entry is a build on its way into the logbook. A logbook that cannot be written to is no reason to build nothing: that
// is a warning.
type entry struct {
	book  *logbook.Book
	store *store.Store
	build logbook.Build
	sink  event.Sink
}

func (s *session) beginEntry(st *store.Store, p *planned, o *engine.Options) *entry {
	e := &entry{store: st, sink: o.Sink}
	project, err := s.project()
	if err == nil {
		e.book, err = s.openLogbook(st)
	}
	if err == nil {
		e.build = logbook.Build{Project: project, Command: "imbricat " + strings.Join(os.Args[1:], " "), Started: time.Now(),
			Recipe: string(digest.FromBytes([]byte(p.recipe.File.Text()))), Facts: p.facts.Known()}
		err = e.book.Begin(&e.build)
	}
	if err != nil {
		e.doubt(err)
		e.book = nil
		return e
	}
	o.Build = strconv.FormatInt(e.build.Number, 10)
	o.Past = e
	return e
}

// Past gives the steps of a unit at the last build. What cannot be read is not known.
func (e *entry) Past(unit, platform string) (list []explain.PastStep) {
	if e.book == nil {
		return nil
	}
	steps, err := e.book.Past(e.build.Project, unit, platform)
	if err != nil {
		e.doubt(err)
	}
	return pastSteps(steps)
}

// pastOf gives a reader of the last builds for commands that only look. A store without a logbook has no past.
func (s *session) pastOf(st *store.Store, sink event.Sink) *entry {
	e := &entry{store: st, sink: sink}
	project, err := s.project()
	if err == nil {
		e.build.Project = project
		e.book, err = s.openLogbook(st)
	}
	if err != nil {
		e.doubt(err)
	}
	return e
}

func pastSteps(steps []logbook.Step) (list []explain.PastStep) {
	for _, one := range steps {
		took := one.Wall
		if one.Outcome == event.Reused.String() {
			took = one.Spared
		}
		p := explain.PastStep{Label: one.Label, Key: digest.Key(one.Key), Inputs: one.Inputs, Took: took}
		if p.Key == "" {
			p.Layer = digest.DiffID(one.Trace)
		}
		list = append(list, p)
	}
	return list
}

func (e *entry) doubt(err error) {
	e.sink.Send(event.Warning{Code: event.Logbook, Text: err.Error()})
}

// end keeps how the build went.
func (e *entry) end(ctx context.Context, result *engine.Result, failure error) {
	if e.book == nil {
		return
	}
	one := &e.build
	one.Wall, one.CPU, one.Outcome = time.Since(one.Started), processorTime(), logbook.Built
	if failure != nil {
		one.Outcome, one.Error = logbook.Failed, failure.Error()
		if ctx.Err() != nil {
			one.Outcome, one.Error = logbook.Interrupted, "" // what broke off says nothing more
		}
	}
	var failed *command.FailedError
	errors.As(failure, &failed)
	var steps []logbook.Step
	if result != nil {
		for _, i := range result.Images {
			image := logbook.Image{Name: i.Name, Digest: string(i.Descriptor.Digest)}
			for _, p := range i.Platforms {
				image.Bytes += p.Packed
			}
			one.Images = append(one.Images, image)
		}
		for i := range result.Steps {
			steps = append(steps, e.step(&result.Steps[i], failed))
			switch result.Steps[i].Outcome {
			case event.Ran:
				one.Ran++
			case event.Reused:
				one.Reused++
				one.Spared += result.Steps[i].Spared
			}
		}
	}
	if err := e.book.End(one, steps); err != nil {
		e.doubt(err)
	}
}

func (e *entry) step(r *engine.StepResult, failed *command.FailedError) logbook.Step {
	s := logbook.Step{Unit: r.Unit, Platform: r.Platform.String(), Place: r.Place, Label: r.Label, Outcome: r.Outcome.String(), Reason: phrase.Line(r.Reason), More: phrase.More(r.Reason),
		Wall: r.Took, Spared: r.Spared, Files: r.Files, Bytes: r.Bytes, Packed: r.Layer.Size, Inputs: r.Inputs}
	if r.Reason == event.EndedFirst {
		s.Outcome = logbook.Ended
	}
	if r.Run == nil {
		s.Trace = string(r.DiffID)
	} else {
		s.Key, s.Trace, s.Log = string(r.Run.Key), string(r.Run.Trace), string(r.Run.Log)
		if r.Outcome == event.Ran {
			s.CPU = time.Duration(r.Run.CPU) * time.Millisecond
		}
	}
	if failed != nil && r.Outcome == event.Failed && failed.Place == r.Place {
		if log, err := e.store.PutLog(failed.Output); err == nil {
			s.Log = string(log)
		}
	}
	return s
}

func logbookCommand() *cli.Command {
	act := func(run func(ctx context.Context, s *session) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error { return run(ctx, newSession(c)) }
	}
	all := &cli.BoolFlag{Name: "all", Usage: "builds of every project, not of this one alone"}
	most := &cli.IntFlag{Name: "most", Value: 20, Usage: "`NUMBER` of builds that are listed, the latest"}
	return &cli.Command{
		Name: "logbook", Usage: "past builds, with their outcomes, logs, timings and savings",
		Description: "Without more it lists the builds of the recipe. A build is named by its number; without one the last is meant.\n\nExample: imbricat logbook compare 11 12",
		Flags:       []cli.Flag{all, most},
		Action:      leaf(act(runLogbookList)),
		Commands: []*cli.Command{
			{Name: "list", Usage: "lists builds, the latest first", Description: "Example: imbricat logbook list --most 50", Flags: []cli.Flag{all, most}, Action: act(runLogbookList)},
			{Name: "show", Usage: "shows a build: what was asked, and what became of each step", ArgsUsage: "[BUILD]", Description: "Example: imbricat logbook show 12", Action: act(runLogbookShow)},
			{Name: "log", Usage: "prints what a step's command printed", ArgsUsage: "[BUILD] STEP",
				Description: "STEP is named by its name:, by the line that plan shows, or by its place. Of a reused step the log of the run that made it is printed.\n\nExample: imbricat logbook log 12 gauge:3",
				Flags:       []cli.Flag{platformFlag()}, Action: act(runLogbookLog)},
			{Name: "compare", Usage: "compares two builds step by step", ArgsUsage: "BUILD [BUILD]",
				Description: "With one number that build is compared with the one before.\n\nExample: imbricat logbook compare 11 12", Action: act(runLogbookCompare)},
		},
	}
}

// leaf makes an action of a command that holds others, and works by itself without a word behind it.
func leaf(act cli.ActionFunc) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if c.Args().Present() {
			return unknownCommand(c)
		}
		return act(ctx, c)
	}
}

// book opens the store and its logbook.
func (s *session) book() (*store.Store, *logbook.Book, error) {
	st, err := s.openStore()
	if err != nil {
		return nil, nil, err
	}
	book, err := s.openLogbook(st)
	return st, book, err
}

func runLogbookList(_ context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	_, book, err := s.book()
	if err != nil {
		return err
	}
	project := ""
	if !s.cmd.Bool("all") {
		if project, err = s.project(); err != nil {
			return flow.Usagef("there is no recipe %s; name its folder with --dir, or list the builds of all projects with --all", s.recipePath())
		}
	}
	builds, err := book.List(project, int(s.cmd.Int("most")))
	if err != nil {
		return err
	}
	document := &report.Logbook{Builds: []report.PastBuild{}}
	for _, one := range builds {
		document.Builds = append(document.Builds, pastBuild(one))
	}
	return s.result(document, func() error { return report.WriteLogbook(s.out, s.paint, document, time.Now()) })
}

func pastBuild(b logbook.Build) report.PastBuild {
	one := report.PastBuild{Number: b.Number, Project: b.Project, Command: b.Command, Recipe: b.Recipe, Facts: b.Facts, Started: b.Started.UTC(), Seconds: b.Wall.Seconds(),
		Processor: b.CPU.Seconds(), Outcome: b.Outcome, Error: b.Error, Ran: b.Ran, Reused: b.Reused, Spared: b.Spared.Seconds(), Images: []report.PastImage{}}
	for _, i := range b.Images {
		one.Images = append(one.Images, report.PastImage{Name: i.Name, Digest: i.Digest, Packed: i.Bytes})
	}
	return one
}

func pastStep(t logbook.Step) report.PastStep {
	ended := t.Outcome == logbook.Ended
	if ended {
		t.Outcome = event.Skipped.String()
	}
	return report.PastStep{Ended: ended, Unit: t.Unit, Platform: t.Platform, Place: t.Place, Step: t.Label, Outcome: t.Outcome, Reason: t.Reason, Details: append([]string{}, t.More...),
		Seconds: t.Wall.Seconds(), Processor: t.CPU.Seconds(), Spared: t.Spared.Seconds(), Files: t.Files, Bytes: t.Bytes, Packed: t.Packed, Logged: t.Log != ""}
}

// numbered reads the number of a build; without one it is the last of the recipe.
func (s *session) numbered(book *logbook.Book, text string) (int64, error) {
	if text == "" {
		project, err := s.project()
		if err != nil {
			return 0, flow.Usagef("there is no recipe %s: name its folder with --dir, or a build by its number", s.recipePath())
		}
		number, err := book.Last(project)
		if errors.Is(err, logbook.ErrNone) {
			return 0, fmt.Errorf("the logbook has no build of %s yet: `imbricat build` makes one", project)
		}
		return number, err
	}
	number, err := strconv.ParseInt(text, 10, 64)
	if err != nil || number < 1 {
		return 0, flow.Usagef("%q is no number of a build; `imbricat logbook` lists them", text)
	}
	return number, nil
}

func (s *session) pastDocument(book *logbook.Book, text string) (*report.PastBuild, []logbook.Step, error) {
	number, err := s.numbered(book, text)
	if err != nil {
		return nil, nil, err
	}
	b, steps, err := book.Find(number)
	if err != nil {
		return nil, nil, err
	}
	document := pastBuild(b)
	document.Steps = []report.PastStep{}
	for _, t := range steps {
		document.Steps = append(document.Steps, pastStep(t))
	}
	return &document, steps, nil
}

func runLogbookShow(_ context.Context, s *session) error {
	args, err := s.args(0, 1, "at most one build")
	if err != nil {
		return err
	}
	_, book, err := s.book()
	if err != nil {
		return err
	}
	document, _, err := s.pastDocument(book, append(args, "")[0])
	if err != nil {
		return err
	}
	return s.result(document, func() error { return report.WritePastBuild(s.out, s.paint, document, time.Now()) })
}

// namedSteps keeps the steps that names stand for: a unit, a label, or a place.
func namedSteps(steps []logbook.Step, names []string) ([]logbook.Step, error) {
	if len(names) == 0 {
		return steps, nil
	}
	var out []logbook.Step
	for _, name := range names {
		found := false
		for _, t := range steps {
			if name == t.Unit || name == t.Label || name == t.Place {
				out, found = append(out, t), true
			}
		}
		if !found {
			return nil, flow.Usagef("no step of that build is named %q: name an image or a stage, a step's line, or its place, such as gauge:2", name)
		}
	}
	return out, nil
}

func runLogbookLog(_ context.Context, s *session) error {
	args, err := s.args(1, 2, "a build, which may be left out, and a step")
	if err != nil {
		return err
	}
	st, book, err := s.book()
	if err != nil {
		return err
	}
	number := ""
	if len(args) == 2 {
		number = args[0]
	}
	_, steps, err := s.pastDocument(book, number)
	if err != nil {
		return err
	}
	picked, err := namedSteps(steps, args[len(args)-1:])
	if err != nil {
		return err
	}
	wanted, err := s.platforms()
	if err != nil {
		return err
	}
	printed := map[string]bool{} // platforms may share a run
	for _, t := range picked {
		if t.Log == "" || printed[t.Log] || len(wanted) > 0 && t.Platform != wanted[0].String() {
			continue
		}
		log, found := st.Log(digest.Key(t.Log))
		if !found {
			return fmt.Errorf("what %s printed is no longer in the store", t.Place)
		}
		printed[t.Log] = true
		if err := s.printed(string(log)); err != nil {
			return err
		}
	}
	if len(printed) == 0 {
		return fmt.Errorf("%s ran no command", args[len(args)-1])
	}
	return nil
}

func runLogbookCompare(_ context.Context, s *session) error {
	args, err := s.args(1, 2, "one or two builds")
	if err != nil {
		return err
	}
	_, book, err := s.book()
	if err != nil {
		return err
	}
	now, _, err := s.pastDocument(book, args[len(args)-1])
	if err != nil {
		return err
	}
	before := args[0]
	if len(args) == 1 {
		builds, err := book.List(now.Project, logbook.Keep)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(builds, func(b logbook.Build) bool { return b.Number < now.Number })
		if at < 0 {
			return fmt.Errorf("the logbook has no build of %s before build %d", now.Project, now.Number)
		}
		before = strconv.FormatInt(builds[at].Number, 10)
	}
	was, _, err := s.pastDocument(book, before)
	if err != nil {
		return err
	}
	document := report.ComparePast(was, now)
	return s.result(document, func() error { return report.WritePastComparison(s.out, s.paint, document) })
}
