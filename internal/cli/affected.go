package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/affected"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

func affectedCommand() *cli.Command {
	return &cli.Command{
		Name: "affected", Usage: "which images and stages a change between two revisions touches",
		Description: "Compares what the recipe, the lock and all files that are taken in were at a revision with what they are now, uncommitted\n" +
			"changes included, and tells by which way each image and stage is affected. What cannot be known is affected.\n\n" +
			"Example: imbricat affected --since origin/trunk",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "since", Usage: "the `REVISION` of the state to compare with; an empty one is none, and everything is affected", Sources: env("SINCE")},
			&cli.StringFlag{Name: "until", Usage: "the `REVISION` of the later state, in place of the work tree"},
			&cli.BoolFlag{Name: "names", Usage: "print the names of images alone, one on a line"},
			factFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error { return runAffected(ctx, newSession(c)) },
	}
}

func runAffected(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	if !s.cmd.IsSet("since") {
		return flow.Usagef("affected needs a revision to compare with: imbricat affected --since origin/trunk")
	}
	found, err := s.affected(ctx, s.cmd.String("since"), s.cmd.String("until"))
	if err != nil {
		return err
	}
	if s.cmd.Bool("names") {
		return s.print(lines(found.Images()))
	}
	document := &report.Affected{Since: found.Since, Until: found.Until, Affected: []report.AffectedUnit{}, Rest: append([]string{}, found.Rest...), Notes: append([]string{}, found.Notes...)}
	for _, u := range found.Units {
		one := report.AffectedUnit{Name: u.Name, Kind: "stage"}
		if u.Image {
			one.Kind = "image"
		}
		for _, chain := range u.Chains {
			one.Chains = append(one.Chains, chain)
		}
		document.Affected = append(document.Affected, one)
	}
	return s.result(document, func() string { return report.AffectedText(s.paint, document) })
}

// affected finds what a change may touch, of the whole recipe.
func (s *session) affected(ctx context.Context, since, until string) (*affected.Result, error) {
	p, err := s.plan(workspace.Choice{Checks: true, Unused: true})
	if err != nil {
		return nil, err
	}
	found, err := affected.Find(ctx, p, affected.Options{Since: since, Until: until, Store: s.storeDir()})
	if err != nil {
		return nil, err
	}
	for _, note := range found.Notes {
		fmt.Fprintf(s.err, "note: %s\n", note)
	}
	return found, nil
}

func affectedSinceFlag() cli.Flag {
	return &cli.StringFlag{Name: "affected-since", Usage: "only what changes since this `REVISION` may touch, of what is named or of all; an empty one is none, and leaves all", Sources: env("AFFECTED_SINCE")}
}

// affectedSince is what --affected-since leaves, found once.
func (s *session) affectedSince(ctx context.Context) (*affected.Result, error) {
	if s.touched != nil {
		return s.touched, nil
	}
	var err error
	s.touched, err = s.affected(ctx, s.cmd.String("affected-since"), "")
	return s.touched, err
}

// unaffected tells that --affected-since leaves nothing; empty where it leaves something or was not asked for.
func (s *session) unaffected(p *plan.Plan) string {
	if !s.cmd.IsSet("affected-since") || len(p.Images)+len(p.Stages) > 0 {
		return ""
	}
	return "nothing that is asked for is affected since " + s.cmd.String("affected-since")
}

// lines puts each text on a line.
func lines(texts []string) string {
	var out strings.Builder
	for _, text := range texts {
		out.WriteString(text + "\n")
	}
	return out.String()
}
