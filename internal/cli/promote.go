package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/promote"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
)

func promoteCommand() *cli.Command {
	return &cli.Command{
		Name: "promote", Usage: "takes an image to other repositories, with all that refers to it", ArgsUsage: "HOST/REPOSITORY:TAG|@DIGEST|RECEIPT HOST/REPOSITORY:TAG…",
		Description: "Holds the checks that the recipe here has for the image which it publishes there, and for that destination (checks: beside\n" +
			"to:); where one does not hold nothing is sent. Then all content goes everywhere, with signatures, proofs and the like, and\n" +
			"the tags are written last. Fixed tags do not move, and moving ones neither go back nor lose platforms.\n\n" +
			"Example: imbricat tags promote receipt.json production.tideline.example/tides/gauge:1.4.0",
		Flags: append([]cli.Flag{factFlag(), sandboxFlag(), forceFlag(), fewerPlatformsFlag(),
			&cli.BoolFlag{Name: "fresh", Usage: "hold checks again that held for the same digest before"}}, runFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error { return runPromote(ctx, newSession(c)) },
	}
}

func runPromote(ctx context.Context, s *session) (err error) {
	var p *workspace.Planned
	k, err := s.beginTelling("promote", func(ctx context.Context, r *receipt.Receipt, err error) error {
		s.annotate(r, err)
		return s.notify(ctx, p, r)
	})
	if err != nil {
		return err
	}
	o, err := s.promoted()
	for _, to := range o.To {
		if err == nil && p == nil {
			p, err = s.planSpeakingOf(ctx, to.Host+"/"+to.Repository)
		}
	}
	run := &promote.Promotion{K: k}
	if err == nil {
		k.Receipt.Machine = s.machine(ctx)
		err = s.promote(ctx, p, run, o)
	}
	if err = k.Close(ctx, err); s.json() {
		return errors.Join(err, report.JSON(s.out, k.Receipt))
	}
	if err != nil {
		fmt.Fprint(s.err, report.ChecksText(s.errPaint, k.Receipt.Checks, false))
		return err
	}
	if run.Unchecked {
		fmt.Fprintf(s.err, "warning: no check was held: no recipe here has one for what goes to %s\n", o.To[0])
	}
	return s.print(report.ReceiptText(s.paint, k.Receipt, false))
}

// promoted reads the command line.
func (s *session) promoted() (o promote.Options, err error) {
	args, err := s.args(2, -1, "an image in a registry, or the receipt of one, and where it is to go")
	if err != nil {
		return o, err
	}
	from, err := imagesNamed(args[0])
	if err != nil {
		return o, err
	}
	if o.From = from[0]; receipts.IsFile(args[0]) {
		for _, other := range from {
			if other.Digest != o.From.Digest {
				return o, flow.Usagef("%s tells of several images: name one of them by its reference", args[0])
			}
		}
	}
	for _, arg := range args[1:] {
		to, err := reference.Parse(arg)
		if err != nil {
			return o, flow.WrongUse(err)
		}
		if to.Kind != reference.Registry || to.Tag == "" || to.Digest != "" {
			return o, flow.Usagef("%s: write HOST/REPOSITORY:TAG; no tag is assumed", arg)
		}
		o.To = append(o.To, to)
	}
	o.Moves, o.Fresh = s.moves(), s.cmd.Bool("fresh")
	return o, nil
}

func (s *session) promote(ctx context.Context, p *workspace.Planned, run *promote.Promotion, o promote.Options) error {
	st, err := s.openStore()
	if err != nil {
		return err
	}
	if run.Places, err = s.places(st); err != nil {
		return err
	}
	if run.Store = st; p != nil {
		if run.Work, err = s.workIn(p, st); err != nil {
			return err
		}
	}
	view := s.view(ctx)
	defer view.Close("")
	run.Sink = view
	return run.Run(ctx, o)
}
