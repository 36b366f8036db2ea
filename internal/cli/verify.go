package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/verify"
	"imbricat/internal/output/report"
)

func verifyCommand() *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "checks that images are where receipts say, whole and as their digests say", ArgsUsage: "RECEIPT|REFERENCE…",
		Description: "A receipt (a file that ends in .json) is held against the registry: every image that it tells of must be there by its\n" +
			"digest, with the platforms it names, and its tags must stand on it. Of a reference all that it lists must be there.\n" +
			"Documents are read and compared with their digests; with --contents layers are, too. Exit code 3 tells that something\n" +
			"differs.\n\nExample: imbricat verify ../receipt.json --contents",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "contents", Usage: "read every layer and compare it with its digest, in place of asking whether it is there"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runVerify(ctx, newSession(c)) },
	}
}

func runVerify(ctx context.Context, s *session) error {
	args, err := s.args(1, -1, "receipts (files that end in .json) and references of images")
	if err != nil {
		return err
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
	document, err := verify.Published(ctx, places, args, s.cmd.Bool("contents"), view)
	view.Close("")
	if err != nil {
		return err
	}
	if err := s.result(document, func() string { return report.VerificationText(s.paint, document) }); err != nil {
		return err
	}
	if n := document.Findings(); n > 0 {
		return flow.Differsf("%s found; nothing was changed", report.Count(n, "thing"))
	}
	return nil
}
