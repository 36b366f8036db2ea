package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/otlp"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/collector"
	"imbricat/internal/spec/recipe"
)

// openLogbook opens the logbook of a store.
func (s *session) openLogbook(st *store.Store) (*logbook.Book, error) {
	book, err := logbook.Open(filepath.Join(st.Dir(), "imbricat", "logbook.db"), 0)
	if err == nil {
		s.atEnd(func() { book.Close() })
	}
	return book, err
}

// bookOf opens the logbook of a store when it is needed.
func (s *session) bookOf(st *store.Store) func() (*logbook.Book, error) {
	return func() (*logbook.Book, error) { return s.openLogbook(st) }
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
			{Name: "chart", Usage: "draws how long builds took, how large images became, and how long steps took", ArgsUsage: "[STEP…]",
				Description: "An image has a bar for each build that made another one of it, a step that is named one for each build that it ran in. STEP is named by its name:, by the line that plan shows,\n" +
					"by its place, or by its image or stage.\n\nExample: imbricat logbook chart --most 40 gauge:3",
				Flags: []cli.Flag{all, most}, Action: act(runLogbookChart)},
			{Name: "export", Usage: "prints builds with their steps as JSON, or sends them as traces", ArgsUsage: "[BUILD…]",
				Description: "Without a number it is the last builds of the recipe, as many as --most says. Traces have the JSON form of the OpenTelemetry protocol (OTLP): a document in a line for each\n" +
					"build, with a span for it, and one in that for each step. --send sends them to the collector that OTEL_EXPORTER_OTLP_ENDPOINT names, as the other variables of that protocol say.\n\nExample: imbricat logbook export --send 12",
				Flags: []cli.Flag{all, most, &cli.BoolFlag{Name: "traces", Usage: "print traces"}, &cli.BoolFlag{Name: "send", Usage: "send traces to the collector that the environment names"}}, Action: act(runLogbookExport)},
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

func runLogbookChart(_ context.Context, s *session) error {
	book, found, err := s.latest()
	if err != nil {
		return err
	}
	names, known := s.cmd.Args().Slice(), map[string]bool{}
	var builds []report.PastBuild
	for _, b := range slices.Backward(found) {
		one := pastBuild(b)
		if len(names) > 0 {
			document, _, err := s.pastDocument(book, strconv.FormatInt(b.Number, 10))
			if err != nil {
				return err
			}
			one = *document
		}
		builds = append(builds, one)
	}
	document := report.TrendOfBuilds(builds, func(step *report.PastStep) bool {
		is := false
		for _, name := range names {
			if name == step.Unit || name == step.Step || name == step.Place {
				is, known[name] = true, true
			}
		}
		return is
	})
	for _, name := range names {
		if !known[name] {
			return flow.Usagef("none of these builds ran a step that is named %q: name an image or a stage, a step's line, or its place, such as gauge:2", name)
		}
	}
	if len(builds) == 0 {
		return s.result(document, func() string { return report.LogbookText(s.paint, &report.Logbook{}, time.Now()) })
	}
	return s.result(document, func() string { return report.TrendText(s.paint, document, time.Now()) })
}

// exported are the numbers of the builds that an export is of, the latest last.
func (s *session) exported(book *logbook.Book) ([]string, error) {
	numbers := s.cmd.Args().Slice()
	if len(numbers) > 0 {
		return numbers, nil
	}
	project, err := s.recipeOrAll()
	if err != nil {
		return nil, err
	}
	builds, err := book.List(project, int(s.cmd.Int("most")))
	for _, b := range slices.Backward(builds) {
		numbers = append(numbers, strconv.FormatInt(b.Number, 10))
	}
	return numbers, err
}

func runLogbookExport(ctx context.Context, s *session) error {
	_, book, err := s.book()
	if err != nil {
		return err
	}
	var to collector.Settings
	if s.cmd.Bool("send") {
		if to, err = collector.FromEnvironment(os.Getenv); err != nil {
			return flow.Usagef("%w", err)
		}
	}
	numbers, err := s.exported(book)
	if err != nil {
		return err
	}
	own := otlp.Resource{Service: cmp.Or(to.Service, "imbricat"), Version: version(), Attributes: to.Attributes}
	sent, all := report.Sent{}, &report.Logbook{Builds: []report.PastBuild{}}
	for _, number := range numbers { // one at a time: there may be many, of many steps
		b, _, err := s.pastDocument(book, number)
		if err != nil {
			return err
		}
		if !s.cmd.Bool("send") && !s.cmd.Bool("traces") {
			all.Builds = append(all.Builds, *b)
			continue
		}
		traces, err := otlp.Traces(own, b)
		if err != nil {
			return err
		}
		if s.cmd.Bool("send") {
			err = s.sendTraces(ctx, to, traces, &sent)
		} else {
			_, err = s.out.Write(append(traces, '\n'))
			err = unwritten(err)
		}
		if err != nil {
			return err
		}
	}
	switch {
	case s.cmd.Bool("send"):
		return s.result(&sent, func() string { return fmt.Sprintf("sent %s to the collector\n", report.Count(sent.Builds, "build")) })
	case s.cmd.Bool("traces"):
		return nil
	}
	return report.JSON(s.out, all)
}

// sendTraces sends the traces of a build.
func (s *session) sendTraces(ctx context.Context, to collector.Settings, traces []byte, sent *report.Sent) error {
	rejected, why, err := to.Send(ctx, traces)
	if err != nil {
		return err
	}
	if rejected > 0 || why != "" {
		fmt.Fprintf(s.err, "%s the collector did not take %s: %s\n", s.errPaint.Bold("warning:"), report.Count(rejected, "span"), cmp.Or(why, "it does not say why"))
	}
	sent.Builds, sent.Rejected = sent.Builds+1, sent.Rejected+rejected
	return nil
}

// latest are the latest builds that are asked for, the last first.
func (s *session) latest() (*logbook.Book, []logbook.Build, error) {
	_, book, err := s.book()
	if err != nil {
		return nil, nil, err
	}
	project, err := s.recipeOrAll()
	if err != nil {
		return nil, nil, err
	}
	builds, err := book.List(project, int(s.cmd.Int("most")))
	return book, builds, err
}

// recipeOrAll is the project that is looked at; empty for all.
func (s *session) recipeOrAll() (string, error) {
	if s.cmd.Bool("all") {
		return "", nil
	}
	project, err := s.project().Name()
	if err != nil {
		return "", flow.Usagef("there is no recipe %s; name its folder with --dir, or list the builds of all projects with --all", s.project().RecipePath())
	}
	return project, nil
}

func runLogbookList(_ context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	_, builds, err := s.latest()
	if err != nil {
		return err
	}
	document := &report.Logbook{Builds: []report.PastBuild{}}
	for _, one := range builds {
		document.Builds = append(document.Builds, pastBuild(one))
	}
	return s.result(document, func() string { return report.LogbookText(s.paint, document, time.Now()) })
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
	var began *float64
	if t.Began >= 0 {
		began = new(t.Began.Seconds())
	}
	return report.PastStep{Began: began, Ended: ended, Unit: t.Unit, Platform: t.Platform, Place: t.Place, Step: t.Label, Outcome: t.Outcome, Reason: t.Reason, Details: append([]string{}, t.More...),
		Seconds: t.Wall.Seconds(), Processor: t.CPU.Seconds(), Spared: t.Spared.Seconds(), Files: t.Files, Bytes: t.Bytes, Packed: t.Packed, Logged: t.Log != ""}
}

// numbered reads the number of a build; without one it is the last of the recipe.
func (s *session) numbered(book *logbook.Book, text string) (int64, error) {
	if text == "" {
		project, err := s.project().Name()
		if err != nil {
			return 0, flow.Usagef("there is no recipe %s: name its folder with --dir, or a build by its number", s.project().RecipePath())
		}
		number, err := book.Last(project)
		if errors.Is(err, logbook.ErrNone) {
			return 0, fmt.Errorf("the logbook has no build of %s yet: `imbricat build` makes one", project)
		}
		return number, err
	}
	number, err := strconv.ParseInt(text, 10, 64)
	if err != nil || number < 1 {
		return 0, flow.Usagef("%q is not a number of a build; `imbricat logbook` lists them", text)
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
	return s.result(document, func() string { return report.PastBuildText(s.paint, document, time.Now()) })
}

// namedSteps keeps the steps that names stand for: a unit, a label, or a place; or patterns of units and places.
func namedSteps(steps []logbook.Step, names []string) ([]logbook.Step, error) {
	if len(names) == 0 {
		return steps, nil
	}
	var out []logbook.Step
	for _, name := range names {
		found := false
		for _, t := range steps {
			if name == t.Unit || name == t.Label || name == t.Place || recipe.MatchesName(name, t.Unit) || recipe.MatchesName(name, t.Place) {
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
	return s.result(document, func() string { return report.PastComparisonText(s.paint, document) })
}
