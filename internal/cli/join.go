package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/join"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/recipe"
)

func joinCommand() *cli.Command {
	return &cli.Command{
		Name: "join", Usage: "makes one index of images built apart, for several platforms", ArgsUsage: "DESTINATION SOURCE…",
		Description: "Each source is an image, or an index, in a registry, the store, a layout directory or an archive, or the receipt (a\n" +
			"file that ends in .json) of a build that pushed by digest; no two may be for the same platform. PLATFORM=SOURCE tells\n" +
			"the platform of an image that does not. With receipts a repository as the destination gets the recipe's tags. With\n" +
			"--wait the one source is a folder that receipts come into, or HOST/REPOSITORY:TAG as ship --receipt has it.\n" +
			"Recipe, facts and commit must be the same. All content goes to the destination before its tags are written.\n\n" +
			"Example: imbricat join registry.tideline.example/tides/gauge amd64.json arm64.json",
		Flags: append([]cli.Flag{forceFlag(), fewerPlatformsFlag(),
			&cli.IntFlag{Name: "wait", HideDefault: true, Usage: "wait until there are receipts of this `NUMBER` of runs"},
			&cli.StringFlag{Name: "within", Value: "30m", Usage: "`TIME` to wait at most"},
			&cli.StringSliceFlag{Name: "tag", Usage: "`TAG` that the index gets besides; may be given again"},
			&cli.BoolFlag{Name: "extend", Usage: "keep the platforms that the destination's index has and the sources do not, in place of replacing it"},
			&cli.BoolFlag{Name: "differing", Usage: "join what was not built from the same recipe, facts or commit"}}, runFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error { return runJoin(ctx, newSession(c)) },
	}
}

func runJoin(ctx context.Context, s *session) (err error) {
	k, err := s.beginTelling("join", func(ctx context.Context, r *receipt.Receipt, _ error) error { return s.notify(ctx, nil, r) })
	if err != nil {
		return err
	}
	defer func() { err = k.Close(ctx, err) }()
	args, err := s.args(2, -1, "a destination and at least one source")
	if err != nil {
		return err
	}
	to, err := reference.Parse(args[0])
	if err != nil {
		return flow.WrongUse(err)
	}
	o := join.Options{Tags: s.cmd.StringSlice("tag"), Moves: s.moves(), Extend: s.cmd.Bool("extend"), Differing: s.cmd.Bool("differing"), Wait: int(s.cmd.Int("wait"))}
	if o.Within, err = recipe.ParseDuration(s.cmd.String("within")); err != nil || o.Within <= 0 {
		return flow.Usagef("--within takes a time such as 30m, not %q", s.cmd.String("within"))
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	places, err := s.places(st)
	if err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	line, err := join.Run(ctx, places, k, view, to, args[1:], o)
	view.Close("")
	switch {
	case err != nil:
		return err
	case line == nil && s.json():
		return report.JSON(s.out, k.Receipt)
	case s.json():
		return report.JSON(s.out, line)
	case line == nil || to.Kind == reference.Registry:
		return s.print(report.ReceiptText(s.paint, k.Receipt, false))
	}
	return s.print(report.PushText(s.paint, &report.Push{Pushed: []report.Pushed{*line}}))
}
