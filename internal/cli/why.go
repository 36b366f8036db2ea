package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/flow/building"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/report"
)

func whyCommand() *cli.Command {
	return &cli.Command{
		Name: "why", Usage: "why a step ran, or was reused, in the last build", ArgsUsage: "[STEP…]",
		Description: "A STEP is an image or a stage, a step by its name: or the line that plan shows, or by its place, such as gauge:3.\n" +
			"With --reads it lists what a step's command reads, the most volatile and largest first: what is not an input need not be\nread.\n\n" +
			"Example: imbricat why gauge:3 --all",
		Flags: []cli.Flag{platformFlag(),
			&cli.StringFlag{Name: "build", Usage: "`NUMBER` of another build of the logbook"},
			&cli.BoolFlag{Name: "all", Usage: "everything that there is to say, not a line for each"},
			&cli.BoolFlag{Name: "reads", Usage: "list what the steps read"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runWhy(ctx, newSession(c)) },
	}
}

// mostReads is how many paths a table shows unless all are asked for.
const mostReads = 30

func runWhy(_ context.Context, s *session) error {
	st, book, err := s.book()
	if err != nil {
		return err
	}
	past, steps, err := s.pastDocument(book, s.cmd.String("build"))
	if err != nil {
		return err
	}
	if len(steps) == 0 {
		return fmt.Errorf("build %d was %s before any step was done; `imbricat logbook` lists others, for --build", past.Number, past.Outcome)
	}
	if steps, err = namedSteps(steps, s.cmd.Args().Slice()); err != nil {
		return err
	}
	wanted, err := s.platforms()
	if err != nil {
		return err
	}
	if len(wanted) > 0 {
		steps = slices.DeleteFunc(slices.Clone(steps), func(t logbook.Step) bool { return t.Platform != wanted[0].String() })
	}
	if s.cmd.Bool("reads") {
		return s.tellReads(st, past.Number, steps)
	}
	document := &report.Why{Number: past.Number, Steps: []report.PastStep{}}
	for _, t := range steps {
		document.Steps = append(document.Steps, pastStep(t))
	}
	return s.result(document, func() string {
		return fmt.Sprintf("%s  %s\n", s.paint.Bold(fmt.Sprint("build ", past.Number)), s.paint.Muted(past.Command)) +
			report.ReasonsText(s.paint, document.Steps, s.cmd.Bool("all"))
	})
}

func (s *session) tellReads(st *store.Store, number int64, steps []logbook.Step) error {
	document := &report.Reads{Number: number, Steps: []report.ReadsOf{}}
	for _, t := range steps {
		if t.Key == "" {
			continue
		}
		one, err := readsOf(st, t)
		if err != nil {
			return err
		}
		document.Steps = append(document.Steps, *one)
	}
	if len(document.Steps) == 0 {
		return fmt.Errorf("none of these steps ran a command of its own: what a copy takes in, `imbricat plan` tells")
	}
	most := mostReads
	if s.cmd.Bool("all") {
		most = 0
	}
	return s.result(document, func() string { return report.ReadsText(s.paint, document, most) })
}

// readsOf tells what a step learnt, and how often each path was another at earlier runs.
func readsOf(st *store.Store, t logbook.Step) (*report.ReadsOf, error) {
	one := &report.ReadsOf{Unit: t.Unit, Platform: t.Platform, Place: t.Place, Step: t.Label, Paths: []report.ReadPath{}}
	load := func(id digest.Key) (*trace.Trace, error) {
		text, found := st.Trace(id)
		if !found {
			return nil, fmt.Errorf("what %s read is no longer in the store", t.Place)
		}
		return trace.Decode(string(text))
	}
	learnt, err := load(digest.Key(t.Trace))
	if err != nil {
		return nil, err
	}
	one.Whole = learnt.Why
	runs := st.Runs(digest.Key(t.Key))
	var traces []*trace.Trace
	for _, run := range slices.Backward(runs) {
		if run.Trace == digest.Key(t.Trace) {
			one.Reached = building.Reached(run)
		}
		if earlier, err := load(run.Trace); err == nil {
			traces = append(traces, earlier)
		}
	}
	one.Runs = len(traces)
	changes := trace.Changes(traces)
	for i := range learnt.Entries {
		e := &learnt.Entries[i]
		size, known := e.Size()
		if !known {
			size = -1
		}
		one.Paths = append(one.Paths, report.ReadPath{Path: e.Path, Learnt: e.Words(), Bytes: size, Changes: changes[e.Path]})
	}
	slices.SortStableFunc(one.Paths, func(a, b report.ReadPath) int {
		return cmp.Or(cmp.Compare(b.Changes, a.Changes), cmp.Compare(b.Bytes, a.Bytes))
	})
	return one, nil
}
