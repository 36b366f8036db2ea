package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/hygiene"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/platform"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/format"
)

func recipeCommand() *cli.Command {
	return group(&cli.Command{
		Name: "recipe", Usage: "checks recipes, and gives them their one form",
		Description: "Example: imbricat recipe check --strict",
		Commands: []*cli.Command{
			{Name: "check", Usage: "tells what is wrong with the recipe, and with --strict what had better be otherwise",
				Description: "Mistakes end with exit code 2, as everywhere. With --strict it also looks for what nothing uses (stages, facts, secrets),\n" +
					"patterns without a match, bases that are not pinned, commands with a network that nothing says they need, images that run\n" +
					"as root, and whatever else a build would warn of; exit code 3 where there is any. What silence: names is not told.\n\n" +
					"Example: imbricat recipe check --strict",
				Flags: []cli.Flag{platformFlag(), factFlag(), draftedFlag(),
					&cli.BoolFlag{Name: "strict", Usage: "also tell what works and had better be otherwise", Sources: env("STRICT")}},
				Action: func(ctx context.Context, c *cli.Command) error { return runRecipeCheck(ctx, newSession(c)) }},
			{Name: "format", Usage: "gives recipes their one form; comments, order and meaning stay", ArgsUsage: "[FILE…]",
				Description: "Without FILE it is the recipe here, with all that it names (recipes) and includes. Only blanks move: two for each level,\n" +
					"lists one level below their key. A - as FILE reads standard input and writes standard output.\n\nExample: imbricat recipe format",
				Flags:  []cli.Flag{&cli.BoolFlag{Name: "check", Usage: "write nothing, and end with exit code 3 where a file has another form"}},
				Action: func(_ context.Context, c *cli.Command) error { return runRecipeFormat(newSession(c)) }},
		},
	})
}

func runRecipeCheck(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments: it is the recipe of the folder"); err != nil {
		return err
	}
	p, err := s.plan(workspace.Choice{Stages: true, Checks: true, Unused: true})
	if err != nil {
		return err
	}
	document := &report.RecipeCheck{File: p.Recipe.File.Name, Findings: []report.RecipeFinding{}}
	if s.cmd.Bool("strict") {
		if p, err = s.plan(workspace.Choice{Checks: true}); err != nil { // in which a stage that nothing needs is none that is asked for
			return err
		}
		w, err := s.workOn(p)
		if err != nil {
			return err
		}
		found, err := hygiene.Look(ctx, w)
		if err != nil {
			return err
		}
		for _, f := range found {
			document.Findings = append(document.Findings, report.RecipeFinding(f))
		}
	}
	if err := s.result(document, func() string { return report.RecipeCheckText(s.paint, document) }); err != nil {
		return err
	}
	if n := len(document.Findings); n > 0 {
		return flow.Differsf("the recipe works, and has %s", report.Count(n, "finding"))
	}
	return nil
}

// runRecipeFormat formats files. What cannot be formatted is told at the end; the others are.
func runRecipeFormat(s *session) error {
	names := s.cmd.Args().Slice()
	if slices.Equal(names, []string{"-"}) {
		text, err := io.ReadAll(s.in)
		if err != nil {
			return err
		}
		out, err := format.Format(text)
		if err != nil {
			return flow.Usagef("standard input: %w", err)
		}
		if s.cmd.Bool("check") && !bytes.Equal(text, out) {
			return flow.Differsf("standard input has another form")
		}
		_, err = s.out.Write(out)
		return err
	}
	if len(names) == 0 {
		p := s.project()
		r, err := p.Recipe()
		if r == nil || err != nil && len(r.Files()) == 0 {
			return err
		}
		for _, name := range r.Files() { // also of one with mistakes
			if !filepath.IsAbs(name) {
				name = filepath.Join(p.Dir, filepath.FromSlash(name))
			}
			names = append(names, name)
		}
	}
	names = slices.Compact(slices.Sorted(slices.Values(names)))
	document := &report.Formatted{Formatted: []string{}, Unchanged: []string{}}
	var wrong error
	for _, name := range names {
		changed, err := s.formatFile(name)
		switch {
		case err != nil:
			wrong = errors.Join(wrong, flow.Usagef("%s: %w", name, err))
		case changed:
			document.Formatted = append(document.Formatted, name)
		default:
			document.Unchanged = append(document.Unchanged, name)
		}
	}
	check := s.cmd.Bool("check")
	if err := s.result(document, func() string { return report.FormattedText(document, check) }); err != nil || wrong != nil {
		return errors.Join(wrong, err)
	}
	if check && len(document.Formatted) > 0 {
		return flow.Differsf("%s another form; `imbricat recipe format` gives it the one", strings.Join(document.Formatted, ", ")+have(len(document.Formatted)))
	}
	return nil
}

func have(n int) string {
	if n == 1 {
		return " has"
	}
	return " have"
}

// formatFile formats a file, and reports whether that changes it.
func (s *session) formatFile(name string) (changed bool, err error) {
	info, err := os.Stat(name)
	if err != nil {
		return false, err
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return false, err
	}
	out, err := format.Format(text)
	if err != nil || bytes.Equal(text, out) {
		return false, err
	}
	if s.cmd.Bool("check") {
		return true, nil
	}
	real, err := filepath.EvalSymlinks(name)
	if err != nil {
		return false, err
	}
	return true, files.Replace(real, out, info.Mode().Perm())
}

// tellFacts lists what can be given by hand.
func (s *session) tellFacts(p *workspace.Planned) error {
	list, err := p.Facts.Tell(platform.Here(), s.secrets.Hides)
	if err != nil {
		return err
	}
	document := &report.Facts{Facts: []report.Fact{}}
	for _, f := range list {
		document.Facts = append(document.Facts, report.Fact(f))
	}
	return s.result(document, func() string { return report.FactsText(s.paint, document) })
}
