package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/locking"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/output/report"
)

func lockCommand() *cli.Command {
	return &cli.Command{
		Name: "lock", Usage: "writes or refreshes imbricat.lock: what the recipe's bases stand for now, and which files share a layer",
		Description: "A base that the lock names is taken by its digest until the lock is refreshed, and images are divided into layers as it\n" +
			"says. A division comes from how files changed: in the images already published, in version control, or in earlier\n" +
			"builds here. One that is there stays unless another serves the coming versions better by more than moving costs.\n" +
			"Keep the file in version control.\n\nExample: imbricat lock --check",
		Flags: []cli.Flag{factFlag(), sandboxFlag(), &cli.BoolFlag{Name: "check", Usage: "only compare; exit code 3 when the lock is stale"},
			&cli.BoolFlag{Name: "bases-only", Usage: "leave divisions as they are"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			return runLock(ctx, newSession(c))
		},
	}
}

func runLock(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	p, err := s.choose(ctx, workspace.Choice{Checks: true, Unused: true})
	if err != nil {
		return err
	}
	w, err := s.workOn(p)
	if err != nil {
		return err
	}
	document, err := locking.Refresh(ctx, w, locking.Options{Check: s.cmd.Bool("check"), BasesOnly: s.cmd.Bool("bases-only")})
	if err != nil {
		return err
	}
	if err := s.result(document, func() string { return report.LockText(s.paint, document) }); err != nil {
		return err
	}
	if document.Stale && !document.Written {
		return flow.Differsf("%s is stale; `imbricat lock` refreshes it", w.LockPath())
	}
	return nil
}
