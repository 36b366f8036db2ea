package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/engine"
	"imbricat/internal/engine/layering"
	"imbricat/internal/flow"
	"imbricat/internal/flow/stacks"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/files"
	"imbricat/internal/output/report"
)

func weighCommand() *cli.Command {
	return &cli.Command{
		Name: "weigh", Usage: "what the versions of a history would have cost with today's layers", ArgsUsage: "[IMAGE…] --replay RANGE",
		Description: "RANGE is two revisions, A..B or A.. for up to now: what each commit between them that touches what an image holds would\n" +
			"have pushed, and made a node unpack, with today's division, with a layer for each step, and with a single one. Or it is\n" +
			"a repository, HOST/REPOSITORY, whose published images are replayed. Sizes are those before compression.\n\n" +
			"Example: imbricat weigh gauge --replay 1.0.0.. --chart replay.svg",
		Flags: []cli.Flag{factFlag(), platformFlag(), sandboxFlag(),
			&cli.StringFlag{Name: "replay", Usage: "`RANGE` of commits, or a repository with published images"},
			&cli.StringFlag{Name: "by", Value: "commits", Usage: "`WHAT` a version is: commits, or tags", Validator: func(text string) error {
				if text != "commits" && text != "tags" {
					return fmt.Errorf("--by takes commits or tags")
				}
				return nil
			}},
			&cli.StringFlag{Name: "chart", Usage: "`FILE` to draw a chart to; .svg"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runWeigh(ctx, newSession(c)) },
	}
}

func runWeigh(ctx context.Context, s *session) error {
	span := s.cmd.String("replay")
	if span == "" {
		return flow.Usagef("weigh needs --replay RANGE, such as --replay 1.0.0..")
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
